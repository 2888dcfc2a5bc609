import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Field } from "../../ui/controls";
import { typedNumber } from "../../ui/words";

/** The patches that are worth a caliper, each with its field; all are kept together. */
export function MeasurePatches({
  view,
  zones,
  keep,
  busy,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  zones: readonly number[];
  keep: KeepEntry;
  busy: boolean;
}) {
  const [texts, setTexts] = useState<Record<number, string>>({});
  const mm = (k: number) => typedNumber(texts[k] ?? "");
  const wrong = (k: number) => {
    const text = (texts[k] ?? "").trim();
    const value = mm(k);
    return text && (value === null || value <= 0 || value > 20) ? "Give the thickness in mm, such as 0.21." : null;
  };
  const typed = zones.filter((k) => (mm(k) ?? 0) > 0 && !wrong(k));
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const rows = typed.map((k) => ({
          kind: "judged" as const,
          zone: k,
          grade: view.zones[k]?.grade ?? null,
          caliper_mm: mm(k),
          greasy: false,
          signs: [...(view.zones[k]?.signs ?? [])],
          sure: false,
        }));
        const [first, ...more] = rows;
        if (first) keep(first, undefined, more);
      }}
    >
      <p className="text-sm">Peel the patch, close the caliper on its middle, away from the ridge of its edge.</p>
      <div className="grid grid-cols-2 gap-2">
        {zones.map((k) => (
          <Field
            key={k}
            label={view.zones[k]?.name ?? ""}
            unit="mm"
            inputMode="decimal"
            value={texts[k] ?? ""}
            onChange={(e) => setTexts({ ...texts, [k]: e.target.value })}
            wrong={wrong(k)}
          />
        ))}
      </div>
      <Button type="submit" look="main" disabled={busy || typed.length === 0 || zones.some((k) => wrong(k))}>
        Keep what it says
      </Button>
      <Button
        look="quiet"
        className="self-start text-sm"
        disabled={busy}
        onClick={() => keep({ kind: "tool_told", tool: "caliper", here: false })}
      >
        no caliper here
      </Button>
    </form>
  );
}
