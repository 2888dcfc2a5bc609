/** How many points: what each choice leaves for the first layer and how long it takes; or a grid from elsewhere. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas, What } from "../../api/client";
import type { LineStatus } from "../../api/line";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Choice, Eyebrow, Field } from "../../ui/controls";
import { typedNumber } from "../../ui/words";
import { PasteGrid, type Preview } from "./PasteGrid";

type Owner = "hand" | "probe";
const OWNERS = [
  { value: "hand", text: "felt by hand" },
  { value: "probe", text: "by probe or dial" },
] as const;
const SIDES = ["left", "front", "right", "back"] as const;

export function ChooseMesh({
  runId,
  view,
  keep,
  onPlanned,
  onPreview,
  pastedBefore,
  onSkipped,
  busy,
}: {
  runId: string;
  view: WithHead<Schemas["MeshView"]>;
  keep: KeepEntry;
  onPlanned: () => void;
  onPreview: (preview: Preview) => void;
  pastedBefore: string;
  onSkipped: () => void;
  busy: boolean;
}) {
  const [owner, setOwner] = useState<Owner>(view.head.machine.probe ? "probe" : "hand");
  const choices = owner === "hand" || !view.by_probe.length ? view.by_hand : view.by_probe;
  const [chosen, setChosen] = useState<string | null>(null);
  const [area, setArea] = useState<string[]>(["", "", "", ""]);
  const [areaWrong, setAreaWrong] = useState<string | null>(null);
  // Where the machine said last that its tip stands; the line's own panel asks it.
  const { data: line } = useQuery<LineStatus>({ queryKey: ["line", view.head.machine.id], enabled: false });
  const [x, y] = line?.position_mm ?? [];
  const at = x !== undefined && y !== undefined ? ([x.toFixed(1), y.toFixed(1)] as const) : null;
  // By hand as many points of this grid as it takes; a probe reads all of one that leaves nearly as little as any.
  const whole = choices.find((c) => c.columns === 5 && c.readings >= 16) ?? choices.at(-1);
  const until = owner === "hand" && whole ? { ...whole, readings: 0 } : null;
  const best = until ?? choices.find((c) => c.left_mm <= Math.min(...choices.map((o) => o.left_mm)) + 0.002);
  const name = (c: Schemas["Choice"]) => `${c.columns},${c.rows},${c.readings}`;
  const picked = choices.find((c) => name(c) === chosen) ?? best;
  const rows = until ? [until, ...choices] : choices;
  const plan = () => {
    if (!picked) return;
    let area_mm: [number, number, number, number] | undefined;
    if (area.some((v) => v.trim())) {
      const numbers = area.map(typedNumber);
      if (numbers.some((n) => n === null)) return setAreaWrong("Give all four in mm, or leave all four empty.");
      area_mm = numbers as [number, number, number, number];
    }
    setAreaWrong(null);
    const planned: What = {
      kind: "mesh_planned",
      columns: picked.columns,
      rows: picked.rows,
      owns_zero: owner === "hand",
      readings: picked.readings || null,
      area_mm,
    };
    if (view.mesh_on) keep({ kind: "mesh_used", on: false }, onPlanned, [planned]);
    else keep(planned, onPlanned);
  };
  return (
    <>
      <Eyebrow left="The shape that is left" right="" />
      <h2 className="text-2xl leading-tight font-semibold">Measure a grid, or bring one.</h2>
      <p className="text-sm text-graphite">Now {view.after_tram}.</p>
      <Choice
        label="How it is read"
        value={owner}
        onChange={(o) => {
          setOwner(o);
          setChosen(null);
        }}
        options={OWNERS}
      />
      <fieldset className="flex flex-col">
        <legend className="text-sm text-graphite">Points, what they leave for the first layer, and minutes</legend>
        {rows.map((c) => (
          <label
            key={name(c)}
            className="flex min-h-11 cursor-pointer items-center gap-3 border-b border-hairline has-checked:font-semibold"
          >
            <input
              className="h-11 w-4 shrink-0 accent-ink"
              type="radio"
              name="points"
              checked={name(c) === name(picked ?? c)}
              onChange={() => setChosen(name(c))}
            />
            <span>
              {c.columns} × {c.rows}
              {c.readings === 0
                ? ", as many as it takes"
                : c.readings < c.columns * c.rows && `, ${c.readings} of them`}
            </span>
            {c.readings > 0 && (
              <>
                <span className="ml-auto font-mono">±{c.left_mm.toFixed(3)} mm</span>
                <span className="w-16 text-right font-mono">{Math.round(c.minutes)} min</span>
              </>
            )}
          </label>
        ))}
      </fieldset>
      {view.mesh_on && (
        <p className="text-sm text-graphite">
          The mesh in use is switched off while another is read: heights would count from it.
        </p>
      )}
      <Button look="main" disabled={busy || !picked} onClick={plan}>
        Measure point by point
      </Button>
      <details>
        <summary className="min-h-11 cursor-pointer py-2 text-graphite underline underline-offset-4">
          measure only a part of the plate
        </summary>
        <div className="grid grid-cols-4 gap-2">
          {SIDES.map((side, k) => (
            <Field
              key={side}
              label={side}
              inputMode="decimal"
              value={area[k]}
              onChange={(e) => setArea(area.map((v, i) => (i === k ? e.target.value : v)))}
            />
          ))}
        </div>
        {areaWrong && (
          <p role="alert" className="text-sm text-madder">
            {areaWrong}
          </p>
        )}
        {at && (
          <div className="mt-2 grid grid-cols-2 gap-2">
            <Button onClick={() => setArea([at[0], at[1], area[2] ?? "", area[3] ?? ""])}>Front left is here</Button>
            <Button onClick={() => setArea([area[0] ?? "", area[1] ?? "", at[0], at[1]])}>Back right is here</Button>
          </div>
        )}
        <p className="text-sm text-graphite">
          In mm, as the machine shows them: drive the tip to two corners and type what it says
          {at ? `, or ask where it stands (now ${at[0]}, ${at[1]})` : ""}.
        </p>
      </details>
      <PasteGrid runId={runId} ownsZero={owner === "hand"} onPreview={onPreview} before={pastedBefore} />
      <Button
        look="quiet"
        className="self-start"
        disabled={busy}
        onClick={() => keep({ kind: "station_skipped", station: "mesh" }, onSkipped)}
      >
        no mesh this time, go to Z offset
      </Button>
    </>
  );
}
