import { useState } from "react";
import type { Schemas } from "../../api/client";
import { type KeepEntry, useBench, type WithHead } from "../../api/run";
import { Button, Choice } from "../../ui/controls";

interface Asked {
  view: WithHead<Schemas["FirstLayerView"]>;
  keep: KeepEntry;
  /** It was said which one: the proof of both is what is printed. */
  chosen: () => void;
  busy: boolean;
}

/** Another filament laid beside the run's own; what the workshop has is asked for once somebody wants that. */
export function OtherFilament(asked: Asked) {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
        is it the filament? lay another one beside it
      </summary>
      {open && <Which {...asked} />}
    </details>
  );
}

/** Which one, of those that the workshop has. */
function Which({ view, keep, chosen, busy }: Asked) {
  const bench = useBench();
  const others = (bench.data?.filaments ?? []).filter((f) => f.id !== view.head.filament.id);
  const [picked, setPicked] = useState("");
  const filament = others.find((f) => f.id === picked) ?? others[0];
  if (!filament) return bench.data ? <p className="text-sm">The set-up has no other filament.</p> : null;
  return (
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
  );
}
