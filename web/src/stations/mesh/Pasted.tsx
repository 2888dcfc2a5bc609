/** A pasted grid on the sheet: which way round it lies, with the chance of each, and places that would tell. */
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { Button, Choice, Eyebrow, Field, Panel, Wrong } from "../../ui/controls";
import { typedNumber } from "../../ui/words";
import { type Preview, usePaste } from "./PasteGrid";

export function Pasted({
  runId,
  preview,
  onPreview,
  onKeep,
  onBack,
  busy,
}: {
  runId: string;
  preview: Preview;
  onPreview: (preview: Preview) => void;
  onKeep: () => void;
  onBack: () => void;
  busy: boolean;
}) {
  const { body, pasted } = preview;
  const look = usePaste(runId, onPreview);
  const heading = useRef<HTMLHeadingElement>(null);
  // The text was far below: what it turned out to be is looked at from its beginning.
  useEffect(() => heading.current?.focus(), []);
  const [heights, setHeights] = useState<string[]>([]);
  const [wrong, setWrong] = useState<string | null>(null);
  const { survey, words } = pasted.shown;
  const again = (more: Partial<Schemas["MeshPaste"]>) => look.mutate({ ...body, ...more });
  const at = pasted.ways.findIndex((w) => JSON.stringify(w.layout) === JSON.stringify(pasted.layout));
  return (
    <>
      <Eyebrow left="Looked at, not kept yet" right={`${survey.grid.xs_mm.length} × ${survey.grid.ys_mm.length}`} />
      <h2 ref={heading} tabIndex={-1} className="text-2xl leading-tight font-semibold">
        Is this the plate, seen from above?
      </h2>
      <p>{words}</p>
      {pasted.lean_mm > 0 && (
        <Panel tone="brass">
          <p className="text-sm">
            {pasted.without_lean
              ? "The probe's lean is taken out. Keep it, then send it: the machine has the old one until then."
              : `The probe that read it leans: ${pasted.lean_mm.toFixed(3)} mm of this are not the plate's, and the machine follows them.`}
          </p>
          <Button look="quiet" onClick={() => again({ without_lean: !pasted.without_lean })}>
            {pasted.without_lean ? "keep it as the machine has it" : "take the lean out"}
          </Button>
        </Panel>
      )}
      {pasted.ask && (
        <Panel tone="brass">
          <p className="text-sm">
            The text does not say which way round it lies, and what is known of this plate does not settle it. Choose,
            or read these places again: they tell the ways apart.
          </p>
        </Panel>
      )}
      <Choice
        label="Which way round"
        value={String(at)}
        onChange={(v) => again({ layout: pasted.ways[Number(v)]?.layout })}
        options={pasted.ways.map((w, k) => ({
          value: String(k),
          text: `${w.words}: ${w.p > 0.995 ? "almost surely" : `${Math.round(100 * w.p)} %`}`,
        }))}
      />
      {pasted.to_read.length > 0 && (
        <form
          className="grid grid-cols-2 items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            const typed = pasted.to_read.map((_, k) => typedNumber(heights[k] ?? ""));
            if (typed.some((v) => v === null)) return setWrong("Type the height read at each place, in mm.");
            setWrong(null);
            again({ layout: null, known: pasted.to_read.map((k, i) => ({ ...k, height_mm: typed[i] ?? 0 })) });
          }}
        >
          {pasted.to_read.map((k, i) => (
            <Field
              key={`${k.x_mm},${k.y_mm}`}
              label={`at (${k.x_mm}, ${k.y_mm}), mm`}
              inputMode="decimal"
              value={heights[i] ?? ""}
              onChange={(e) => {
                const next = [...heights];
                next[i] = e.target.value;
                setHeights(next);
              }}
            />
          ))}
          <Button type="submit" className="col-span-2" disabled={look.isPending}>
            Find the way round
          </Button>
          {wrong && (
            <p role="alert" className="col-span-2 text-sm text-madder">
              {wrong}
            </p>
          )}
        </form>
      )}
      <Wrong wrong={look.error} />
      <Button look="main" disabled={busy} onClick={onKeep}>
        {pasted.ask ? "It lies so: keep this mesh" : "Keep this mesh"}
      </Button>
      <Button onClick={onBack}>Back to the numbers</Button>
    </>
  );
}
