import { Slider } from "radix-ui";
import type { Schemas } from "../../api/client";
import { useSeenPatch } from "../../api/line";
import type { WithHead } from "../../api/run";
import type { Side } from "../../sheet/Swatch";
import { Button, Eyebrow } from "../../ui/controls";
import { GradeButton } from "./GradeButton";
import { SeenPatch } from "./SeenPatch";
import { TurnOver } from "./TurnOver";

/** Where a ladder began to hold: the first step that does, and how it looks. Those before it are told with it. */
export function LadderSlip({
  view,
  chosen,
  choose,
  read,
  stepwise,
  side,
  turnOver,
  busy,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  /** The step that was chosen, from 0; null before that. */
  chosen: number | null;
  choose: (step: number) => void;
  /** Keeps the chosen step with its look; null, null where none holds. */
  read: (first: number | null, grade: Schemas["GradeCard"]["grade"] | null) => void;
  stepwise: () => void;
  side: Side;
  turnOver: () => void;
  busy: boolean;
}) {
  const steps = view.printed;
  const at = chosen ?? middleStep(view);
  const seen = useSeenPatch(view.head.id, at, view.proof_number, view.head.machine.practice && chosen !== null).data;
  const to = (step: number) => choose(Math.min(Math.max(step, 0), steps - 1));
  return (
    <>
      <Eyebrow left={`Proof ${view.proof_number} · a ladder`} right={`${steps} steps`} />
      <h2 className="text-xl leading-tight font-semibold">Which step is the first that holds and closes?</h2>
      <p className="text-sm">Those before it curl, come off, or leave gaps between their lines.</p>
      <div className="flex items-center gap-2">
        <Button
          aria-label="one step back"
          className="w-12"
          disabled={busy}
          onClick={() => to(chosen === null ? at : at - 1)}
        >
          −
        </Button>
        <Slider.Root
          className="relative flex min-h-11 flex-1 touch-none items-center select-none"
          min={0}
          max={steps - 1}
          value={[at]}
          disabled={busy}
          onValueChange={([step]) => to(step ?? at)}
        >
          <Slider.Track className="h-1 flex-1 rounded-full bg-hairline">
            <Slider.Range className="absolute h-1 rounded-full bg-graphite" />
          </Slider.Track>
          <Slider.Thumb
            aria-label="the first step that holds"
            className={`block size-7 rounded-full border-2 ${chosen === null ? "border-graphite bg-paper" : "border-ink bg-ink"}`}
          />
        </Slider.Root>
        <Button
          aria-label="one step on"
          className="w-12"
          disabled={busy}
          onClick={() => to(chosen === null ? at : at + 1)}
        >
          +
        </Button>
      </div>
      <div className="flex min-h-14 items-center justify-between gap-3">
        <p aria-live="polite" className={chosen === null ? "text-sm text-graphite" : "font-mono"}>
          {chosen === null ? "Tap it on the plate, slide to it, or use the arrow keys." : view.zones[chosen]?.name}
        </p>
        {seen && <SeenPatch swatch={seen} side={side} />}
      </div>
      <h3 className="flex items-baseline justify-between gap-3 font-semibold">
        How does it look?
        <TurnOver side={side} turn={turnOver} />
      </h3>
      <div className="thumb flex flex-col gap-1">
        {holding(view).map((card) => (
          <GradeButton
            key={card.grade}
            card={card}
            side={side}
            disabled={busy || chosen === null}
            press={() => read(chosen, card.grade)}
          />
        ))}
      </div>
      <p className="flex flex-wrap gap-x-4">
        <Button look="quiet" className="text-sm" disabled={busy} onClick={() => read(null, null)}>
          none of them holds
        </Button>
        <Button look="quiet" className="text-sm" onClick={stepwise}>
          judge each step by itself
        </Button>
      </p>
    </>
  );
}

/** Where the slider stands before a step was chosen. */
export const middleStep = (view: Schemas["FirstLayerView"]) => Math.floor((view.printed - 1) / 2);

/** The looks of a step that holds and closes. */
export const holding = (view: Schemas["FirstLayerView"]) => view.cards.filter((card) => card.closes);
