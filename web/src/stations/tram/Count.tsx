/** Turned until it drags and counted; or the drag does not come. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import type { Key } from "../../app/keys";
import { Button, Eyebrow, Field, Panel } from "../../ui/controls";
import { fraction, type SeenFrom, turnWords, typedNumber, way } from "../../ui/words";

type View = WithHead<Schemas["TramView"]>;
export const stopOf = (view: View) => `${view.step} ${view.screw} ${view.stop}`;

export interface Count {
  marks: number | null;
  sign: 1 | -1;
  typedAt: number;
  before: "tight" | "loose" | null;
}
export const NO_COUNT: Count = { marks: null, sign: 1, typedAt: 0, before: null };

function typed(count: Count, digit: number): Count {
  const now = Date.now();
  // A second digit that follows at once makes a larger number: 1 then 4 is 14.
  const joined = count.marks !== null && now - count.typedAt < 900 ? count.marks * 10 + digit : digit;
  return { ...count, marks: Math.min(joined, 160), typedAt: now };
}

export function countKeys(count: Count, set: (c: Count) => void, enter: () => void, from: SeenFrom): Key[] {
  const right = from === "above" ? 1 : -1;
  return [
    { keys: "0123456789".split(""), cap: "0–9", does: "marks", run: (k) => set(typed(count, Number(k))) },
    {
      keys: ["ArrowLeft", "ArrowRight"],
      cap: "← →",
      does: "direction",
      run: (k) => set({ ...count, sign: (k === "ArrowRight" ? right : -right) as 1 | -1 }),
    },
    { keys: ["Enter"], cap: "Enter", does: "keep", run: enter },
  ];
}

export function keepCount(view: View, count: Count, keep: KeepEntry) {
  if (count.marks !== null && view.screw)
    keep({
      kind: "counted",
      screw: view.screw,
      marks: count.marks * count.sign,
      before: count.marks ? count.before : null,
      sure: false,
    });
}

interface CountProps {
  view: View;
  from: SeenFrom;
  count: Count;
  setCount: (c: Count) => void;
  keep: KeepEntry;
  busy: boolean;
}

export function CountSlip({ view, from, count, setCount, keep, busy }: CountProps) {
  const seen = `seen from ${from}`;
  const about = Math.round(view.about_marks ?? 0);
  const perTurn = view.per_turn ?? 16;
  const mm = (count.marks ?? 0) * (view.mm_per_mark ?? 0);
  return (
    <>
      <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
      <h2 className="text-xl leading-tight font-semibold lg:text-3xl">
        Turn until it drags. <br className="max-lg:hidden" />
        Count the marks.
      </h2>
      <p className="text-graphite">
        {view.about_marks === null
          ? `The first visit tells how far it is; ${seen}.`
          : about
            ? `About ${turnWords(about, perTurn, from)}, ${seen}.`
            : `It should drag almost as it stands; ${seen}.`}
      </p>
      <div className="thumb flex flex-col gap-2">
        {view.ask_before && (
          <div className="grid grid-cols-[1fr_auto_auto] items-center gap-2" role="group" aria-label="Before the turn">
            <span className="text-sm text-graphite">Before the turn the gauge was</span>
            {(["tight", "loose"] as const).map((b) => (
              <Button
                key={b}
                look={count.before === b ? "chosen" : "plain"}
                aria-pressed={count.before === b}
                onClick={() => setCount({ ...count, before: count.before === b ? null : b })}
              >
                {b}
              </Button>
            ))}
          </div>
        )}
        <div className="flex items-center justify-between rounded-[4px] border-2 border-ink px-4 py-2">
          <p className="font-mono" data-testid="count">
            <span className="text-5xl font-semibold">{count.marks ?? "–"}</span>
            <span className="text-2xl text-graphite"> /{perTurn}</span>
          </p>
          <p className="text-right">
            <button
              type="button"
              className="min-h-11 font-medium underline underline-offset-4"
              onClick={() => setCount({ ...count, sign: -count.sign as 1 | -1 })}
            >
              {way(count.sign, from)}
            </button>
            <span className="block text-sm text-graphite">
              {count.marks === null ? "press the number" : `${mm.toFixed(2)} mm at this screw`}
            </span>
          </p>
        </div>
        <div className="grid grid-cols-6 gap-1.5">
          {[0, 1, 2, 3, 4, 5, 6, 7, 8].map((n) => (
            <Button
              key={n}
              look={count.marks === n ? "chosen" : "plain"}
              className="font-mono text-lg"
              onClick={() => setCount({ ...count, marks: n, typedAt: 0 })}
            >
              {n}
            </Button>
          ))}
          <Button
            className="font-mono"
            aria-label="+1, one mark more"
            onClick={() => setCount({ ...count, marks: Math.min((count.marks ?? 0) + 1, 160) })}
          >
            +1
          </Button>
          <Button
            className="font-mono"
            aria-label="−1, one mark fewer"
            onClick={() => setCount({ ...count, marks: Math.max((count.marks ?? 0) - 1, 0) })}
          >
            −1
          </Button>
          <Button onClick={() => setCount({ ...count, sign: -count.sign as 1 | -1 })}>flip</Button>
        </div>
        <Button
          look="main"
          keyHint="Enter"
          disabled={count.marks === null || busy}
          onClick={() => keepCount(view, count, keep)}
        >
          Keep
        </Button>
      </div>
      <NoDrag key={stopOf(view)} view={view} from={from} count={count} keep={keep} busy={busy} />
    </>
  );
}

/** The drag does not come: how far the knob was turned, how the gauge still is; the knob goes back where it was. */
function NoDrag({ view, from, count, keep, busy }: Omit<CountProps, "setCount">) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState(String(view.most_marks));
  const [sign, setSign] = useState<1 | -1>(count.sign);
  const [wrong, setWrong] = useState<string | null>(null);
  if (!open)
    return (
      <Button look="quiet" className="self-start text-left text-sm" onClick={() => setOpen(true)}>
        no drag after {fraction(view.most_marks, view.per_turn ?? 16)}, or the knob turns freely
      </Button>
    );
  const still = (how: "tight" | "loose") => {
    const marks = typedNumber(text);
    if (marks === null || marks < 1 || marks > 160 || marks % 1 !== 0)
      return setWrong("Give the whole marks you turned, 1 to 160.");
    setWrong(null);
    if (view.screw) keep({ kind: "not_reached", screw: view.screw, marks: marks * sign, still: how });
  };
  return (
    <Panel tone="brass">
      <p className="font-semibold">Turns freely, or the gap does not change? Turn it back where it was.</p>
      <p className="text-sm">
        Past this a knob comes loose or its spring is fully compressed; the others bring this place nearer first. Where
        the gap still closes and the knob bites, the plate is only far off: turn on, and keep the whole count.
      </p>
      <div className="mt-2 grid grid-cols-[1fr_auto] items-start gap-2">
        <Field
          label="Marks turned before you stopped"
          inputMode="numeric"
          value={text}
          onChange={(e) => setText(e.target.value)}
          wrong={wrong}
        />
        <Button className="mt-6" onClick={() => setSign(sign === 1 ? -1 : 1)}>
          {way(sign, from)}
        </Button>
      </div>
      <div className="mt-2 grid grid-cols-2 gap-2" role="group" aria-label="The gauge then was">
        {(["tight", "loose"] as const).map((how) => (
          <Button key={how} disabled={busy} onClick={() => still(how)}>
            turned back; it was still {how}
          </Button>
        ))}
      </div>
    </Panel>
  );
}
