/** The surface on the plan: tinted and hatched where it is out of tolerance, left open where it is unknown. */
import { contours } from "d3-contour";
import { useMemo } from "react";
import type { Schemas } from "../api/client";
import type { Frame } from "./frame";

type Grid = readonly (readonly number[])[];

/** Contour of values above `level`, as an SVG path in the frame. */
function above(grid: Grid, level: number, frame: Frame, sign = 1): string {
  const ny = grid.length;
  const nx = grid[0]?.length ?? 0;
  const values = grid.flat().map((v) => sign * v);
  const shape = contours().size([nx, ny]).contour(values, level);
  const place = ([gx = 0, gy = 0]: number[]) => {
    const x = frame.plan.x + ((gx - 0.5) / (nx - 1)) * frame.plan.w;
    const y = frame.plan.y + frame.plan.h - ((gy - 0.5) / (ny - 1)) * frame.plan.h;
    return `${x.toFixed(1)},${y.toFixed(1)}`;
  };
  return shape.coordinates.flatMap((polygon) => polygon.map((ring) => `M${ring.map(place).join("L")}Z`)).join("");
}

export function Hatches() {
  return (
    <defs>
      <pattern id="hatch-high" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <path d="M0 0V7" stroke="var(--madder)" strokeWidth="1.6" strokeOpacity="0.55" />
      </pattern>
      <pattern id="hatch-low" width="7" height="7" patternUnits="userSpaceOnUse">
        <path d="M0 3.5H7" stroke="var(--slate)" strokeWidth="1.6" strokeOpacity="0.55" />
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

export function FieldLayer({ field, frame, clip }: { field: Schemas["HeightField"]; frame: Frame; clip: string }) {
  const drawn = useMemo(() => {
    const tol = field.tol_mm;
    const steps = [1, 2, 4, 8].map((k) => k * tol);
    const unknown = field.sd_mm.map((row) => row.map((sd) => sd - 2.5 * tol));
    return {
      high: steps.map((level) => ({ level, d: above(field.mean_mm, level, frame) })),
      low: steps.map((level) => ({ level, d: above(field.mean_mm, level, frame, -1) })),
      zero: above(field.mean_mm, 0, frame),
      unknown: above(unknown, 0, frame),
      pale: above(
        field.sd_mm.map((row) => row.map((sd) => sd - 1.2 * tol)),
        0,
        frame,
      ),
    };
  }, [field, frame]);
  return (
    <g clipPath={`url(#${clip})`}>
      <rect {...box(frame.plan)} fill="var(--verdigris)" opacity="0.13" />
      {drawn.high.map(({ level, d }) => (
        <path key={level} d={d} fill="var(--madder)" opacity="0.16" />
      ))}
      <path d={drawn.high[0]?.d} fill="url(#hatch-high)" stroke="var(--madder)" strokeOpacity="0.6" />
      {drawn.low.map(({ level, d }) => (
        <path key={level} d={d} fill="var(--slate)" opacity="0.16" />
      ))}
      <path d={drawn.low[0]?.d} fill="url(#hatch-low)" stroke="var(--slate)" strokeOpacity="0.6" />
      <path d={drawn.zero} fill="none" stroke="var(--graphite)" strokeOpacity="0.5" />
      <path d={drawn.pale} fill="var(--paper)" opacity="0.45" />
      <path d={drawn.unknown} fill="var(--paper)" opacity="0.92" stroke="var(--graphite)" strokeDasharray="2 5" />
    </g>
  );
}

export function box({ x, y, w, h }: { x: number; y: number; w: number; h: number }) {
  return { x, y, width: w, height: h };
}
