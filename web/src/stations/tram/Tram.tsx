/** Tram: one instruction, one number, one answer. */
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas, What } from "../../api/client";
import { type Acts, useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom, Waiting } from "../../app/Shell";
import { Sheet } from "../../sheet/Sheet";
import { Button, Choice, Field, Panel, Why } from "../../ui/controls";
import { fraction, type SeenFrom, signed, turnWords, typedMm, way } from "../../ui/words";
import { FEELS, FeelKeys } from "../Feel";

type View = Schemas["TramView"];
const WAYS = [
  { value: "counting", text: "Turn until it drags, count the marks" },
  { value: "read_all", text: "Readings in mm: read all, turn all" },
  { value: "ring", text: "Round the ring" },
  { value: "diagonal", text: "Across the diagonal" },
  { value: "pairs", text: "In pairs, side by side" },
] as const;

export function Tram() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "tram");
  const acts = useActs(runId, "tram", view?.head.seq ?? 0);
  const [from, flip] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [count, setCount] = useState<Count>(NO_COUNT);
  const step = view?.step;
  const about = view?.about_marks ?? 0;
  const stop = `${step} ${view?.screw} ${view?.stop}`;
  // A new stop starts with no count, and with the direction the belief expects.
  useEffect(() => setCount({ ...NO_COUNT, sign: about < 0 ? -1 : 1 }), [stop]);
  if (!view) return <Waiting wrong={error} />;
  const keep = (what: What) => {
    if (!acts.busy) acts.keep.mutate(what);
  };
  const keys: Key[] = [
    { keys: ["v", "V"], cap: "V", does: from === "above" ? "seen from below" : "seen from above", run: flip },
  ];
  if (step === "count") keys.unshift(...countKeys(count, setCount, () => keepCount(view, count, keep), from));
  if (step === "further" && view.further) {
    const further = view.further;
    keys.unshift({
      keys: ["Enter"],
      cap: "Enter",
      does: "done, next",
      run: () => keep({ kind: "turned", screw: further.screw, marks: further.marks }),
    });
  }
  if (step === "sense" && view.screw) {
    const screw = view.screw;
    const answers = ["tighter", "looser", "same"] as const;
    keys.unshift({
      keys: ["1", "2", "3"],
      cap: "1–3",
      does: "how it drags now",
      run: (k) => keep({ kind: "sense_tried", screw, felt: answers[Number(k) - 1] ?? "same" }),
    });
  }
  if (step === "turn_all")
    keys.unshift({
      keys: ["Enter"],
      cap: "Enter",
      does: "all turned",
      run: () => keep({ kind: "turned_all", marks: view.turns.map((t) => t.marks) }),
    });
  if (step === "centre" || step === "no_knobs")
    keys.unshift({
      keys: ["1", "2", "3", "4", "5"],
      cap: "1–5",
      does: "feel",
      run: (k) => keepFeel(view, FEELS[Number(k) - 1]?.feel, keep),
    });
  const go = () => navigate(`/runs/${runId}/mesh`);
  if (step === "done") keys.unshift({ keys: ["Enter"], cap: "Enter", does: "go to Mesh", run: go });
  const facts: [string, string][] = [
    ["Stops so far", String(view.stops.length)],
    ["Stops still expected", view.stops_left ? view.stops_left.toFixed(0) : "none"],
    [`Within ±${view.tol_mm.toFixed(2)}`, `${(100 * view.p_within).toFixed(0)} %`],
  ];
  if (view.passes_twist)
    facts.push([
      "Passes of a twist",
      `${(100 * view.passes_twist[0]).toFixed(0)} ±${(100 * view.passes_twist[1]).toFixed(0)} %`,
    ]);
  return (
    <Shell
      station="tram"
      head={view.head}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      facts={view.head.machine.screws.length ? facts : []}
      canPractise={step !== "done"}
      sheet={<Sheet sheet={view.sheet} from={from} title="Tram" />}
      slip={
        <>
          {view.against_sense && (
            <Panel tone="madder">
              {view.against_sense} seems to act against its declared sense. Lift the tip and try 1/16 clockwise there
              before the next turn.
            </Panel>
          )}
          <StepSlip view={view} from={from} count={count} setCount={setCount} acts={acts} keep={keep} go={go} />
          {view.stops.length > 0 && <Story view={view} from={from} />}
          <div className="flex flex-wrap items-end justify-between gap-x-3">
            <Why lines={view.reasons} />
            {view.head.machine.screws.length > 0 && (
              <Button look="quiet" className="px-0 text-sm" onClick={flip}>
                seen from {from}: flip
              </Button>
            )}
          </div>
          {view.head.machine.screws.length > 0 && (step === "count" || step === "read" || step === "turn_all") && (
            <Choice
              label="Way of working"
              value={view.way}
              options={WAYS}
              onChange={(w) => keep({ kind: "way_chosen", way: w })}
            />
          )}
        </>
      }
    />
  );
}

interface Count {
  marks: number | null;
  sign: 1 | -1;
  typedAt: number;
}
const NO_COUNT: Count = { marks: null, sign: 1, typedAt: 0 };

function typed(count: Count, digit: number): Count {
  const now = Date.now();
  // A second digit that follows at once makes a larger number: 1 then 4 is 14.
  const joined = count.marks !== null && now - count.typedAt < 900 ? count.marks * 10 + digit : digit;
  return { ...count, marks: Math.min(joined, 160), typedAt: now };
}

function countKeys(count: Count, set: (c: Count) => void, enter: () => void, from: SeenFrom): Key[] {
  const right = from === "above" ? 1 : -1;
  return [
    { keys: "0123456789".split(""), cap: "0–9", does: "marks", run: (k) => set(typed(count, Number(k))) },
    {
      keys: ["ArrowLeft", "ArrowRight"],
      cap: "← →",
      does: "direction",
      run: (k) => set({ ...count, sign: (k === "ArrowRight" ? right : -right) as 1 | -1 }),
    },
    { keys: ["Enter"], cap: "Enter", does: "keep", run: enter },
  ];
}

function keepCount(view: View, count: Count, keep: (what: What) => void) {
  if (count.marks !== null && view.screw) keep({ kind: "counted", screw: view.screw, marks: count.marks * count.sign });
}

function keepFeel(view: View, feel: (typeof FEELS)[number]["feel"] | undefined, keep: (what: What) => void) {
  const at = view.sheet.spots[0];
  if (feel && at) keep({ kind: "felt", x_mm: at.x_mm, y_mm: at.y_mm, z_mm: view.centre_z_mm, feel, screw: null });
}

interface SlipProps {
  view: View;
  from: SeenFrom;
  count: Count;
  setCount: (c: Count) => void;
  acts: Acts;
  keep: (what: What) => void;
  go: () => void;
}

function StepSlip({ view, from, count, setCount, acts, keep, go }: SlipProps) {
  const seen = `seen from ${from}`;
  switch (view.step) {
    case "sense":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right="once per machine" />
          <h2 className="text-2xl leading-tight font-semibold">Which way does this knob work?</h2>
          <p>
            Lift the tip until the gauge slides freely, come down to a light drag. Then turn this knob{" "}
            <b>{turnWords(1, from)}</b>, {seen}. The gauge now drags:
          </p>
          <div className="grid grid-cols-3 gap-2">
            {(["tighter", "looser", "same"] as const).map((felt, k) => (
              <Button
                key={felt}
                keyHint={String(k + 1)}
                disabled={acts.busy}
                onClick={() => view.screw && keep({ kind: "sense_tried", screw: view.screw, felt })}
              >
                {felt}
              </Button>
            ))}
          </div>
        </>
      );
    case "count": {
      const about = Math.round(view.about_marks ?? 0);
      const mm = (count.marks ?? 0) * (view.mm_per_mark ?? 0);
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
          <h2 className="text-3xl leading-tight font-semibold">
            Turn until it drags.
            <br />
            Count the marks.
          </h2>
          <p className="text-graphite">
            {view.stops.length && about
              ? `About ${turnWords(about, from)}, ${seen}.`
              : `The first visit tells how far it is; ${seen}.`}
          </p>
          <div className="flex items-center justify-between rounded-[4px] border-2 border-ink px-4 py-2">
            <p className="font-mono" data-testid="count">
              <span className="text-5xl font-semibold">{count.marks ?? "–"}</span>
              <span className="text-2xl text-graphite"> /16</span>
            </p>
            <p className="text-right">
              <button
                type="button"
                className="min-h-11 font-medium underline underline-offset-4"
                onClick={() => setCount({ ...count, sign: -count.sign as 1 | -1 })}
              >
                {way(count.sign, from)}
              </button>
              <span className="block text-sm text-graphite">
                {count.marks === null ? "press the number" : `${mm.toFixed(2)} mm at this screw`}
              </span>
            </p>
          </div>
          <div className="grid grid-cols-6 gap-1.5">
            {[0, 1, 2, 3, 4, 5, 6, 7, 8].map((n) => (
              <Button
                key={n}
                look={count.marks === n ? "chosen" : "plain"}
                className="px-0 font-mono text-lg"
                onClick={() => setCount({ ...count, marks: n, typedAt: 0 })}
              >
                {n}
              </Button>
            ))}
            <Button
              className="px-0 font-mono"
              aria-label="+1, one mark more"
              onClick={() => setCount({ ...count, marks: Math.min((count.marks ?? 0) + 1, 160) })}
            >
              +1
            </Button>
            <Button
              className="px-0 font-mono"
              aria-label="−1, one mark fewer"
              onClick={() => setCount({ ...count, marks: Math.max((count.marks ?? 0) - 1, 0) })}
            >
              −1
            </Button>
            <Button className="px-0" onClick={() => setCount({ ...count, sign: -count.sign as 1 | -1 })}>
              flip
            </Button>
          </div>
          <Button
            look="main"
            keyHint="Enter"
            disabled={count.marks === null || acts.busy}
            onClick={() => keepCount(view, count, keep)}
          >
            Keep
          </Button>
        </>
      );
    }
    case "further": {
      const f = view.further;
      if (!f) return null;
      return (
        <>
          <Eyebrow left={f.screw} right={`stop ${view.stop}`} />
          {f.marks ? (
            <>
              <h2 className="text-3xl leading-tight font-semibold">Now {fraction(f.marks)} further.</h2>
              <p className="text-xl font-medium">
                {way(f.marks, from)}, {seen}
              </p>
            </>
          ) : (
            <h2 className="text-3xl leading-tight font-semibold">Leave it there.</h2>
          )}
          <Panel>
            <p className="font-semibold text-verdigris">
              spread then {view.spread_after_mm?.toFixed(2)} mm, within with {(100 * (view.p_after ?? 0)).toFixed(0)} %
            </p>
            {view.gives_back && <p className="text-sm">{view.gives_back}</p>}
          </Panel>
          <Button
            look="main"
            keyHint="Enter"
            disabled={acts.busy}
            onClick={() => keep({ kind: "turned", screw: f.screw, marks: f.marks })}
          >
            {f.marks ? "Turned, go on" : "Go on"}
          </Button>
        </>
      );
    }
    case "read":
      return <ReadSlip view={view} acts={acts} keep={keep} />;
    case "turn_all":
      return (
        <>
          <Eyebrow left="All knobs" right={`round ${view.stops.length ? 2 : 1}`} />
          <h2 className="text-3xl leading-tight font-semibold">Turn each knob once.</h2>
          <ul className="text-lg">
            {view.turns.map((t) => (
              <li key={t.screw} className="flex justify-between border-b border-hairline py-1">
                <span>{t.screw}</span>
                <span className="font-medium">{turnWords(t.marks, from)}</span>
              </li>
            ))}
          </ul>
          <p className="text-graphite">
            {seen}; spread then about {view.spread_after_mm?.toFixed(2)} mm
          </p>
          <Button
            look="main"
            keyHint="Enter"
            disabled={acts.busy}
            onClick={() => keep({ kind: "turned_all", marks: view.turns.map((t) => t.marks) })}
          >
            All turned
          </Button>
        </>
      );
    case "centre":
    case "no_knobs":
      return (
        <>
          <Eyebrow left="Centre" right={view.step === "centre" ? "the screws are done" : "no knobs"} />
          <h2 className="text-2xl leading-tight font-semibold">
            {view.step === "centre"
              ? "Within tolerance. Slide the gauge at the centre."
              : "This machine has no knobs. Slide the gauge at the centre."}
          </h2>
          {view.step === "no_knobs" && (
            <p className="text-graphite">What a plate without knobs needs is a mesh; a tilt stays in it.</p>
          )}
          {view.centre_z_mm > 0 && (
            <p className="text-graphite">
              With the tip at z {view.centre_z_mm.toFixed(2)}: lower is not known to be safe here yet.
            </p>
          )}
          <FeelKeys onFeel={(feel) => keepFeel(view, feel, keep)} disabled={acts.busy} />
          <Button look="quiet" className="self-start px-0" onClick={go}>
            skip it, go to Mesh
          </Button>
        </>
      );
    case "done":
      return (
        <>
          <Eyebrow left="Tram" right={`${view.stops.length} stops`} />
          <h2 className="text-3xl leading-tight font-semibold">
            {view.head.machine.screws.length ? "The plate is parallel." : "Centre noted."}
          </h2>
          <p>
            Spread {view.spread_mm.toFixed(2)} ± {view.spread_sd_mm.toFixed(2)} mm
            {view.head.machine.screws.length
              ? `, within ±${view.tol_mm.toFixed(2)} mm with ${(100 * view.p_within).toFixed(0)} %.`
              : "."}
          </p>
          {view.centre && <p>Centre: {view.centre}.</p>}
          <Button look="main" keyHint="Enter" onClick={go}>
            Go to Mesh
          </Button>
        </>
      );
  }
}

function ReadSlip({ view, acts, keep }: { view: View; acts: Acts; keep: (what: What) => void }) {
  const [text, setText] = useState("");
  const [by, setBy] = useState<"dial" | "feelers" | "probe">(view.head.machine.probe ? "probe" : "dial");
  const [wrong, setWrong] = useState<string | null>(null);
  const screw = view.head.machine.screws.find((s) => s.name === view.screw);
  useEffect(() => setText(""), [view.screw, view.head.seq]);
  const doubtful = acts.wrong?.problem.code === "reading_doubtful";
  const submit = (sure = false) => {
    const typed = typedMm(text, "0.12 or -0.05");
    if ("wrong" in typed) return setWrong(typed.wrong);
    setWrong(null);
    if (screw)
      keep({
        kind: "read_mm",
        x_mm: screw.x_mm,
        y_mm: screw.y_mm,
        instrument: by,
        value_mm: typed.mm,
        screw: screw.name,
        sure,
      });
  };
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (!acts.busy) submit();
      }}
    >
      <Eyebrow left={view.screw ?? ""} right="read all first" />
      <h2 className="text-3xl leading-tight font-semibold">Read the {by === "feelers" ? "gap" : "height"} here.</h2>
      <p className="text-graphite">
        {by === "feelers"
          ? "The thickest feeler that still slides, tip at z 0."
          : "Plate high is positive. Same zero for all screws."}
      </p>
      <Field
        label="Reading"
        unit="mm"
        inputMode="decimal"
        value={text}
        autoFocus
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Choice
        label="Read with"
        value={by}
        onChange={setBy}
        options={[
          { value: "dial", text: "dial gauge (height)" },
          { value: "feelers", text: "feelers (gap)" },
          { value: "probe", text: "the machine's probe (height)" },
        ]}
      />
      {doubtful && (
        <Button disabled={acts.busy} onClick={() => submit(true)}>
          It is right, keep it
        </Button>
      )}
      <Button look="main" type="submit" keyHint="Enter" disabled={acts.busy}>
        Keep
      </Button>
    </form>
  );
}

function Story({ view, from }: { view: View; from: SeenFrom }) {
  return (
    <table className="w-full text-sm">
      <caption className="sr-only">Stops so far, newest first</caption>
      <tbody>
        {[...view.stops]
          .map((s, k) => ({ ...s, number: k + 1 }))
          .reverse()
          .slice(0, 4)
          .map((s) => (
            <tr key={s.number}>
              <td className="py-0.5">
                {s.number}. {s.screw}
              </td>
              <td className="text-graphite">
                {turnWords(s.marks, from).replace("counter-clockwise", "ccw").replace("clockwise", "cw")}
                {s.further
                  ? `, ${fraction(s.further)} ${way(s.further, from) === "clockwise" ? "cw" : "ccw"} more`
                  : ""}
              </td>
              <td className="text-right font-mono">{signed(s.height_mm)}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
}

export function Eyebrow({ left, right }: { left: string; right: string }) {
  return (
    <p className="flex justify-between text-graphite">
      <span className="font-medium first-letter:uppercase">{left}</span>
      <span className="font-mono text-sm">{right}</span>
    </p>
  );
}
