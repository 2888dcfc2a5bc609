/** A machine on the bench, drawn as its plate. */
import type { Schemas } from "../api/client";
import { boundsOf } from "../sheet/frame";
import { day, signed } from "../ui/words";

/** Machines on one bench are drawn to one scale, as long as the plate fits: a plate of 318 mm takes 92 px. */
const scaleOf = (widest: number) => 92 / Math.max(318, widest);

export const isDue = (line: Schemas["MachineLine"]) =>
  line.expected?.due_at != null && new Date(line.expected.due_at) <= new Date();

/** A machine as its plate, with its state and what is to be expected of it. */
export function MachinePlan({
  line,
  chosen,
  choose,
}: {
  line: Schemas["MachineLine"];
  chosen: boolean;
  choose: () => void;
}) {
  const { machine } = line;
  const plate = machine.plates[0];
  if (!plate) return null;
  const round = plate.shape === "round";
  const [x0, y0, x1, y1] = boundsOf(plate);
  const scale = scaleOf(Math.max(plate.width_mm, plate.depth_mm));
  const w = plate.width_mm * scale;
  const h = plate.depth_mm * scale;
  return (
    <button
      type="button"
      onClick={choose}
      aria-pressed={chosen}
      className={`flex h-full min-h-36 w-full items-center gap-4 rounded-[6px] border bg-paper p-4 text-left ${chosen ? "border-brass outline-1 outline-brass" : "border-hairline hover:border-ink"}`}
    >
      <svg width={104} height={104} viewBox="-52 -52 104 104" aria-hidden="true" className="shrink-0">
        {round ? (
          <circle r={w / 2} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
        ) : (
          <rect x={-w / 2} y={-h / 2} width={w} height={h} rx={3} fill="none" stroke="var(--ink)" strokeWidth="1.5" />
        )}
        {machine.screws.map((s) => (
          <circle
            key={s.name}
            cx={(s.x_mm - (x0 + x1) / 2) * scale}
            cy={-(s.y_mm - (y0 + y1) / 2) * scale}
            r={6}
            fill="var(--paper)"
            stroke="var(--ink)"
          />
        ))}
        <path d="M-4 0H4M0 -4V4" stroke="var(--graphite)" />
      </svg>
      <span className="min-w-0">
        <span className="block text-xl font-semibold">
          {machine.name} {machine.practice && <span className="ml-2 text-sm font-normal text-graphite">practice</span>}
        </span>
        <span className="block text-sm">
          {round ? `round, ${plate.width_mm} mm across` : `${plate.width_mm} x ${plate.depth_mm} mm`},{" "}
          {machine.screws.length ? `${machine.screws.length} screws` : "no knobs"}
          {machine.probe ? `, ${machine.probe.kind} probe` : ""}
        </span>
        <span className="block text-sm text-graphite">
          {line.convention_name.toLowerCase()} {signed(machine.stored_mm, 3)}: {line.convention_rule}
        </span>
        <span className="mt-1 block text-sm font-medium">{line.words}</span>
        {line.expected && (
          <span className={`block text-sm ${isDue(line) ? "font-semibold text-brass" : "text-graphite"}`}>
            sound with <span className="font-mono">{Math.round(100 * line.expected.p_today)}</span> %
            {line.expected.due_at ? (isDue(line) ? ": look again" : `, look again ${day(line.expected.due_at)}`) : ""}
          </span>
        )}
      </span>
    </button>
  );
}
