import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Panel, Why } from "../../ui/controls";
import { Lines } from "../../ui/Lines";
import { type SeenFrom, signed, turnWords } from "../../ui/words";
import { PrintingWords, ProofFiles } from "./ProofFiles";

/** What every zone shares: far is positive, and the words say which it is. */
export const shared = (mm: number) => (mm < 0 ? "All too close by" : "All too far by");

export const PART_WORDS: Record<Schemas["Part"]["name"], string> = {
  offset: "",
  tilt_x: "Tilt to the right",
  tilt_y: "Tilt to the rear",
  bow: "Rim against middle",
  local: "One zone alone",
};

/** What was done is kept in the order the step gives, or it leads to where it is done. */
export function doStep(step: Schemas["NextStep"], keep: KeepEntry, go: (to: string) => void) {
  const [first, ...more] = step.keeps;
  if (first) keep(first, undefined, more);
  else if (step.leads_to) go(step.leads_to);
}

export function NextStep({
  runId,
  step,
  from,
  isBest,
  others,
  choose,
  act,
  busy,
  rule,
  soFar,
}: {
  runId: string;
  step: Schemas["NextStep"];
  from: SeenFrom;
  isBest: boolean;
  others: readonly Schemas["NextStep"][];
  choose: (step: Schemas["NextStep"]) => void;
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
      <p className="border-t border-hairline pt-2 text-sm font-medium text-graphite">
        {isBest ? "Best next step" : "Chosen instead of the best step"}
      </p>
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
            <Lines lines={step.stored.lines} />
          </>
        )}
        {step.printing && (
          <div className="mt-2 flex flex-col gap-2">
            <PrintingWords printing={step.printing} />
          </div>
        )}
        <Why lines={[step.action.reason]} />
      </Panel>
      {step.printing && act && (
        <ProofFiles runId={runId} printing={step.printing} query={`zones=advised&step=${step.action.kind}`} />
      )}
      {act && (
        <Button look="main" keyHint="Enter" disabled={busy} onClick={act}>
          {(step.action.clean.length > 0 || step.action.causes.length > 0) && step.stored
            ? "Done, sent, set it"
            : step.does}
        </Button>
      )}
      {others.length > 0 && (
        <div className="text-sm text-graphite">
          <p id="other-steps">Or choose another, with the chance that every zone is sound:</p>
          <ul aria-labelledby="other-steps">
            {others.slice(0, 4).map((o) => (
              <li key={o.action.kind}>
                <button
                  type="button"
                  className="flex min-h-11 w-full items-center justify-between gap-3 border-b border-hairline py-1 text-left hover:text-ink"
                  onClick={() => choose(o)}
                >
                  <span>{o.words}</span>
                  <span className="font-mono">{(100 * o.action.p_all_sound).toFixed(0)}%</span>
                </button>
              </li>
            ))}
          </ul>
        </div>
      )}
    </>
  );
}
