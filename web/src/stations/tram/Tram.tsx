/** Tram: one instruction, one number, one answer. */

import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Choice, Panel, Why } from "../../ui/controls";
import { FEELS } from "../Feel";
import { BesideTram } from "./Beside";
import { type Count, countKeys, keepCount, NO_COUNT, stopOf } from "./Count";
import { keepFeel, keepFelt, StepSlip } from "./StepSlip";
import { Story } from "./Story";
import { OtherTurn } from "./Turned";

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
  if (step === "mesh_off")
    keys.unshift({
      keys: ["Enter"],
      cap: "Enter",
      does: "it is off",
      run: () => keep({ kind: "mesh_used", on: false }),
    });
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
  if (step === "given_up")
    keys.unshift({ keys: ["Enter"], cap: "Enter", does: "begin anew", run: () => keep({ kind: "begun_anew" }) });
  const ended = step === "done" || step === "beyond_knobs" || step === "given_up";
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
      canPractise={!ended}
      sheet={<Sheet sheet={view.sheet} from={from} title="Tram" />}
      slip={
        <>
          {view.warning && (
            <Panel tone="madder">
              <p role="status" className="first-letter:uppercase">
                {view.warning}
              </p>
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
          {view.gives_way && <p className="text-sm text-graphite">{view.gives_way}</p>}
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
