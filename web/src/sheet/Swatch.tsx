/** A strip of first layer under low light, shaded from the bead model's height profile; and the same beads in section. */
import { useId } from "react";
import type { Schemas } from "../api/client";

type SwatchData = Schemas["Swatch"];

/** Lines are drawn so far apart, in px, that one can be told from the next. */
const PITCH = 13;
/** The light comes from above the strip, so low that a slope of one in two is in full light or in full shade. */
const LOW_LIGHT = 2;

/** Shade of each step across a line: above 0 in the light, below 0 in the shade, null where the plate shows. */
function shades(swatch: SwatchData): (number | null)[] {
  const { profile_mm: heights, pitch_mm } = swatch;
  const step = pitch_mm / heights.length;
  return heights.map((h, k) => {
    if (h <= 0) return null;
    const before = heights.at(k - 1) ?? h;
    const after = heights[(k + 1) % heights.length] ?? h;
    return Math.max(-1, Math.min(1, (((after - before) / (2 * step)) * LOW_LIGHT) / 1.2));
  });
}

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
  const loose = swatch.grade === "loose";
  const wavy = loose || swatch.grade === "barely";
  const steps = shades(swatch);
  const band = PITCH / steps.length;
  // A bead that touches no tip wanders: more, and with breaks, where it does not hold at all.
  const sway = loose ? 4.2 : wavy ? 1.8 : 0;
  const tile = wavy ? 52 : 26;
  const wave = (at: number) =>
    sway ? `M0 ${at}q${tile / 4} ${-sway * 2} ${tile / 2} 0t${tile / 2} 0` : `M0 ${at}H${tile}`;
  const clip = `${id}-edge`;
  return (
    <g transform={`translate(${x} ${y})`}>
      <defs>
        <clipPath id={clip}>
          <rect width={width} height={height} rx={2} />
        </clipPath>
        <pattern id={id} width={tile} height={PITCH} patternUnits="userSpaceOnUse" overflow="visible">
          {[-PITCH, 0, PITCH].flatMap((line) =>
            steps.map((shade, k) => {
              const at = line + (k + 0.5) * band;
              const stroke = { d: wave(at), fill: "none", strokeWidth: band * 1.5 };
              return shade === null ? null : (
                <g key={`${line} ${k}`}>
                  <path
                    {...stroke}
                    stroke="var(--plastic)"
                    strokeDasharray={loose ? `${tile * 0.8} ${tile * 0.2}` : ""}
                  />
                  <path
                    {...stroke}
                    stroke={shade > 0 ? "var(--lit)" : "var(--shade)"}
                    strokeOpacity={Math.abs(shade) * (shade > 0 ? 0.75 : 0.7)}
                    strokeDasharray={loose ? `${tile * 0.8} ${tile * 0.2}` : ""}
                  />
                </g>
              );
            }),
          )}
        </pattern>
      </defs>
      <g clipPath={`url(#${CSS.escape(clip)})`}>
        <rect width={width} height={height} fill="var(--plastic-gap)" />
        <rect width={width} height={height} fill={`url(#${CSS.escape(id)})`} opacity={1 - swatch.shows_through} />
        {swatch.grade === "starved" && <Tears width={width} height={height} />}
      </g>
      <rect width={width} height={height} rx={2} fill="none" stroke="var(--ink)" strokeWidth="0.8" />
    </g>
  );
}

/** Where the tip had no room to lay anything, or tore it up again: ragged holes along the lines. */
function Tears({ width, height }: { width: number; height: number }) {
  const holes = [
    [0.04, 0.1, 0.3],
    [0.42, 0.3, 0.36],
    [0.1, 0.56, 0.42],
    [0.62, 0.74, 0.34],
    [0.7, 0.04, 0.26],
  ] as const;
  return holes.map(([left, top, long]) => {
    const [a, b, w] = [left * width, top * height, long * width];
    const ragged = [0.2, 0.45, 0.7, 1].map((t, k) => `L${a + t * w} ${b + (k % 2 ? 3.5 : -1.5)}`).join("");
    const back = [0.75, 0.5, 0.25, 0].map((t, k) => `L${a + t * w} ${b + 7 + (k % 2 ? -2 : 3)}`).join("");
    return (
      <path
        key={left}
        d={`M${a} ${b}${ragged}${back}Z`}
        fill="var(--plastic-gap)"
        stroke="var(--shade)"
        strokeOpacity="0.5"
      />
    );
  });
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
