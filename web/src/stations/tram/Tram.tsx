/** Tram: one instruction, one number, one answer. */

import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { type Acts, type KeepEntry, useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Choice, Eyebrow, Panel, Why } from "../../ui/controls";
import { fraction, many, type SeenFrom, signed, turnWords, way } from "../../ui/words";
import { FEELS, FeelKeys } from "../Feel";
import { BeamSlip } from "./BeamSlip";
import { BesideTram } from "./Beside";
import { type Count, CountSlip, countKeys, keepCount, NO_COUNT, stopOf } from "./Count";
import { ReadSlip } from "./Read";
import { Story } from "./Story";
import { OtherTurn, RunsOut, TurnMade } from "./Turned";

type View = WithHead<Schemas["TramView"]>;
const WAYS = [
  { value: "counting", text: "Turn until it drags, count the marks" },
  { value: "read_all", text: "Readings in mm: read all, turn all" },
  { value: "ring", text: "Round the ring" },
  { value: "diagonal", text: "Across the diagonal" },
  { value: "pairs", text: "In pairs, side by side" },
  { value: "skirt", text: "While the skirt runs, by eye" },
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
  const stop = view ? stopOf(view) : "";
  // A new stop starts with no count, and with the direction the belief expects.
  useEffect(() => setCount({ ...NO_COUNT, sign: about < 0 ? -1 : 1 }), [stop]);
  if (!view) return <Waiting wrong={error} />;
  const { keep } = acts;
  const keys: Key[] = [
    { keys: ["v", "V"], cap: "V", does: from === "above" ? "seen from below" : "seen from above", run: flip },
  ];
  const screw = view.screw;
  if (step === "count") {
    keys.unshift(...countKeys(count, setCount, () => keepCount(view, count, keep), from));
    if (view.ask_before)
      keys.unshift({
        keys: ["t", "T", "l", "L"],
        cap: "T L",
        does: "tight or loose before",
        run: (k) => setCount({ ...count, before: k.toLowerCase() === "t" ? "tight" : "loose" }),
      });
  }
  if (step === "feel")
    keys.unshift({
      keys: ["1", "2", "3", "4", "5"],
      cap: "1–5",
      does: "feel",
      run: (k) => keepFelt(view, FEELS[Number(k) - 1]?.feel, keep),
    });
  if (step === "skirt" && screw)
    keys.unshift({
      keys: view.grades.map((g) => String(g.key)),
      cap: "1–7",
      does: "how the line lies",
      run: (k) => {
        const grade = view.grades.find((g) => String(g.key) === k)?.grade;
        if (grade) keep({ kind: "skirt_seen", screw, grade });
      },
    });
  if ((step === "further" || step === "prove") && view.further) {
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
  if (step === "done" || step === "beyond_knobs")
    keys.unshift({ keys: ["Enter"], cap: "Enter", does: "go to Mesh", run: go });
  const expected = view.stops_left === null ? "not known" : view.stops_left ? view.stops_left.toFixed(0) : "none";
  const facts: [string, string][] = [
    ...((view.way === "read_all"
      ? [["Rounds so far", String(view.rounds.length)]]
      : [
          ["Stops so far", String(view.stops.length)],
          ["Stops still expected", expected],
        ]) as [string, string][]),
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
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      facts={view.head.machine.screws.length ? facts : []}
      canPractise={step !== "done" && step !== "beyond_knobs"}
      sheet={<Sheet sheet={view.sheet} from={from} title="Tram" />}
      slip={
        <>
          {view.warning && (
            <Panel tone="madder">
              <p role="status">{view.warning}</p>
            </Panel>
          )}
          {view.against_sense && (
            <Panel tone="madder">
              {view.against_sense}: works the other way than it was entered, or tight and loose were mixed up. It is
              counted the other way from here on. If that is wrong, take the last answer back.
            </Panel>
          )}
          {view.left && (
            <div className="flex flex-wrap items-center justify-between gap-x-3">
              <p className="text-lg font-semibold text-verdigris">Leave {view.left} there.</p>
              <OtherTurn key={view.head.seq} screw={view.left} from={from} keep={keep} busy={acts.busy} />
            </div>
          )}
          <StepSlip view={view} from={from} count={count} setCount={setCount} acts={acts} keep={keep} go={go} />
          {view.learnt.map((l) => (
            <p key={l.screw} className="text-sm text-verdigris first-letter:uppercase">
              {l.words}
            </p>
          ))}
          {view.doubt && <p className="text-sm text-brass">{view.doubt}</p>}
          {view.warp_words && <p className="text-sm text-brass">{view.warp_words}</p>}
          {view.rounds.length > 0 && (
            <Story
              view={view}
              from={from}
              takeBack={(id) => keep({ kind: "taken_back", entry_id: id })}
              busy={acts.busy}
            />
          )}
          <div className="flex flex-wrap items-end justify-between gap-x-3">
            <Why lines={view.reasons} />
            {view.head.machine.screws.length > 0 && (
              <Button look="quiet" className="text-sm" onClick={flip}>
                seen from {from}: flip
              </Button>
            )}
          </div>
          {view.head.machine.screws.length > 0 &&
            (step === "count" ||
              step === "feel" ||
              step === "read" ||
              step === "prove" ||
              step === "turn_all" ||
              step === "skirt") && (
              <Choice
                label="Way of working"
                value={view.way}
                options={WAYS}
                onChange={(w) => acts.note({ kind: "way_chosen", way: w })}
              />
            )}
          <BesideTram runId={runId} view={view} from={from} acts={acts} />
        </>
      }
    />
  );
}

function keepFeel(view: View, feel: (typeof FEELS)[number]["feel"] | undefined, keep: KeepEntry) {
  const at = view.sheet.spots[0];
  if (feel && at) keep({ kind: "centre_felt", z_mm: view.centre_z_mm, feel, sure: false });
}

function keepFelt(view: View, feel: (typeof FEELS)[number]["feel"] | undefined, keep: KeepEntry) {
  const at = view.head.machine.screws.find((s) => s.name === view.screw);
  if (feel && at) keep({ kind: "screw_felt", screw: at.name, z_mm: 0, feel, sure: false });
}

interface SlipProps {
  view: View;
  from: SeenFrom;
  count: Count;
  setCount: (c: Count) => void;
  acts: Acts;
  keep: KeepEntry;
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
            <b>{turnWords(view.trial_marks ?? 1, view.per_turn ?? 16, from)}</b>, {seen}. The gauge now drags:
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
    case "count":
      return <CountSlip view={view} from={from} count={count} setCount={setCount} keep={keep} busy={acts.busy} />;
    case "feel":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
          <h2 className="text-3xl leading-tight font-semibold">
            Slide the gauge.
            <br />
            Turn nothing.
          </h2>
          <p className="text-graphite">
            Tip at z 0, as for a count. It should be near the drag here: a feel tells enough, and moves no other corner.
          </p>
          <FeelKeys onFeel={(feel) => keepFelt(view, feel, keep)} disabled={acts.busy} />
        </>
      );
    case "beam":
      return <BeamSlip view={view} acts={acts} keep={keep} />;
    case "skirt":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
          <h2 className="text-2xl leading-tight font-semibold">How does the skirt's line lie beside this screw?</h2>
          <p className="text-graphite">
            A hand near the stop. Turn between two loops, never while the tip is over the knob.
          </p>
          <div className="flex flex-col gap-1.5">
            {view.grades.map((g) => (
              <Button
                key={g.grade}
                disabled={acts.busy}
                className="flex items-center text-left"
                onClick={() => view.screw && keep({ kind: "skirt_seen", screw: view.screw, grade: g.grade })}
              >
                <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{g.key}</kbd>
                <span className="font-semibold">{g.word}</span>
                <span className="ml-auto text-sm text-graphite">{g.look}</span>
              </Button>
            ))}
          </div>
        </>
      );
    case "further": {
      const f = view.further;
      if (!f) return null;
      return (
        <>
          <Eyebrow left={f.screw} right={`stop ${view.stop}`} />
          {f.marks ? (
            <>
              <h2 className="text-3xl leading-tight font-semibold">Now {fraction(f.marks, f.per_turn)} further.</h2>
              <p className="text-xl font-medium">
                {way(f.marks, from)}, {seen}
              </p>
            </>
          ) : (
            <h2 className="text-3xl leading-tight font-semibold">Leave it there.</h2>
          )}
          <Panel>
            <p className="font-semibold text-verdigris">
              spread then {view.spread_after_mm?.toFixed(2)} ± {view.spread_after_give_mm?.toFixed(2)} mm
              <span className="block">
                within ±{view.tol_mm.toFixed(2)} mm: {(100 * (view.p_after ?? 0)).toFixed(0)} % likely
              </span>
            </p>
            {view.gives_back && <p className="text-sm">{view.gives_back}</p>}
          </Panel>
          <TurnMade
            turn={f}
            says={f.marks ? "Turned, go on" : "Go on"}
            view={view}
            from={from}
            acts={acts}
            keep={keep}
          />
        </>
      );
    }
    case "prove": {
      const f = view.further;
      if (!f) return null;
      return (
        <>
          <Eyebrow left={f.screw} right="once per knob" />
          <h2 className="text-3xl leading-tight font-semibold">
            Now {fraction(f.marks, f.per_turn)}, then read it again.
          </h2>
          <p className="text-xl font-medium">
            {way(f.marks, from)}, {seen}
          </p>
          <p className="text-graphite">
            Lift the tip first; leave the instrument where it is. The turn goes where the plate wants it, as far as is
            known yet. The two readings tell which way this knob works and what the plate passes of it, so that the
            turns to come are right the first time.
          </p>
          <TurnMade turn={f} says="Turned, read again" view={view} from={from} acts={acts} keep={keep} />
          <Button
            look="quiet"
            className="self-start"
            disabled={acts.busy}
            onClick={() => keep({ kind: "turned", screw: f.screw, marks: 0 })}
          >
            leave this knob, go on
          </Button>
        </>
      );
    }
    case "read":
      return <ReadSlip view={view} acts={acts} keep={keep} />;
    case "turn_all":
      return (
        <>
          <Eyebrow left="All knobs" right={`round ${Math.max(view.rounds.length, 1)}`} />
          <h2 className="text-3xl leading-tight font-semibold">Turn each knob once.</h2>
          <ul className="text-lg">
            {view.turns.map((t) => (
              <li key={t.screw} className="flex justify-between border-b border-hairline py-1">
                <span>{t.screw}</span>
                <span className="font-medium">{turnWords(t.marks, t.per_turn, from)}</span>
              </li>
            ))}
          </ul>
          <p className="text-graphite">
            {seen}; spread then about {view.spread_after_mm?.toFixed(2)} mm, within ±{view.tol_mm.toFixed(2)} mm:{" "}
            {(100 * (view.p_after ?? 0)).toFixed(0)} % likely
          </p>
          <RunsOut view={view} from={from} />
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
          <Button look="quiet" className="self-start" onClick={go}>
            skip it, go to Mesh
          </Button>
        </>
      );
    case "beyond_knobs":
      return (
        <>
          <Eyebrow left="Tram" right={many(view.stops.length, "stop")} />
          <h2 className="text-3xl leading-tight font-semibold">The knobs can do no more.</h2>
          <p>
            Spread {view.spread_mm.toFixed(2)} ± {view.spread_give_mm.toFixed(2)} mm is left, and it is a twist: this
            plate passes only {(100 * (view.passes_twist?.[0] ?? 0)).toFixed(0)} % of one.
          </p>
          <FormWords view={view} />
          <Button look="main" keyHint="Enter" onClick={go}>
            Go to Mesh
          </Button>
        </>
      );
    case "done":
      return (
        <>
          <Eyebrow left="Tram" right={many(view.stops.length, "stop")} />
          <h2 className="text-3xl leading-tight font-semibold">
            {view.head.machine.screws.length ? "The plate is parallel." : "Centre noted."}
          </h2>
          <p>
            Spread {view.spread_mm.toFixed(2)} ± {view.spread_give_mm.toFixed(2)} mm
            {view.head.machine.screws.length
              ? `; ${(100 * view.p_within).toFixed(0)} % likely to be within ±${view.tol_mm.toFixed(2)} mm.`
              : "."}
          </p>
          {view.centre && <p>Centre: {view.centre}.</p>}
          <FormWords view={view} />
          <Button look="main" keyHint="Enter" onClick={go}>
            Go to Mesh
          </Button>
        </>
      );
  }
}

/** A form that no knob reaches, by its name, with what does reach it. */
function FormWords({ view }: { view: View }) {
  if (!view.form) return null;
  return (
    <div className="border-l-2 border-brass pl-3 text-sm">
      <p>
        Form left: <b>{view.form.name}</b>, {signed(view.form.amount_mm)} ± {view.form.sd_mm.toFixed(2)} mm (
        {view.form.words}). It cannot be better by knobs.
      </p>
      <ul className="list-disc pl-4">
        {view.form.remedies.map((r) => (
          <li key={r}>{r}</li>
        ))}
      </ul>
    </div>
  );
}
