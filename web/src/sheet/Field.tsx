/** The surface on the plan. Every place has one class, drawn alone: nothing is laid over another. */
import { contours } from "d3-contour";
import { useMemo } from "react";
import type { Schemas } from "../api/client";
import { signed } from "../ui/words";
import { type Frame, path, ticks } from "./frame";

type Field = Schemas["HeightField"];
type Grid = readonly (readonly number[])[];
type Ring = [number, number][];

/** The classes in the order they are painted, each on plain paper over the ones before. */
const CLASSES = [
  { name: "probably high", hatch: "url(#hatch-high-open)" },
  { name: "surely high", hatch: "url(#hatch-high)" },
  { name: "probably low", hatch: "url(#hatch-low-open)" },
  { name: "surely low", hatch: "url(#hatch-low)" },
  { name: "cannot tell", hatch: "url(#dots)" },
] as const;
type ClassName = (typeof CLASSES)[number]["name"];

export const LEGEND = [
  { text: "surely high", fill: "url(#hatch-high)" },
  { text: "probably", fill: "url(#hatch-high-open)" },
  { text: "within", fill: "var(--within)" },
  { text: "probably", fill: "url(#hatch-low-open)" },
  { text: "surely low", fill: "url(#hatch-low)" },
  { text: "cannot tell", fill: "url(#dots)" },
] as const;

/** The rings around where a grid is above `level`, in the frame. */
function rings(grid: Grid, level: number, frame: Frame): Ring[] {
  const ny = grid.length;
  const nx = grid[0]?.length ?? 0;
  const shape = contours().size([nx, ny]).contour(grid.flat(), level);
  const place = ([gx = 0, gy = 0]: number[]): [number, number] => [
    Number((frame.plan.x + ((gx - 0.5) / (nx - 1)) * frame.plan.w).toFixed(1)),
    Number((frame.plan.y + frame.plan.h - ((gy - 0.5) / (ny - 1)) * frame.plan.h).toFixed(1)),
  ];
  return shape.coordinates.flatMap((polygon) => polygon.map((ring) => ring.map(place)));
}

const closed = (all: Ring[]) => all.map((ring) => `${path(ring)}Z`).join("");

/** How far each class leads before the others, on the grid: it is drawn where that is positive. */
function leads(field: Field): Record<ClassName, Grid> {
  const each = (lead: (high: number, low: number) => number) =>
    field.p_high.map((row, j) => row.map((high, i) => lead(high, field.p_low[j]?.[i] ?? 0)));
  const within = (high: number, low: number) => 1 - high - low;
  return {
    "probably high": each((high, low) => high - Math.max(low, within(high, low))),
    "surely high": each((high) => high - field.surely_at),
    "probably low": each((high, low) => low - Math.max(high, within(high, low))),
    "surely low": each((_, low) => low - field.surely_at),
    "cannot tell": each((high, low) => field.told_at - Math.max(high, low, within(high, low))),
  };
}

export function Hatches() {
  const line = (d: string, colour: string) => <path d={d} stroke={colour} strokeWidth="1.3" />;
  return (
    <defs>
      <pattern id="hatch-high" width="4.5" height="4.5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        {line("M0 0V4.5", "var(--madder)")}
      </pattern>
      <pattern id="hatch-high-open" width="10" height="10" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        {line("M0 0V10", "var(--madder)")}
      </pattern>
      <pattern id="hatch-low" width="4.5" height="4.5" patternUnits="userSpaceOnUse">
        {line("M0 2.2H4.5", "var(--slate)")}
      </pattern>
      <pattern id="hatch-low-open" width="10" height="10" patternUnits="userSpaceOnUse">
        {line("M0 5H10", "var(--slate)")}
      </pattern>
      <pattern id="dots" width="9" height="9" patternUnits="userSpaceOnUse">
        <circle cx="2.5" cy="2.5" r="0.9" fill="var(--graphite)" />
      </pattern>
      <marker
        id="turn-head"
        viewBox="0 0 8 8"
        refX="4"
        refY="4"
        markerWidth="11"
        markerHeight="11"
        markerUnits="userSpaceOnUse"
        orient="auto"
      >
        <path d="M0 0L8 4L0 8Z" fill="var(--ink)" />
      </marker>
    </defs>
  );
}

export function FieldLayer({
  field,
  frame,
  clip,
  taken,
}: {
  field: Field;
  frame: Frame;
  clip: string;
  /** Places in mm that carry a number of their own: no level line is labelled there. */
  taken: readonly (readonly [number, number])[];
}) {
  const drawn = useMemo(() => {
    const lead = leads(field);
    const all = field.mean_mm.flat();
    // Lines of less than a hundredth apart would read alike.
    const levels = ticks(Math.min(...all), Math.max(...all), 4).filter(
      (v) => Math.abs(v * 100 - Math.round(v * 100)) < 1e-6,
    );
    return {
      classes: CLASSES.map((c) => ({ ...c, d: closed(rings(lead[c.name], 0, frame)) })),
      levels: levels.map((level) => {
        const found = rings(field.mean_mm, level, frame);
        return { level, d: closed(found), label: labelAt(found, frame, field, taken) };
      }),
    };
  }, [field, frame, taken]);
  const unknown = drawn.classes[drawn.classes.length - 1];
  return (
    <g clipPath={`url(#${clip})`}>
      <rect {...box(frame.plan)} fill="var(--within)" />
      {drawn.classes.slice(0, -1).map((c) => (
        <g key={c.name}>
          <path d={c.d} fill="var(--paper)" />
          <path d={c.d} fill={c.hatch} />
        </g>
      ))}
      {drawn.levels.map(({ level, d, label }) => (
        <g key={level}>
          <path d={d} fill="none" stroke="var(--graphite)" strokeOpacity="0.45" strokeWidth="0.8" />
          {label && (
            <text className="svg-number halo" x={label[0]} y={label[1]} textAnchor="middle" style={{ fontSize: 10 }}>
              {signed(level)}
            </text>
          )}
        </g>
      ))}
      {unknown && (
        <>
          <path d={unknown.d} fill="var(--paper)" />
          <path d={unknown.d} fill={unknown.hatch} />
        </>
      )}
    </g>
  );
}

/** Where a level line's value has room: on its longest ring, nearest to the plan's middle line and away from the rim. */
function labelAt(
  found: Ring[],
  frame: Frame,
  field: Field,
  taken: readonly (readonly [number, number])[],
): [number, number] | null {
  const { x, y, w, h } = frame.plan;
  const free = (px: number, py: number) =>
    taken.every(([mmX, mmY]) => Math.abs(frame.px(mmX) - px) > 48 || Math.abs(frame.py(mmY) - py) > 40);
  const inside = (found.sort((a, b) => b.length - a.length)[0] ?? []).filter(
    ([px, py]) =>
      px > x + 24 &&
      px < x + w - 24 &&
      py > y + 14 &&
      py < y + h - 14 &&
      free(px, py) &&
      told(field, (px - x) / w, 1 - (py - y) / h),
  );
  if (inside.length < 8) return null;
  const middle = y + h * 0.42;
  const at = inside.reduce((a, b) => (Math.abs(b[1] - middle) < Math.abs(a[1] - middle) ? b : a));
  return [at[0], at[1] + 3];
}

/** Whether anything is known of a place, given as shares of the plate's width and depth. */
function told(field: Field, across: number, up: number): boolean {
  const i = Math.round(across * (field.xs_mm.length - 1));
  const j = Math.round(up * (field.ys_mm.length - 1));
  return classAt(field, i, j) !== "cannot tell";
}

/** The class of a place by its chances; the same as the drawing shows. */
export function classAt(field: Field, i: number, j: number): string {
  const high = field.p_high[j]?.[i] ?? 0;
  const low = field.p_low[j]?.[i] ?? 0;
  const most = Math.max(high, low, 1 - high - low);
  if (most < field.told_at) return "cannot tell";
  if (most !== high && most !== low) return "within";
  return `${most >= field.surely_at ? "surely" : "probably"} ${most === high ? "high" : "low"}`;
}

export function box({ x, y, w, h }: { x: number; y: number; w: number; h: number }) {
  return { x, y, width: w, height: h };
}
