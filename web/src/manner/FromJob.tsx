/** The start of a job file, its lines offered one by one: is this what heats the plate? */
import { useState } from "react";
import type { Schemas } from "../api/client";
import { type MannerView, useJobLines, useTalk } from "../api/manner";
import { Button, FileField, Wrong } from "../ui/controls";

type JobLine = Schemas["JobLine"];

export function FromJob({ view, machineId, by }: { view: MannerView; machineId: string; by: string }) {
  const job = useJobLines(view.id);
  const { teach } = useTalk(view.id, machineId);
  const [text, setText] = useState("");
  const [done, setDone] = useState<Record<number, string>>({});
  const [wrong, setWrong] = useState("");
  const taught = view.source === "taught";
  const read = (t: string) => {
    setText(t.slice(0, 4000));
    setDone({});
    job.mutate(t);
  };
  const yes = (line: JobLine, word: string) => {
    const told = line.told && word === line.word ? line.told : { line: line.line, values: {} };
    teach.mutate(
      { word, shown: { told: [told], said: [], chosen: null, without: false }, seen_version: view.version, by },
      {
        onSuccess: (r) =>
          setDone((was) => ({
            ...was,
            [line.number]: r.lesson.trouble || (r.lesson.choices.length > 1 ? "asked about under Teach" : "taught"),
          })),
      },
    );
  };
  const plain = view.words.filter((w) => w.kind === "line" && w.values.every((v) => Object.keys(v).length === 0));
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">From the start of a job file</h2>
      <p>A job that has printed well on this machine knows most of its lines. Nothing of it is sent.</p>
      <FileField
        label="Choose a job file"
        accept=".gcode,.g,.gco,.nc,.txt"
        onFile={async (f) => {
          if (!f) return;
          setWrong("");
          const start = await f.slice(0, 200_000).text();
          if (start.includes("\0")) return setWrong("This is no text. Choose the file that the machine prints.");
          read(start);
        }}
      />
      <label className="block text-sm text-graphite">
        or paste its first lines
        <textarea
          className="min-h-11 w-full rounded-[4px] border border-graphite bg-paper px-3 py-2 font-mono text-sm"
          rows={3}
          value={text}
          spellCheck={false}
          onChange={(e) => setText(e.target.value)}
        />
      </label>
      <Button disabled={!text.trim()} onClick={() => read(text)}>
        Look at its lines
      </Button>
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      {!taught && job.data && <p className="text-sm text-brass">Begin a manner of your own under Teach first.</p>}
      {job.data && job.data.lines.length === 0 && (
        <p className="text-graphite">There is no line before the first that prints.</p>
      )}
      <ul className="flex flex-col">
        {job.data?.lines.map((line) => (
          <li key={line.number} className="border-t border-hairline py-1.5">
            <p className="font-mono text-sm break-all">
              <span className="text-graphite">{line.number}</span> {line.line}
            </p>
            {done[line.number] ? (
              <p role="status" className="text-sm text-verdigris">
                {done[line.number]}
              </p>
            ) : line.word ? (
              <p className="flex items-center justify-between gap-2 text-sm">
                <span>
                  Is this: {line.name.toLowerCase()}?{line.new ? "" : " (taught already)"}
                </span>
                <Button disabled={!taught || !by || teach.isPending} onClick={() => yes(line, line.word)}>
                  Yes
                </Button>
              </p>
            ) : (
              <select
                aria-label={`What line ${line.number} does`}
                className="min-h-11 w-full rounded-[4px] border border-hairline bg-paper px-2 text-sm text-graphite"
                value=""
                disabled={!taught || !by}
                onChange={(e) => yes(line, e.target.value)}
              >
                <option value="">nothing that is asked for here</option>
                {plain.map((w) => (
                  <option key={w.id} value={w.id}>
                    {w.name}
                  </option>
                ))}
              </select>
            )}
          </li>
        ))}
      </ul>
      <Wrong wrong={job.error ?? teach.error} />
    </>
  );
}
