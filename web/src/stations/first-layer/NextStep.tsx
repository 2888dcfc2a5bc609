import type { Schemas, What } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Panel, Why } from "../../ui/controls";
import { type SeenFrom, signed, turnWords } from "../../ui/words";

/** What every zone shares: far is positive, and the words say which it is. */
export const shared = (mm: number) => (mm < 0 ? "All too close by" : "All too far by");

export const PART_WORDS: Record<Schemas["Part"]["name"], string> = {
  offset: "",
  tilt_x: "Tilt to the right",
  tilt_y: "Tilt to the rear",
  bow: "Rim against middle",
  local: "One zone alone",
};

export function doStep(step: Schemas["NextStep"], keep: KeepEntry, print: () => void, go: (to: string) => void) {
  const { kind, zone } = step.action;
  // In one go, in this order: cleaned, turned, set. Each is a row of its own.
  const made: What[] = [];
  if (kind !== "clean") for (const k of step.action.clean) made.push({ kind: "zone_cleaned", zone: k });
  if (kind === "knobs") made.push({ kind: "turned_all", marks: step.turns.map((t) => t.marks) });
  if (step.stored) made.push({ kind: "offset_set", stored_mm: step.stored.new_mm, sure: false });
  const [first, ...more] = made;
  if ((kind === "offset" || kind === "knobs") && first) keep(first, undefined, more);
  else if (kind === "clean" && zone != null) keep({ kind: "zone_cleaned", zone });
  else if (kind === "print_again") print();
  else if (kind === "mesh" || kind === "measure") go("mesh");
  else if (kind === "done") go("sign_off");
}

const DO_WORDS: Record<string, string> = {
  done: "Go to Sign off",
  offset: "Sent, set it",
  knobs: "Turned",
  mesh: "Go to Mesh",
  measure: "Go to Mesh",
  clean: "Cleaned",
  print_again: "Printed again",
};

export function NextStep({
  step,
  from,
  others,
  act,
  busy,
  rule,
  soFar,
}: {
  step: Schemas["NextStep"];
  from: SeenFrom;
  others: readonly Schemas["NextStep"][];
  act: (() => void) | null;
  busy: boolean;
  rule: string;
  soFar: boolean;
}) {
  if (soFar) {
    return (
      <p className="border-t border-hairline pt-2 text-sm">
        <span className="text-graphite">So far, best next step: </span>
        <span className="font-semibold text-verdigris">{step.words}</span>
      </p>
    );
  }
  return (
    <>
      <p className="border-t border-hairline pt-2 text-sm font-medium text-graphite">Best next step</p>
      <Panel>
        <p className="text-xl font-semibold text-verdigris">{step.words}</p>
        {step.turns.length > 0 && (
          <ul>
            {step.turns
              .filter((t) => t.marks)
              .map((t) => (
                <li key={t.screw}>
                  {t.screw}: {turnWords(t.marks, t.per_turn, from)}, seen from {from}
                </li>
              ))}
          </ul>
        )}
        {step.stored && (
          <>
            <p className="font-mono">
              {signed(step.stored.old_mm, 3)} → {signed(step.stored.new_mm, 3)}{" "}
              <span className="font-sans text-sm">({rule})</span>
            </p>
            <pre className="font-mono text-sm whitespace-pre-wrap">{step.stored.lines.join("\n")}</pre>
          </>
        )}
        <Why lines={[step.action.reason]} />
      </Panel>
      {act && (
        <Button look="main" keyHint="Enter" disabled={busy} onClick={act}>
          {step.action.clean.length > 0 && step.stored ? "Cleaned, sent, set it" : DO_WORDS[step.action.kind]}
        </Button>
      )}
      {others.length > 0 && (
        <p className="text-sm text-graphite">
          Else:{" "}
          {others
            .slice(0, 3)
            .map(
              (o) =>
                `${o.words.replace(/\.$/, "").replace(/^./, (c) => c.toLowerCase())}, ${(100 * o.action.p_all_sound).toFixed(0)} %`,
            )
            .join("; ")}
        </p>
      )}
    </>
  );
}
