/** The sheet of the logbook: one strip for each place of the plate, all over the same days. */
import { useState } from "react";
import type { LogbookView } from "../api/logbook";
import { day, signed } from "../ui/words";

const W = 720;
const H = 74;
const LEFT = 8;
const DAY = 86_400_000;
/** The strips show so much to each side of what is aimed at; what is beyond stands at the edge. */
const MOST = 0.2;

export function Multiples({ view }: { view: LogbookView }) {
  const [at, setAt] = useState<number | null>(null);
  const points = [...view.points].reverse().filter((p) => p.found && p.left);
  const newest = points.at(-1);
  if (!newest?.left)
    return (
      <p className="p-2">
        No run has measured this plate yet. Start one from the bench: what it finds and leaves is drawn here.
      </p>
    );
  const places = newest.left.places;
  const expected = view.expected;
  const now = Date.now();
  const first = new Date(points[0]?.at ?? now).getTime();
  const until = Math.max(now, new Date(newest.at).getTime()) + 45 * DAY;
  const x = (t: number) => LEFT + ((t - first) / Math.max(until - first, DAY)) * (W - 2 * LEFT);
  const half = Math.min(
    MOST,
    Math.max(
      0.08,
      ...points.flatMap((p) =>
        [p.found, p.left].flatMap((s) => (s ? s.gap_mm.map((g) => Math.abs(g - s.target_mm)) : [])),
      ),
    ) * 1.15,
  );
  const y = (off: number) => H / 2 - (Math.max(-half, Math.min(half, off)) / half) * (H / 2 - 8);
  const low = newest.left.low_mm - newest.left.target_mm;
  const high = newest.left.high_mm - newest.left.target_mm;
  const jumps = view.entries.filter((e) => !["note", "prints", "removals"].includes(e.kind));
  const shown = at === null ? points.length - 1 : at;
  const chosen = points[shown];
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="min-h-0 flex-1 overflow-y-auto">
        {places.map((name, k) => (
          <figure key={name} className="border-t border-hairline first:border-0">
            <figcaption className="flex justify-between text-sm">
              <span className="first-letter:uppercase">{name}</span>
              <span className="font-mono text-graphite">
                {chosen?.left ? `${signed((chosen.left.gap_mm[k] ?? 0) - chosen.left.target_mm, 3)} mm left` : ""}
              </span>
            </figcaption>
            <svg viewBox={`0 0 ${W} ${H}`} className="w-full" role="img" aria-label={`Gap at ${name} through time`}>
              <rect x={0} y={y(high)} width={W} height={y(low) - y(high)} fill="var(--within)" />
              <line x1={0} x2={W} y1={y(0)} y2={y(0)} stroke="var(--hairline)" />
              {jumps.map((e) => (
                <line
                  key={e.id}
                  x1={x(new Date(e.at).getTime())}
                  x2={x(new Date(e.at).getTime())}
                  y1={2}
                  y2={H - 2}
                  stroke="var(--madder)"
                  strokeDasharray="2 3"
                />
              ))}
              <line x1={x(now)} x2={x(now)} y1={0} y2={H} stroke="var(--graphite)" strokeDasharray="1 3" />
              {expected && <Fan view={view} k={k} x={x} y={y} until={until} />}
              {expected?.due_at && (
                <line
                  x1={x(new Date(expected.due_at).getTime())}
                  x2={x(new Date(expected.due_at).getTime())}
                  y1={0}
                  y2={H}
                  stroke="var(--brass)"
                  strokeWidth={2}
                />
              )}
              {points.slice(1).map((p, i) => {
                const before = points[i];
                if (!before?.left || !p.found || before.left.places.length !== places.length) return null;
                return (
                  <line
                    key={p.run_id}
                    x1={x(new Date(before.at).getTime())}
                    y1={y((before.left.gap_mm[k] ?? 0) - before.left.target_mm)}
                    x2={x(new Date(p.at).getTime())}
                    y2={y((p.found.gap_mm[k] ?? 0) - p.found.target_mm)}
                    stroke="var(--slate)"
                  />
                );
              })}
              {points.map((p, i) => {
                if (!p.found || !p.left || p.left.places.length !== places.length) return null;
                const px = x(new Date(p.at).getTime());
                const found = y((p.found.gap_mm[k] ?? 0) - p.found.target_mm);
                const left = y((p.left.gap_mm[k] ?? 0) - p.left.target_mm);
                const sd = Math.sqrt(Math.max(p.left.cov[k]?.[k] ?? 0, 0));
                const off = (p.left.gap_mm[k] ?? 0) - p.left.target_mm;
                return (
                  <g key={p.run_id}>
                    <line x1={px} x2={px} y1={found} y2={left} stroke="var(--graphite)" strokeDasharray="3 2" />
                    <line
                      x1={px + 3}
                      x2={px + 3}
                      y1={y(off - sd)}
                      y2={y(off + sd)}
                      stroke="var(--ink)"
                      strokeWidth={0.75}
                    />
                    <circle cx={px} cy={found} r={3} fill="var(--paper)" stroke="var(--ink)" />
                    <circle cx={px + 3} cy={left} r={3} fill={i === shown ? "var(--brass)" : "var(--ink)"} />
                    <rect
                      x={px - 9}
                      y={0}
                      width={20}
                      height={H}
                      fill="transparent"
                      onPointerEnter={() => setAt(i)}
                      onPointerLeave={() => setAt(null)}
                    >
                      <title>{`${day(p.at)} ${p.by}: found ${signed((p.found.gap_mm[k] ?? 0) - p.found.target_mm, 3)}, left ${signed(off, 3)} mm, sd ${sd.toFixed(3)}`}</title>
                    </rect>
                  </g>
                );
              })}
            </svg>
          </figure>
        ))}
      </div>
      <svg viewBox={`0 0 ${W} 16`} className="w-full" aria-hidden="true">
        <text x={LEFT} y={12} fontSize={11} fill="var(--graphite)">
          {day(new Date(first).toISOString()).split(",")[0]}
        </text>
        <text x={x(now)} y={12} fontSize={11} textAnchor="middle" fill="var(--ink)">
          today
        </text>
        <text x={W - LEFT} y={12} fontSize={11} textAnchor="end" fill="var(--graphite)">
          {day(new Date(until).toISOString()).split(",")[0]}
        </text>
      </svg>
      <p className="flex flex-wrap gap-x-4 border-t border-ink pt-1 text-sm text-graphite">
        <span>○ found</span>
        <span>● left, with one sd</span>
        <span>tinted: sound</span>
        <span>up: gap too large</span>
        <span>shown to ±{half.toFixed(2)} mm</span>
        {chosen && (
          <span className="ml-auto text-ink">
            {day(chosen.at)} {chosen.by}: {chosen.words}
          </span>
        )}
      </p>
    </div>
  );
}

/** Where the place may be by now and later: one sd to each side, growing with the days. */
function Fan({
  view,
  k,
  x,
  y,
  until,
}: {
  view: LogbookView;
  k: number;
  x: (t: number) => number;
  y: (off: number) => number;
  until: number;
}) {
  const e = view.expected;
  const left = view.points.find((p) => p.left)?.left;
  if (!e || !left) return null;
  const from = new Date(e.left_at).getTime();
  const last = e.outlook.days.at(-1) ?? 120;
  const off = (left.gap_mm[k] ?? 0) - left.target_mm;
  const now = e.outlook.sd_now_mm[k] ?? 0;
  const later = e.outlook.sd_later_mm[k] ?? 0;
  const steps = Array.from({ length: 9 }, (_, i) => (i / 8) * Math.min(last, (until - from) / DAY));
  // A walk: its variance grows with the days.
  const sd = (d: number) => Math.sqrt(now ** 2 + ((later ** 2 - now ** 2) * d) / last);
  const up = steps.map((d) => `${x(from + d * DAY)},${y(off + sd(d))}`);
  const down = [...steps].reverse().map((d) => `${x(from + d * DAY)},${y(off - sd(d))}`);
  return <polygon points={[...up, ...down].join(" ")} fill="var(--slate)" fillOpacity={0.18} />;
}
