/** A patch of first-layer lines as the bead model gives them at one gap; and the same beads in section. */
import { useId } from "react";
import type { Schemas } from "../api/client";

type SwatchData = Schemas["Swatch"];

export function Swatch({
  swatch,
  width,
  height,
  x = 0,
  y = 0,
}: {
  swatch: SwatchData;
  width: number;
  height: number;
  x?: number;
  y?: number;
}) {
  const id = useId();
  // Drawn at a scale at which single lines can be told apart.
  const pitch = 7;
  const perMm = pitch / swatch.pitch_mm;
  const line = Math.max(swatch.line_mm * perMm, 0.8);
  const wavy = swatch.grade === "loose" || swatch.grade === "barely";
  const torn = swatch.grade === "starved";
  const ridge = swatch.fill > 1.08 ? Math.min((swatch.fill - 1) * 4, 3) : 0;
  return (
    <g transform={`translate(${x} ${y})`}>
      <defs>
        <pattern
          id={id}
          width={wavy ? 18 : torn ? 26 : 7}
          height={pitch}
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(-58)"
        >
          <rect width="30" height={pitch} fill="var(--plastic-gap)" />
          {wavy ? (
            <path
              d={`M0 ${pitch / 2}q4.5 -3 9 0t9 0`}
              stroke="var(--plastic)"
              strokeWidth={line * 0.8}
              fill="none"
              strokeDasharray="15 3"
            />
          ) : (
            <rect
              y={(pitch - Math.min(line, pitch)) / 2}
              width={torn ? 17 : 30}
              height={Math.min(line, pitch)}
              fill="var(--plastic)"
            />
          )}
          {ridge > 0 && (
            <rect y={pitch - ridge / 2} width={torn ? 17 : 30} height={ridge} fill="var(--ink)" opacity="0.45" />
          )}
          {!wavy && ridge === 0 && line >= pitch * 0.99 && (
            <path d="M0 0H30" stroke="var(--ink)" strokeOpacity="0.18" />
          )}
        </pattern>
      </defs>
      <rect
        width={width}
        height={height}
        rx={2}
        fill={`url(#${CSS.escape(id)})`}
        stroke="var(--ink)"
        strokeWidth="0.8"
      />
    </g>
  );
}

/** Four neighbouring lines cut across, on the plate, drawn to the bead model's width and height. */
export function Section({
  swatch,
  x,
  y,
  label,
  unknown = false,
}: {
  swatch: SwatchData;
  x: number;
  y: number;
  label: string;
  unknown?: boolean;
}) {
  const perMm = 58;
  const w = swatch.line_mm * perMm;
  const h = swatch.height_mm * perMm;
  const pitch = swatch.pitch_mm * perMm;
  const lifted = Math.max(swatch.gap_mm - swatch.height_mm, 0) * perMm;
  return (
    <g transform={`translate(${x} ${y})`}>
      {[0, 1, 2, 3].map((k) => (
        <rect
          key={k}
          x={8 + k * pitch + (pitch - w) / 2}
          y={-h - lifted}
          width={w}
          height={h}
          rx={h / 2}
          fill={unknown ? "none" : "var(--plastic)"}
          stroke={unknown ? "var(--graphite)" : "var(--ink)"}
          strokeDasharray={unknown ? "2 3" : undefined}
          strokeWidth="0.9"
        />
      ))}
      <path d={`M0 0H${16 + 4 * pitch}`} stroke="var(--ink)" strokeWidth="1.5" />
      <text className="svg-words" x={22 + 4 * pitch} y={-3}>
        {label}
      </text>
    </g>
  );
}
