import { useState } from "react";
import type { Schemas } from "../../api/client";
import { type KeepEntry, useBench, type WithHead } from "../../api/run";
import { Button, Choice } from "../../ui/controls";

/** Another filament laid beside the run's own: which one, of those that the workshop has. */
export function OtherFilament({
  view,
  keep,
  chosen,
  busy,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  keep: KeepEntry;
  /** It was said which one: the proof of both is what is printed. */
  chosen: () => void;
  busy: boolean;
}) {
  const bench = useBench();
  const others = (bench.data?.filaments ?? []).filter((f) => f.id !== view.head.filament.id);
  const [picked, setPicked] = useState("");
  const filament = others.find((f) => f.id === picked) ?? others[0];
  if (!filament) return null;
  return (
    <details>
      <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
        is it the filament? lay another one beside it
      </summary>
      <div className="grid grid-cols-[1fr_auto] items-end gap-2">
        <Choice
          label="Other filament"
          value={filament.id}
          onChange={setPicked}
          options={others.map((f) => ({ value: f.id, text: f.name }))}
        />
        <Button disabled={busy} onClick={() => keep({ kind: "other_filament_told", filament }, chosen)}>
          Beside it
        </Button>
      </div>
    </details>
  );
}
