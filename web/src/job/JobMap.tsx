/** The plate with what a job lays on it in the first layer: where it holds, where it parts, where it is scraped. */
import type { JobReport } from "../api/jobs";
import { boundsOf } from "../sheet/frame";

const LOOK = {
  sound: { fill: "var(--verdigris)", words: "sound" },
  parted: { fill: "var(--slate)", words: "lines part: too far" },
  scraped: { fill: "var(--madder)", words: "scraped: too close" },
  unsure: { fill: "var(--graphite)", words: "cannot tell" },
} as const;
type Verdict = keyof typeof LOOK;

export function JobMap({ report }: { report: JobReport }) {
  const { plate, cells, cell_mm: size } = report;
  const round = plate.shape === "round";
  const [x0, , , y1] = boundsOf(plate);
  const there = (Object.keys(LOOK) as Verdict[]).filter((v) => cells.some((c) => c.verdict === v));
  return (
    <figure className="flex min-h-0 flex-1 flex-col">
      <svg
        viewBox={`${x0 - 6} ${-y1 - 6} ${plate.width_mm + 12} ${plate.depth_mm + 12}`}
        className="min-h-0 w-full flex-1"
        role="img"
        aria-label={`The first layer of ${report.name} on ${plate.name}: ${there.map((v) => `${Math.round((100 * cells.filter((c) => c.verdict === v).length) / cells.length)} % ${LOOK[v].words}`).join(", ") || "nothing is known"}`}
      >
        {round ? (
          <circle r={plate.width_mm / 2} fill="var(--paper)" stroke="var(--ink)" strokeWidth={0.8} />
        ) : (
          <rect
            x={0}
            y={-plate.depth_mm}
            width={plate.width_mm}
            height={plate.depth_mm}
            rx={3}
            fill="var(--paper)"
            stroke="var(--ink)"
            strokeWidth={0.8}
          />
        )}
        {(plate.keep_outs ?? []).map((k) => (
          <rect
            key={k.name}
            x={k.x_min_mm}
            y={-k.y_max_mm}
            width={k.x_max_mm - k.x_min_mm}
            height={k.y_max_mm - k.y_min_mm}
            fill="none"
            stroke="var(--madder)"
            strokeDasharray="2 2"
          />
        ))}
        {cells.map((c) => (
          <rect
            key={`${c.x_mm} ${c.y_mm}`}
            x={c.x_mm - size / 2}
            y={-c.y_mm - size / 2}
            width={size}
            height={size}
            fill={LOOK[c.verdict].fill}
            // The surer, the fuller.
            opacity={
              c.verdict === "sound"
                ? 0.15 + 0.6 * (c.p_sound - 0.5)
                : c.verdict === "unsure"
                  ? 0.2
                  : 0.35 + 0.5 * (1 - c.p_sound)
            }
          >
            <title>
              {`gap ${c.gap_mm.toFixed(3)} ± ${c.sd_mm.toFixed(3)} mm: ${LOOK[c.verdict].words}, sound with ${Math.round(100 * c.p_sound)} %`}
            </title>
          </rect>
        ))}
      </svg>
      <figcaption className="flex flex-wrap gap-x-5 border-t border-ink pt-1 text-sm text-graphite">
        {there.map((v) => (
          <span key={v} className="flex items-center gap-1.5">
            <svg width={12} height={12} aria-hidden="true">
              <rect width={12} height={12} fill={LOOK[v].fill} opacity={0.6} />
            </svg>
            {LOOK[v].words}
          </span>
        ))}
        <span className="ml-auto">the fuller, the surer; seen from above, front below</span>
      </figcaption>
    </figure>
  );
}
