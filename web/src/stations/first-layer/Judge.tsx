import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useSeenPatch } from "../../api/line";
import type { WithHead } from "../../api/run";
import type { Side } from "../../sheet/Swatch";
import { Button, Choice, Eyebrow, Field } from "../../ui/controls";
import { GradeButton } from "./GradeButton";
import { SeenPatch } from "./SeenPatch";
import { TurnOver } from "./TurnOver";
import type { Told, wrongMeasures } from "./told";

type View = WithHead<Schemas["FirstLayerView"]>;

export function Judge({
  view,
  zone,
  number,
  grade,
  busy,
  told,
  tell,
  toggle,
  wrong,
  keepTold,
  greasy,
  skip,
  ended,
  side,
  turnOver,
}: {
  view: View;
  zone: Schemas["ZoneView"];
  number: number;
  grade: (key: number) => void;
  busy: boolean;
  told: Told;
  tell: (told: Told) => void;
  toggle: (sign: Told["signs"][number]) => void;
  wrong: ReturnType<typeof wrongMeasures>;
  /** Keeps signs and measures without a grade; null where nothing was told. */
  keepTold: (() => void) | null;
  greasy: () => void;
  skip: () => void;
  /** The proof was cut off: so many of its zones were laid. */
  ended: (laid: number) => void;
  side: Side;
  turnOver: () => void;
}) {
  const practice = view.head.machine.practice && view.step === "judge";
  const seen = useSeenPatch(view.head.id, number - 1, view.proof_number, practice).data;
  return (
    <>
      <Eyebrow left={`Proof ${view.proof_number} · ${zone.name}`} right={`${number} of ${view.zones.length}`} />
      <div className="flex items-center justify-between gap-3">
        <h2 className="text-xl leading-tight font-semibold">
          How does it look?
          <TurnOver side={side} turn={turnOver} className="block" />
        </h2>
        {seen && <SeenPatch swatch={seen} side={side} />}
      </div>
      <div className="thumb flex flex-col gap-1">
        {view.cards.map((c) => (
          <GradeButton
            key={c.grade}
            card={c}
            side={side}
            chosen={zone.grade === c.grade}
            disabled={busy}
            press={() => grade(c.key)}
          />
        ))}
      </div>
      <Signs view={view} told={told} toggle={toggle} busy={busy} />
      <div className="grid grid-cols-[1fr_auto] items-end gap-2">
        <Measure label="Caliper on the peeled patch, if fused" field="caliper" told={told} tell={tell} wrong={wrong} />
        <Button onClick={greasy} disabled={busy}>
          greasy spot
        </Button>
      </div>
      <details>
        <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
          measured on a real part
        </summary>
        <div className="grid grid-cols-2 gap-2">
          <Measure label="Lower than drawn by" field="short" told={told} tell={tell} wrong={wrong} />
          <Measure label="Foot wider, each side" field="foot" told={told} tell={tell} wrong={wrong} />
        </div>
      </details>
      {keepTold && (
        <Button look="main" keyHint="Enter" disabled={busy} onClick={keepTold}>
          {zone.grade ? "Keep this with its grade" : "Keep this without a grade"}
        </Button>
      )}
      <p className="flex flex-wrap gap-x-4">
        <Button look="quiet" className="text-sm" disabled={busy} onClick={skip}>
          not judged
        </Button>
        <CutOff view={view} number={number} ended={ended} busy={busy} />
      </p>
      <Link className="text-sm text-graphite underline underline-offset-4" to={`/runs/${view.head.id}/grades`}>
        the seven grades as a card to print
      </Link>
    </>
  );
}

/** Signs beside the grade, in the order of touch, sound and what happened; a letter each. */
function Signs({
  view,
  told,
  toggle,
  busy,
}: {
  view: View;
  told: Told;
  toggle: (sign: Told["signs"][number]) => void;
  busy: boolean;
}) {
  return (
    <details open={told.signs.length > 0 || undefined}>
      <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
        felt, heard, or happened
        {told.signs.length > 0 &&
          `: ${view.signs
            .filter((s) => told.signs.includes(s.id))
            .map((s) => s.word)
            .join(", ")}`}
      </summary>
      <div className="grid grid-cols-2 gap-1">
        {view.signs.map((s) => (
          <Button
            key={s.id}
            look={told.signs.includes(s.id) ? "chosen" : "plain"}
            aria-pressed={told.signs.includes(s.id)}
            className="flex items-center gap-2 px-2 text-left text-sm font-normal"
            disabled={busy}
            onClick={() => toggle(s.id)}
          >
            <kbd className="rounded-[3px] border border-current px-1 font-mono text-xs uppercase">{s.key}</kbd>
            {s.word}
          </Button>
        ))}
      </div>
    </details>
  );
}

function Measure({
  label,
  field,
  told,
  tell,
  wrong,
}: {
  label: string;
  field: "caliper" | "short" | "foot";
  told: Told;
  tell: (told: Told) => void;
  wrong: ReturnType<typeof wrongMeasures>;
}) {
  return (
    <Field
      label={label}
      unit="mm"
      inputMode="decimal"
      value={told[field]}
      onChange={(e) => tell({ ...told, [field]: e.target.value })}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
      wrong={wrong[field]}
    />
  );
}

/** It was stopped by hand, or cut off: what was laid until then is judged, the rest is not waited for. */
function CutOff({
  view,
  number,
  ended,
  busy,
}: {
  view: View;
  number: number;
  ended: (laid: number) => void;
  busy: boolean;
}) {
  const [open, setOpen] = useState(false);
  const [last, setLast] = useState(String(number));
  if (view.printed < view.zones.length) return null;
  if (!open)
    return (
      <Button look="quiet" className="text-sm" onClick={() => setOpen(true)}>
        it was stopped before the end
      </Button>
    );
  return (
    <span className="grid w-full grid-cols-[1fr_auto] items-end gap-2">
      <Choice
        label="The last one that was laid whole"
        value={last}
        onChange={setLast}
        options={view.zones.map((z, k) => ({ value: String(k + 1), text: `${k + 1}, ${z.name}` }))}
      />
      <Button disabled={busy} onClick={() => ended(Number(last))}>
        Keep
      </Button>
    </span>
  );
}

/** Every zone with the gap believed there and what that means. */
export function Verdicts({ view }: { view: View }) {
  return (
    <table className="w-full text-sm">
      <caption className="sr-only">Zones of this proof</caption>
      <tbody>
        {view.zones.map((z) => (
          <tr key={z.name} className="border-b border-hairline">
            <td className="py-1">{z.name}</td>
            <td className="font-mono text-graphite">
              {z.gap_mm.toFixed(3)} ±{z.sd_mm.toFixed(3)}
            </td>
            <td className="text-right">{z.skipped ? "not judged" : z.verdict}</td>
          </tr>
        ))}
      </tbody>
      <tfoot>
        <tr>
          <td colSpan={3} className="py-1 text-graphite">
            {view.eye.marks > 0 && `By eye: ${view.eye.words}.`} {view.eye.kept && `So far, ${view.eye.kept}.`}
          </td>
        </tr>
      </tfoot>
    </table>
  );
}
