import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button } from "../../ui/controls";

type Cause = Schemas["CauseShown"];

/** What may lie behind a bad first layer, with its chances; not shown while the height explains all of it. */
export function Causes({ view, keep, busy }: { view: Schemas["FirstLayerView"]; keep: KeepEntry; busy: boolean }) {
  const others = view.causes.filter((c) => c.id !== "height");
  if (!others.length || (others[0]?.p ?? 0) < 0.1) return null;
  return (
    <section aria-label="What may be behind it" className="border-t border-hairline pt-2">
      <p className="text-sm font-medium text-graphite">What may be behind it</p>
      <ul>
        {view.causes.slice(0, 5).map((c) => (
          <li key={c.id} className="text-sm">
            {c.remedy && c.id !== "feed" ? (
              <details>
                <summary className="min-h-11 cursor-pointer list-none py-2">
                  <Line cause={c} />
                </summary>
                <p className="flex flex-wrap items-center justify-between gap-x-4 pb-2">
                  <span>
                    {c.remedy}, about {c.minutes.toFixed(0)} min.
                  </span>
                  <Button
                    disabled={busy}
                    onClick={() => keep({ kind: "cause_mended", cause: c.id as Schemas["CauseMended"]["cause"] })}
                  >
                    That is done
                  </Button>
                </p>
              </details>
            ) : (
              <Line cause={c} />
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Line({ cause }: { cause: Cause }) {
  return (
    <span className="grid grid-cols-[1fr_3.5rem_2.5rem] items-center gap-2">
      <span className={cause.remedy && cause.id !== "feed" ? "underline underline-offset-4" : ""}>{cause.word}</span>
      <span aria-hidden="true" className="h-1.5 bg-hairline">
        <span className="block h-full bg-slate" style={{ width: `${100 * cause.p}%` }} />
      </span>
      <span className="text-right font-mono">{(100 * cause.p).toFixed(0)} %</span>
    </span>
  );
}
