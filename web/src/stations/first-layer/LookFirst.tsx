import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import type { Key } from "../../app/keys";
import { Button, Panel } from "../../ui/controls";

type Look = Schemas["LookFirst"];

const told = (look: Look, found: boolean) => ({ kind: "cause_looked_for", cause: look.cause, found }) as const;

/** Two keys, where there is something to look at before the next step. */
export const lookKeys = (look: Look | null, keep: KeepEntry): Key[] =>
  look
    ? [
        { keys: ["y", "Y"], cap: "Y", does: "found", run: () => keep(told(look, true)) },
        { keys: ["n", "N"], cap: "N", does: "not found", run: () => keep(told(look, false)) },
      ]
    : [];

/** A look that tells causes apart which a print cannot: it takes a minute, the next print nine. */
export function LookFirst({ look, keep, busy }: { look: Look; keep: KeepEntry; busy: boolean }) {
  return (
    <Panel tone="brass">
      <p className="text-sm font-medium text-graphite">
        Look first, {look.minutes < 1 ? "half a minute" : `about ${Math.ceil(look.minutes)} min`}
      </p>
      <p>{look.words}</p>
      <div className="mt-2 grid grid-cols-2 gap-2">
        <Button keyHint="Y" disabled={busy} onClick={() => keep(told(look, true))}>
          {look.found}
        </Button>
        <Button keyHint="N" disabled={busy} onClick={() => keep(told(look, false))}>
          {look.not_found}
        </Button>
      </div>
    </Panel>
  );
}
