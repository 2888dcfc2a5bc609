/** What was noted on a walk, typed in at once: one field for each visit in the file's order, kept as one row. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Acts } from "../../api/run";
import { Button, Choice, Field, Wrong } from "../../ui/controls";
import { type SeenFrom, typedNumber } from "../../ui/words";
import { FEELS } from "../Feel";

type Feel = (typeof FEELS)[number]["feel"];

export function Noted(props: { walk: Schemas["Walk"]; from: SeenFrom; acts: Acts; close: () => void }) {
  const { walk, from, acts, close } = props;
  const screws = walk.visits.filter((v) => v.name !== "centre");
  const [typed, setTyped] = useState<string[]>(() => screws.map(() => ""));
  const [sunk, setSunk] = useState(String(walk.sink_turns));
  const [centre, setCentre] = useState<Feel | "none">("none");
  // Sentences stand beside their fields once keeping was tried.
  const [tried, setTried] = useState(false);
  const marks = typed.map(typedNumber);
  const turns = typedNumber(sunk);
  const noted = typed.filter((t) => t.trim()).length;
  const problem = acts.refused?.problem;
  const doubted = problem?.code === "count_doubtful" ? Number(problem.field?.split(".")[1] ?? -1) : -1;
  // The doubt counts the visits that were typed; its field is the one they came from.
  const doubtedField = typed.flatMap((t, k) => (t.trim() ? [k] : []))[doubted];
  const wrongAt = (k: number) => {
    if (k === doubtedField) return problem?.message ?? null;
    const value = marks[k];
    if (!tried || !typed[k]?.trim()) return null;
    return value === null || value === undefined || Math.abs(value) > 160 || (2 * value) % 1
      ? "Type the marks, such as 3 or −2."
      : null;
  };
  const sunkWrong =
    tried && (turns === null || turns < 0 || turns > 12) ? "Type the turns, 0 where none were made." : null;

  function keep(sure: boolean) {
    setTried(true);
    const side = from === "above" ? 1 : -1;
    const counts = screws.flatMap((v, k) => {
      const value = marks[k];
      return typed[k]?.trim() && value !== null && value !== undefined
        ? [{ screw: v.name, marks: side * value + 0 }]
        : [];
    });
    const good = counts.every((c) => Math.abs(c.marks) <= 160 && (2 * c.marks) % 1 === 0);
    if (!noted || counts.length < noted || !good || turns === null || turns < 0 || turns > 12) return;
    acts.keep(
      {
        kind: "walked",
        sunk_turns: turns,
        counts,
        centre: centre === "none" ? null : centre,
        centre_z_mm: walk.centre_z_mm,
        sure,
      },
      close,
      walk.then_proof
        ? [
            { kind: "offset_set", stored_mm: walk.then_proof.stored.new_mm, sure: true },
            { kind: "proof_started", proof: walk.then_proof.proof },
          ]
        : [],
    );
  }

  return (
    <section className="flex flex-col gap-3 border-t border-hairline pt-3" aria-label="What you noted">
      <h3 className="text-lg font-semibold">What you noted</h3>
      <p className="text-sm text-graphite">
        Marks by visit, clockwise + and counter-clockwise −, seen from {from}. Leave a visit empty that was not made.
      </p>
      {walk.sink_turns > 0 && (
        <Field
          label="Every knob was first turned down by"
          unit="turns"
          inputMode="decimal"
          value={sunk}
          onChange={(e) => setSunk(e.target.value)}
          wrong={sunkWrong}
        />
      )}
      <div className="grid grid-cols-2 gap-2">
        {screws.map((v, k) => (
          <Field
            // The visits of a walk do not change while it is typed in.
            key={`${v.round} ${v.name}`}
            label={`${v.name}, round ${v.round}`}
            inputMode="text"
            value={typed[k] ?? ""}
            onChange={(e) => {
              acts.forget();
              setTyped(typed.map((t, i) => (i === k ? e.target.value : t)));
            }}
            wrong={wrongAt(k)}
          />
        ))}
      </div>
      <Choice
        label={`Centre, felt at z ${walk.centre_z_mm.toFixed(2)}`}
        value={centre}
        onChange={setCentre}
        options={[{ value: "none" as const, text: "not felt" }, ...FEELS.map((f) => ({ value: f.feel, text: f.feel }))]}
      />
      {tried && !noted && (
        <p role="alert" className="text-sm text-madder">
          Type at least one count.
        </p>
      )}
      {doubtedField === undefined && <Wrong wrong={acts.wrong} />}
      <Button look="main" disabled={acts.busy} onClick={() => keep(false)}>
        {walk.then_proof ? "Keep what was noted, and that it was printed" : "Keep what was noted"}
      </Button>
      {doubtedField !== undefined && (
        <Button disabled={acts.busy} onClick={() => keep(true)}>
          All are right, keep them
        </Button>
      )}
    </section>
  );
}
