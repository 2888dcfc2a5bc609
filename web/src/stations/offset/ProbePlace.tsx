/** Where the probe sits beside the tip: marks sighted with the one and with the other. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button } from "../../ui/controls";
import { useNumbers } from "../../ui/numbers";

const SIGHTED = ["tip_x_mm", "tip_y_mm", "probe_x_mm", "probe_y_mm"] as const;

export function ProbePlace({ check, keep, busy }: { check: Schemas["ProbeCheck"]; keep: KeepEntry; busy: boolean }) {
  const { typed, values, field, clear } = useNumbers(SIGHTED);
  const [wrong, setWrong] = useState<string | null>(null);
  const { place, place_taken, place_kept } = check;
  const sighted = place.place;
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        const seen = values();
        if (!seen) return setWrong("Give X and Y twice: with the tip over the mark, and with the probe over it.");
        if (Math.hypot(seen.tip_x_mm - seen.probe_x_mm, seen.tip_y_mm - seen.probe_y_mm) > 140)
          return setWrong("Tip and probe are hardly that far apart. Was the same mark sighted with both?");
        setWrong(null);
        keep({ kind: "mark_sighted", ...seen }, clear);
      }}
    >
      <p className="font-semibold">Where does it sit?</p>
      <p className="text-sm text-graphite">
        Draw a cross on tape. Lift the tip, bring it right over the cross and note where the head stands; then the same
        with the probe. Two crosses, far from each other. It is taken to sit {place_taken} of the tip.
      </p>
      <div className="grid grid-cols-2 gap-2">
        {field("tip_x_mm", "X, tip over it")}
        {field("tip_y_mm", "Y, tip over it")}
        {field("probe_x_mm", "X, probe over it")}
        {field("probe_y_mm", "Y, probe over it")}
      </div>
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      <Button type="submit" disabled={busy || !typed.tip_x_mm.trim() || !typed.probe_x_mm.trim()}>
        Keep mark {place.marks + 1}
      </Button>
      <p data-testid="place" className={place.elsewhere ? "font-semibold" : "text-sm text-graphite"}>
        {place.words}
      </p>
      {place.elsewhere && sighted && !place_kept && (
        <Button look="main" disabled={busy} onClick={() => keep({ kind: "probe_placed", place: sighted })}>
          Take it so from the next run on
        </Button>
      )}
      {place_kept && (
        <p className="text-sm">
          From the next run on: {place_kept} of the tip.{" "}
          <Button look="quiet" disabled={busy} onClick={() => keep({ kind: "probe_placed", place: null })}>
            take it as it was entered
          </Button>
        </p>
      )}
    </form>
  );
}
