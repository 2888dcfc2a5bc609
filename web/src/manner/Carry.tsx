/** Versions of a manner, what differs between two, its file and its card, which one the machine uses, and its patience. */
import { useState } from "react";
import type { Schemas } from "../api/client";
import { type MannerView, useDifferences, useManners, useTalk } from "../api/manner";
import { Tick } from "../setup/fields";
import { Button, Choice, Field, FileField, Wrong } from "../ui/controls";
import { clock, day, typedNumber } from "../ui/words";

const LINK = "flex min-h-11 items-center underline underline-offset-4";

export function Carry({
  view,
  machine,
  by,
  show,
}: {
  view: MannerView | undefined;
  machine: Schemas["Machine"];
  by: string;
  show: (id: string) => void;
}) {
  const manners = useManners();
  const id = view?.id ?? machine.manner;
  const talk = useTalk(id, machine.id);
  const [other, setOther] = useState("");
  const [wrong, setWrong] = useState("");
  const differences = useDifferences(id, other);
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">Versions and files</h2>
      <Choice
        label="Look at"
        value={id}
        onChange={show}
        options={(manners.data ?? []).map((m) => ({
          value: m.id,
          text: `${m.name}${m.complete ? "" : ": not complete"}${m.machines.length ? `, used by ${m.machines.join(", ")}` : ""}`,
        }))}
      />
      {view && view.id !== machine.manner && (
        <Button disabled={talk.use.isPending} onClick={() => talk.use.mutate(view.id)}>
          {machine.name} uses this one from now on
        </Button>
      )}
      {view && view.id === machine.manner && <p className="text-verdigris">{machine.name} uses this one.</p>}
      {view && (
        <p className="flex flex-wrap gap-x-4 text-sm">
          <a className={LINK} href={`/api/manners/${view.id}/file`}>
            save as a file (TOML)
          </a>
          <a className={LINK} href={`/api/manners/${view.id}/card`}>
            card to print (PDF)
          </a>
        </p>
      )}
      <FileField
        label="Bring a manner's file"
        accept=".toml,text/plain"
        onFile={async (f) => {
          if (!f) return;
          setWrong("");
          if (f.size > 100_000) return setWrong("This file is far larger than any manner. Is it the right one?");
          talk.bring.mutate({ text: await f.text(), by }, { onSuccess: (v) => show(v.id) });
        }}
      />
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      <Wrong wrong={talk.bring.error ?? talk.use.error ?? talk.back.error} />
      {view && (
        <div className="border-t border-hairline pt-2">
          <Choice
            label="What differs from"
            value={other}
            onChange={setOther}
            options={[
              { value: "", text: "choose one" },
              ...(manners.data ?? []).filter((m) => m.id !== view.id).map((m) => ({ value: m.id, text: m.name })),
              ...view.versions
                .slice(1)
                .map((v) => ({ value: String(v.number), text: `version ${v.number}: ${v.what}` })),
            ]}
          />
          {differences.data && (
            <ul className="mt-1 text-sm">
              {differences.data.found.length === 0 && <li className="text-graphite">Nothing differs.</li>}
              {differences.data.found.map((d) => (
                <li key={d.word} className="border-t border-hairline py-1">
                  {d.name}
                  <span className="block font-mono text-xs break-all">here: {d.here || "none"}</span>
                  <span className="block font-mono text-xs break-all text-graphite">there: {d.there || "none"}</span>
                </li>
              ))}
            </ul>
          )}
          <Wrong wrong={differences.error} />
        </div>
      )}
      {view?.source === "taught" && <Patience key={view.version} view={view} machineId={machine.id} by={by} />}
      {view && view.versions.length > 0 && (
        <ol className="border-t border-hairline pt-2 text-sm">
          {view.versions.map((v, k) => (
            <li key={v.number} className="flex items-baseline justify-between gap-2 py-0.5">
              <span>
                <span className="font-mono">{v.number}</span> {v.what}
                <span className="text-graphite">
                  {" "}
                  {v.by}, {day(v.at)} {clock(v.at)}
                </span>
              </span>
              {k > 0 && (
                <button
                  type="button"
                  className="min-h-9 shrink-0 text-graphite underline underline-offset-4"
                  disabled={!by}
                  onClick={() => talk.back.mutate({ version: v.number, by })}
                >
                  back to it
                </button>
              )}
            </li>
          ))}
        </ol>
      )}
    </>
  );
}

/** What is no word: how long silence may last, and what the machine makes of a mesh. */
function Patience({ view, machineId, by }: { view: MannerView; machineId: string; by: string }) {
  const { settle } = useTalk(view.id, machineId);
  const [silence, setSilence] = useState(String(view.silence_s));
  const [fade, setFade] = useState(String(view.law.fade_mm));
  const [ends, setEnds] = useState(view.homing_ends_mesh);
  const [between, setBetween] = useState<string>(view.law.between ?? "bilinear");
  const seconds = typedNumber(silence);
  const mm = typedNumber(fade);
  const wrongS = seconds === null || seconds < 0.2 || seconds > 600 ? "Give 0.2 to 600 seconds." : null;
  const wrongF = mm === null || mm < 0 || mm > 200 ? "Give 0 to 200 mm; 0 where it never fades." : null;
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (wrongS || wrongF || seconds === null || mm === null) return;
        settle.mutate({
          name: view.name,
          about: view.about,
          silence_s: seconds,
          homing_ends_mesh: ends,
          law: { ...view.law, fade_mm: mm, between: between as "bilinear" },
          seen_version: view.version,
          by,
        });
      }}
    >
      <Field
        label="Without any sign of life for so long, it is lost"
        unit="s"
        inputMode="decimal"
        value={silence}
        onChange={(e) => setSilence(e.target.value)}
        wrong={wrongS}
      />
      <Tick label="Homing switches its mesh off" on={ends} onChange={setEnds} />
      <Choice
        label="Between the points of a mesh it goes"
        value={between}
        onChange={setBetween}
        options={[
          { value: "bilinear", text: "straight between four points" },
          { value: "bicubic", text: "curved through the points" },
          { value: "triangles", text: "in flat triangles" },
        ]}
      />
      <Field
        label="Its mesh fades out over (0: never)"
        unit="mm"
        inputMode="decimal"
        value={fade}
        onChange={(e) => setFade(e.target.value)}
        wrong={wrongF}
      />
      <Button type="submit" disabled={settle.isPending || !by}>
        Keep these
      </Button>
      <Wrong wrong={settle.error} />
    </form>
  );
}
