/** Prepare: one check after another, the heat and since when it is held. */
import { useState } from "react";
import { useNavigate } from "react-router";
import { useActs, useStation } from "../../api/run";
import { Shell, useRunId, useSeenFrom, Waiting } from "../../app/Shell";
import { Sheet } from "../../sheet/Sheet";
import { Button, Field } from "../../ui/controls";
import { clock } from "../../ui/words";

export function Prepare() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "prepare");
  const acts = useActs(runId, "prepare", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [bed, setBed] = useState<string | null>(null);
  const [tip, setTip] = useState<string | null>(null);
  if (!view) return <Waiting wrong={error} />;
  const open = view.checks.find((c) => !c.outcome);
  const done = (outcome: "done" | "skipped") =>
    open && !acts.busy && acts.keep.mutate({ kind: "check_done", check: open.id, outcome });
  const heat = () =>
    acts.keep.mutate({
      kind: "heated",
      bed_c: Number(bed ?? view.bed_target_c),
      nozzle_c: Number(tip ?? view.nozzle_target_c),
      held_since: new Date().toISOString(),
    });
  const go = () => navigate(`/runs/${runId}/tram`);
  const bedWrong = heatWrong(bed, 150);
  const tipWrong = heatWrong(tip, 350);
  return (
    <Shell
      station="prepare"
      head={view.head}
      cautions={view.cautions}
      acts={acts}
      keys={[
        {
          keys: ["Enter"],
          cap: "Enter",
          does: open ? "checked" : "go to Tram",
          run: () => (open ? done("done") : go()),
        },
        { keys: ["s", "S"], cap: "S", does: "skip this check", run: () => done("skipped") },
      ]}
      sheet={<Sheet sheet={view.sheet} from={from} title="The plate, not measured yet" />}
      slip={
        <>
          <p className="flex justify-between text-graphite">
            <span>Before measuring</span>
            <span className="font-mono text-sm">
              {view.checks.filter((c) => c.outcome).length} of {view.checks.length}
            </span>
          </p>
          {open ? (
            <>
              <h2 className="text-2xl leading-tight font-semibold">{open.text}</h2>
              <p className="text-graphite">{open.why}</p>
              <Button look="main" keyHint="Enter" onClick={() => done("done")} disabled={acts.busy}>
                Checked
              </Button>
              <Button look="quiet" className="self-start px-0" onClick={() => done("skipped")} disabled={acts.busy}>
                skip it, and note that
              </Button>
            </>
          ) : (
            <>
              <h2 className="text-2xl leading-tight font-semibold">
                {view.ready ? "Ready to tram." : "Checks are through."}
              </h2>
              {!view.ready && (
                <p className="text-graphite">
                  Hold the heat for {view.hold_wanted_minutes} minutes, or go on as it is.
                </p>
              )}
              <Button look="main" keyHint="Enter" onClick={go}>
                Go to Tram
              </Button>
            </>
          )}
          <form
            className="grid grid-cols-2 gap-2 border-t border-hairline pt-3"
            onSubmit={(e) => {
              e.preventDefault();
              if (!bedWrong && !tipWrong) heat();
            }}
          >
            <Field
              label="Bed"
              unit="°C"
              inputMode="decimal"
              value={bed ?? String(view.bed_target_c)}
              onChange={(e) => setBed(e.target.value)}
              wrong={bedWrong}
            />
            <Field
              label="Tip, below oozing"
              unit="°C"
              inputMode="decimal"
              value={tip ?? String(view.nozzle_target_c)}
              onChange={(e) => setTip(e.target.value)}
              wrong={tipWrong}
            />
            <Button type="submit" className="col-span-2">
              {view.held_since
                ? `Held since ${clock(view.held_since)}, ${Math.max(view.held_minutes ?? 0, 0).toFixed(0)} min. Start over`
                : "At temperature now"}
            </Button>
          </form>
          <ul className="text-sm">
            {view.checks
              .filter((c) => c.outcome)
              .map((c) => (
                <li key={c.id} className="flex justify-between gap-3 py-0.5">
                  <span>{c.text}</span>
                  <span className={c.outcome === "done" ? "text-verdigris" : "text-brass"}>{c.outcome}</span>
                </li>
              ))}
          </ul>
        </>
      }
    />
  );
}

function heatWrong(text: string | null, most: number): string | null {
  if (text === null) return null;
  const value = Number(text);
  return text.trim() && Number.isFinite(value) && value >= 0 && value <= most ? null : `Give 0 to ${most} °C.`;
}
