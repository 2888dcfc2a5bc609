/** An elevation: the surface cut along three lines, Z exaggerated and the factor written on it. */
import type { Schemas } from "../api/client";
import { box } from "./Field";
import { type Frame, path } from "./frame";

/** How far the band reaches on either side of what is believed, in sd: nine places in ten lie within. */
const BAND_SD = 1.64;

interface Cut {
  name: string;
  heights: readonly number[];
}

/** The surface along one line: the one under the pointer, else through the plate's middle. */
function cutAt(field: Schemas["HeightField"], side: "front" | "side", mm: number | undefined): Cut {
  const axis = side === "front" ? field.ys_mm : field.xs_mm;
  const middle = Math.round((axis.length - 1) / 2);
  const nearest = (v: number) =>
    axis.reduce((best, a, i) => (Math.abs(a - v) < Math.abs((axis[best] ?? 0) - v) ? i : best), 0);
  const k = mm === undefined ? middle : nearest(mm);
  const place = `${side === "front" ? "y" : "x"} ${String(Math.round(axis[k] ?? 0)).replace("-", "−")}`;
  return {
    name: mm === undefined ? "through the middle" : place,
    heights: side === "front" ? (field.mean_mm[k] ?? []) : field.mean_mm.map((row) => row[k] ?? 0),
  };
}

/** From where to where the whole plate is believed to lie, seen from this side. */
function band(field: Schemas["HeightField"], side: "front" | "side"): { low: number[]; high: number[] } {
  const edge = (sign: number) => {
    const of = (j: number, i: number) => (field.mean_mm[j]?.[i] ?? 0) + sign * BAND_SD * (field.sd_mm[j]?.[i] ?? 0);
    const most = sign > 0 ? Math.max : Math.min;
    return side === "front"
      ? field.xs_mm.map((_, i) => most(...field.ys_mm.map((_, j) => of(j, i))))
      : field.ys_mm.map((_, j) => most(...field.xs_mm.map((_, i) => of(j, i))));
  };
  return { low: edge(-1), high: edge(1) };
}

/** Half the height shown, in mm: a round number that holds every line. */
export function reach(field: Schemas["HeightField"]): number {
  const most = Math.max(field.tol_mm * 2, ...field.mean_mm.flat().map(Math.abs));
  return [0.1, 0.15, 0.2, 0.3, 0.5, 0.8, 1.2, 2, 4, 12].find((r) => r >= most * 1.05) ?? most;
}

export function Elevation({
  field,
  frame,
  side,
  hover,
}: {
  field: Schemas["HeightField"];
  frame: Frame;
  side: "front" | "side";
  hover: { x?: number; y?: number } | null;
}) {
  const front = side === "front";
  const at = front ? frame.front : frame.side;
  const r = reach(field);
  const half = (front ? at.h : at.w) / 2;
  const perMm = (half - 6) / r;
  const along = front ? field.xs_mm : field.ys_mm;
  const across = (mm: number) => (front ? at.y + half - mm * perMm : at.x + half + mm * perMm);
  const points = (heights: readonly number[]) =>
    heights.map((h, i): [number, number] => {
      const mm = along[i] ?? 0;
      return front ? [frame.px(mm), across(h)] : [across(h), frame.py(mm)];
    });
  const cut = cutAt(field, side, front ? hover?.y : hover?.x);
  const edges = band(field, side);
  const planScale = frame.plan.w / ((field.xs_mm.at(-1) ?? 1) - (field.xs_mm[0] ?? 0));
  const factor = Math.round(perMm / planScale / 5) * 5;
  const tol = field.tol_mm * perMm;
  const within = front
    ? { x: at.x, y: at.y + half - tol, w: at.w, h: 2 * tol }
    : { x: at.x + half - tol, y: at.y, w: 2 * tol, h: at.h };
  const clip = `clip-${side}`;
  return (
    <g>
      <clipPath id={clip}>
        <rect {...box(at)} />
      </clipPath>
      <rect {...box(at)} fill="none" stroke="var(--hairline)" />
      <g clipPath={`url(#${clip})`}>
        <rect {...box(within)} fill="var(--within)" />
        <path
          d={`${path([...points(edges.high), ...points(edges.low).reverse()])}Z`}
          fill="var(--graphite)"
          fillOpacity="0.16"
        />
        <path
          d={front ? `M${at.x} ${across(0)}h${at.w}` : `M${across(0)} ${at.y}v${at.h}`}
          stroke="var(--verdigris)"
          strokeDasharray="4 3"
        />
        <path d={path(points(cut.heights))} fill="none" stroke="var(--ink)" strokeWidth="1.8" />
        {front && hover?.x !== undefined && (
          <path d={`M${frame.px(hover.x)} ${at.y}v${at.h}`} stroke="var(--brass)" strokeWidth="1.5" />
        )}
        {!front && hover?.y !== undefined && (
          <path d={`M${at.x} ${frame.py(hover.y)}h${at.w}`} stroke="var(--brass)" strokeWidth="1.5" />
        )}
      </g>
      {front ? (
        <>
          <text className="svg-words halo" x={at.x + 6} y={at.y + 15}>
            seen from the front, Z ×{factor}
          </text>
          <text className="svg-words halo" x={at.x + at.w - 6} y={at.y + at.h - 7} textAnchor="end">
            cut {cut.name}; grey: where the plate may lie
          </text>
        </>
      ) : (
        <>
          <text className="svg-words halo" x={at.x + 6} y={at.y + 15}>
            from the right
          </text>
          <text className="svg-words halo" x={at.x + 6} y={at.y + at.h - 8}>
            {hover?.x === undefined ? "cut in the middle" : `cut ${cut.name}`}
          </text>
        </>
      )}
    </g>
  );
}
