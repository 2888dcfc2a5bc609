import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useSeenPatch } from "../../api/line";
import type { WithHead } from "../../api/run";
import { Section, type Side, Swatch } from "../../sheet/Swatch";
import { Button, Eyebrow, Field } from "../../ui/controls";

type View = WithHead<Schemas["FirstLayerView"]>;

export function Judge({
  view,
  zone,
  number,
  grade,
  busy,
  caliper,
  setCaliper,
  caliperWrong,
  greasy,
  side,
  turnOver,
}: {
  view: View;
  zone: Schemas["ZoneView"];
  number: number;
  grade: (key: number) => void;
  busy: boolean;
  caliper: string;
  setCaliper: (t: string) => void;
  caliperWrong: string | null;
  greasy: () => void;
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
          <Button look="quiet" className="block text-sm font-normal" onClick={turnOver}>
            {side === "top" ? "from above: turn it over" : "from below: turn it back"}
          </Button>
        </h2>
        {seen && (
          <svg
            width={132}
            height={52}
            className="shrink-0"
            role="img"
            aria-label="The patch as it lies on the practice plate"
          >
            <Swatch swatch={seen} width={130} height={50} x={1} y={1} side={side} />
          </svg>
        )}
      </div>
      <div className="thumb flex flex-col gap-1">
        {view.cards.map((c) => (
          <Button
            key={c.grade}
            look={zone.grade === c.grade ? "chosen" : "plain"}
            disabled={busy}
            className="flex items-center gap-2 px-2 py-0! text-left"
            onClick={() => grade(c.key)}
          >
            <kbd className="rounded-[3px] border border-current px-1.5 font-mono text-sm">{c.key}</kbd>
            <svg height={40} aria-hidden="true" className="w-0 min-w-16 flex-1 rounded-[2px] border border-current">
              <Swatch swatch={c.swatch} width={700} height={40} side={side} />
            </svg>
            <svg width={52} height={34} aria-hidden="true" className="shrink-0 max-sm:hidden">
              <Section swatch={c.swatch} x={0} y={32} lines={3} perMm={36} />
            </svg>
            <span className="w-32 leading-tight">
              <span className="block font-semibold">{c.word}</span>
              <span className="block text-sm leading-tight opacity-80">{c.look}</span>
            </span>
          </Button>
        ))}
      </div>
      <div className="grid grid-cols-[1fr_auto] items-end gap-2">
        <Field
          label="Caliper on the peeled patch, if fused"
          unit="mm"
          inputMode="decimal"
          value={caliper}
          onChange={(e) => setCaliper(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
          wrong={caliperWrong}
        />
        <Button onClick={greasy} disabled={busy}>
          greasy spot
        </Button>
      </div>
      <Link className="text-sm text-graphite underline underline-offset-4" to={`/runs/${view.head.id}/grades`}>
        the seven grades as a card to print
      </Link>
    </>
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
            <td className="text-right">{z.verdict}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
