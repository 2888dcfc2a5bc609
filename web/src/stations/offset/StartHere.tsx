/** What is known before the tip comes down, and a soft limit that keeps it from going below zero. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Choice, Panel } from "../../ui/controls";

type Why = Schemas["ZeroDoubted"]["why"];
const WHY: { value: "" | Why; text: string }[] = [
  { value: "", text: "nothing: this is only a check" },
  { value: "probe", text: "a new or moved probe" },
  { value: "stop", text: "the Z stop was moved" },
  { value: "nozzle", text: "another nozzle" },
  { value: "crash", text: "the tip met the plate, or something fell on it" },
  { value: "unknown", text: "nobody knows" },
];

export function WhatIsKnown({ keep, busy }: { keep: KeepEntry; busy: boolean }) {
  const [why, setWhy] = useState<"" | Why>("");
  return (
    <div className="grid grid-cols-[1fr_auto] items-end gap-2 border-t border-hairline pt-2">
      <Choice label="Changed since it was set last" value={why} onChange={setWhy} options={WHY} />
      <Button disabled={busy || !why} onClick={() => why && keep({ kind: "zero_doubted", why }, () => setWhy(""))}>
        Start from there
      </Button>
    </div>
  );
}

export function SoftLimit({ limit, keep, busy }: { limit: Schemas["SoftLimit"]; keep: KeepEntry; busy: boolean }) {
  if (limit.open_mm)
    return (
      <Panel tone="madder">
        <p className="text-sm">
          The soft limit is open by {limit.open_mm} mm. Close it before you go on
          {limit.close_line ? ": " : "."}
          {limit.close_line && <code className="font-mono">{limit.close_line}</code>}
        </p>
        <Button className="mt-2 w-full" disabled={busy} onClick={() => keep({ kind: "limit_closed" })}>
          It is closed again
        </Button>
      </Panel>
    );
  if (!limit.needed) return null;
  return (
    <Panel tone="brass">
      <p className="text-sm">
        This lies below the machine's zero. If it refuses to go there, open its soft limit by {limit.opens_by_mm} mm,
        for this alone{limit.open_line ? ": " : "."}
        {limit.open_line && <code className="font-mono">{limit.open_line}</code>}
      </p>
      <Button
        className="mt-2 w-full"
        disabled={busy}
        onClick={() => keep({ kind: "limit_opened", by_mm: limit.opens_by_mm })}
      >
        I opened it by {limit.opens_by_mm} mm
      </Button>
    </Panel>
  );
}
