/** One sample of a word: typed or caught on the line, its numbers pointed at. */
import { useState } from "react";
import { useCatch, type Word } from "../api/manner";
import { Button, Field, Wrong } from "../ui/controls";
import { Marked, PointAt, type Spot } from "./Marked";
import { nameOf, type Sample } from "./samples";

export const AREA = "min-h-11 w-full rounded-[4px] border border-graphite bg-paper px-3 py-2 font-mono text-sm";

export function SampleFields({
  word,
  k,
  sample,
  set,
  manner,
  machineId,
  pointedAll,
  wrong,
  at,
}: {
  word: Word;
  k: number;
  sample: Sample;
  set: (part: Partial<Sample>) => void;
  manner: string;
  machineId: string;
  pointedAll: (pointed: Record<string, Spot>) => void;
  wrong: string | null;
  /** Where in what was typed the trouble lies. */
  at: number | null;
}) {
  if (word.kind === "line")
    return (
      <div>
        <p className="mb-1">{word.asked[k]}</p>
        <Field
          label="The line as you send it"
          value={sample.text}
          onChange={(e) => set({ text: e.target.value })}
          wrong={wrong}
          spellCheck={false}
          autoCapitalize="off"
          autoFocus={k > 0 || !sample.text}
        />
        <Here text={sample.text} at={at} />
      </div>
    );
  if (word.kind === "dress")
    return (
      <div className="grid grid-cols-[3fr_2fr] gap-2">
        {k === 0 && <p className="col-span-2">{word.asked[0]}</p>}
        <Field
          label={`Line ${k + 1} over the wire`}
          value={sample.text}
          onChange={(e) => set({ text: e.target.value })}
          wrong={wrong}
          spellCheck={false}
        />
        <Field label="says" value={sample.bare} onChange={(e) => set({ bare: e.target.value })} spellCheck={false} />
      </div>
    );
  const points = word.kind === "numbers" || word.kind === "rest";
  const asked = word.fields.find((f) => !sample.pointed[f]);
  const point = (spot: Spot) => {
    if (!asked) return;
    const pointed = { ...sample.pointed, [asked]: { ...spot, says: nameOf(asked) } };
    if (word.fields.every((f) => pointed[f])) pointedAll(pointed);
    else set({ pointed });
  };
  const label =
    word.kind === "state"
      ? ["With nothing near the probe it says", "While you touch it, it says"][k]
      : k === 0
        ? "What it says, all of it"
        : "One more";
  return (
    <div className="flex flex-col gap-2">
      {k === 0 && <p>{word.asked[0]}</p>}
      {ASKED.includes(word.id) && (
        <AskNow word={word} manner={manner} machineId={machineId} heard={(text) => set({ text, pointed: {} })} />
      )}
      <label className="block text-sm text-graphite">
        {label}
        <textarea
          className={AREA}
          rows={word.kind === "grid" ? 6 : 2}
          value={sample.text}
          onChange={(e) => set({ text: e.target.value, pointed: {} })}
          aria-invalid={wrong ? true : undefined}
          spellCheck={false}
        />
      </label>
      {points && sample.text.trim() && (
        <>
          {asked ? (
            <p className="font-semibold">
              {word.kind === "rest" ? "Point at the first word of the reason." : `Point at ${nameOf(asked)}.`}
            </p>
          ) : (
            <Button look="quiet" className="self-start text-sm" onClick={() => set({ pointed: {} })}>
              point again
            </Button>
          )}
          <PointAt
            text={sample.text}
            what={word.kind === "rest" ? "words" : "numbers"}
            pointed={sample.pointed}
            onPoint={point}
          />
        </>
      )}
      {word.kind === "grid" && (
        <div className="grid grid-cols-3 gap-2">
          {word.fields.map((f) => (
            <Field
              key={f}
              label={nameOf(f)}
              unit="mm"
              inputMode="decimal"
              value={sample.numbers[f] ?? ""}
              onChange={(e) => set({ numbers: { ...sample.numbers, [f]: e.target.value } })}
            />
          ))}
        </div>
      )}
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      <Here text={sample.text} at={at} />
    </div>
  );
}

/** What was typed, from where it is not understood. */
export function Here({ text, at }: { text: string; at: number | null }) {
  const rest = at === null ? "" : text.slice(at).trim();
  if (at === null || !rest || at === 0) return null;
  return (
    <Marked
      text={text}
      spots={[{ start: at, end: at + (/^\s*\S+/.exec(text.slice(at))?.[0].length ?? 1), says: "here" }]}
    />
  );
}

/** Send the question on the line and catch what is said. */
export function AskNow({
  word,
  manner,
  machineId,
  heard,
}: {
  word: Word;
  manner: string;
  machineId: string;
  heard: (text: string) => void;
}) {
  const ask = useCatch(machineId);
  const [open, setOpen] = useState(false);
  const [url, setUrl] = useState("");
  return (
    <div>
      <div className="flex flex-wrap items-center gap-x-4">
        <Button
          disabled={ask.isPending}
          onClick={() =>
            ask.mutate(
              { word: word.id, manner, url: url || null },
              {
                onSuccess: (c) => heard(c.text),
                onError: (e) => (e.problem.code === "no_url" ? setOpen(true) : undefined),
              },
            )
          }
        >
          {ask.isPending ? "Listening…" : "Ask it on the line"}
        </Button>
        <span className="text-sm text-graphite">or paste its answer</span>
      </div>
      {open && (
        <Field
          label="Line: a device, or socket://host:port"
          value={url}
          onChange={(e) => setUrl(e.target.value)}
          className="mt-1"
        />
      )}
      <Wrong wrong={ask.error} />
    </div>
  );
}

/** Answers that a line brings which only asks. */
export const ASKED = [
  "says.temperatures",
  "says.position",
  "says.trigger",
  "says.mesh",
  "says.stored",
  "says.counter",
  "says.ack",
  "says.error",
  "says.ready",
];
