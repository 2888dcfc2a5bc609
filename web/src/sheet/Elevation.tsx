/** An elevation: the surface cut along three lines, Z exaggerated and the factor written on it. */
import type { Schemas } from "../api/client";
import { box } from "./Field";
import { type Frame, path } from "./frame";

const DASHES = ["", "2 4", "7 4"];

interface Cut {
  name: string;
  heights: readonly number[];
}

function cuts(field: Schemas["HeightField"], side: "front" | "side"): Cut[] {
  const grid = field.mean_mm;
  const last = grid.length - 1;
  const at = [0, Math.round(last / 2), last];
  const names = side === "front" ? ["front", "centre", "rear"] : ["right", "centre", "left"];
  const picks = side === "front" ? at : [...at].reverse();
  return picks.map((k, i) => ({
    name: names[i] ?? "",
    heights: side === "front" ? (grid[k] ?? []) : grid.map((row) => row[k] ?? 0),
  }));
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
  const cutPath = (heights: readonly number[]) =>
    path(
      heights.map((h, i) => {
        const mm = along[i] ?? 0;
        return front ? [frame.px(mm), across(h)] : [across(h), frame.py(mm)];
      }),
    );
  const planScale = frame.plan.w / ((field.xs_mm.at(-1) ?? 1) - (field.xs_mm[0] ?? 0));
  const factor = Math.round(perMm / planScale / 5) * 5;
  const tol = field.tol_mm * perMm;
  const band = front
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
        <rect {...box(band)} fill="var(--verdigris)" opacity="0.2" />
        <path
          d={front ? `M${at.x} ${across(0)}h${at.w}` : `M${across(0)} ${at.y}v${at.h}`}
          stroke="var(--verdigris)"
          strokeDasharray="4 3"
        />
        {cuts(field, side).map((cut, i) => (
          <path
            key={cut.name}
            d={cutPath(cut.heights)}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="1.6"
            strokeDasharray={DASHES[i]}
          />
        ))}
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
            front — centre ··· rear – –
          </text>
        </>
      ) : (
        <>
          <text className="svg-words halo" x={at.x + 6} y={at.y + 15}>
            from the right
          </text>
          <text className="svg-words halo" x={at.x + 6} y={at.y + at.h - 22}>
            right — centre ···
          </text>
          <text className="svg-words halo" x={at.x + 6} y={at.y + at.h - 8}>
            left – –
          </text>
        </>
      )}
    </g>
  );
}
