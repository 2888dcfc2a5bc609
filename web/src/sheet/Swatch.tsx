/** A strip of first layer under low light, shaded from the bead model's height profile; and the same beads in section. */
import { type CSSProperties, useId } from "react";
import type { Schemas } from "../api/client";

type SwatchData = Schemas["Swatch"];

/** What is drawn of plastic below an element, in a filament's own colour, its light and its shade. */
export function plasticOf(colour: string): CSSProperties {
  return {
    "--plastic": colour,
    "--lit": `color-mix(in srgb, ${colour} 35%, white)`,
    "--shade": `color-mix(in srgb, ${colour} 30%, black)`,
  } as CSSProperties;
}

export type Side = "top" | "under";

/** Lines are drawn so far apart, in px, that one can be told from the next. */
const PITCH = 13;
/** The light comes from above the strip, so low that a slope of one in two is in full light or in full shade. */
const LOW_LIGHT = 2;
/** An underside that stands off the plate by so much, in mm, lies in full shade. */
const DARK_MM = 0.05;

/** Shade of each step across a line: above 0 in the light, below 0 in the shade, null where the plate shows. */
function shades(swatch: SwatchData, side: Side): (number | null)[] {
  if (side === "under")
    return swatch.under_mm.map((off) => (off === null ? null : 0.25 - 0.95 * Math.min(off / DARK_MM, 1)));
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
  side = "top",
  pitch = PITCH,
}: {
  swatch: SwatchData;
  width: number;
  height: number;
  x?: number;
  y?: number;
  side?: Side;
  /** How far apart the lines are drawn, in px. */
  pitch?: number;
}) {
  const id = useId();
  const loose = swatch.grade === "loose";
  const wavy = loose || swatch.grade === "barely";
  const steps = shades(swatch, side);
  const band = pitch / steps.length;
  // A bead that touches no tip wanders: more, and with breaks, where it does not hold at all.
  const sway = pitch * (loose ? 0.32 : wavy ? 0.14 : 0);
  const tile = pitch * (wavy ? 4 : 2);
  const wave = (at: number) =>
    sway ? `M0 ${at}q${tile / 4} ${-sway * 2} ${tile / 2} 0t${tile / 2} 0` : `M0 ${at}H${tile}`;
  const [edge, lines, tears] = [`${id}-edge`, `${id}-lines`, `${id}-tears`];
  const through = side === "top" ? swatch.shows_through : 0;
  return (
    <g transform={`translate(${x} ${y})`}>
      <defs>
        <clipPath id={edge}>
          <rect width={width} height={height} rx={2} />
        </clipPath>
        <pattern id={lines} width={tile} height={pitch} patternUnits="userSpaceOnUse" overflow="visible">
          {[-pitch, 0, pitch].flatMap((line) =>
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
        {swatch.grade === "starved" && (
          <pattern id={tears} width={10 * pitch} height={3 * pitch} patternUnits="userSpaceOnUse">
            <Tears pitch={pitch} />
          </pattern>
        )}
      </defs>
      <g clipPath={`url(#${CSS.escape(edge)})`}>
        <rect width={width} height={height} fill="var(--plastic-gap)" />
        <rect width={width} height={height} fill={`url(#${CSS.escape(lines)})`} opacity={1 - through} />
        {swatch.grade === "starved" && <rect width={width} height={height} fill={`url(#${CSS.escape(tears)})`} />}
      </g>
      <rect
        width={width}
        height={height}
        rx={2}
        fill="none"
        stroke="var(--ink)"
        strokeWidth={Math.min(0.8, pitch / 16)}
      />
    </g>
  );
}

/** Where the tip had no room to lay anything, or tore it up again: ragged holes along the lines. */
function Tears({ pitch }: { pitch: number }) {
  const holes = [
    [0.4, 0.3, 3],
    [4.2, 0.9, 3.6],
    [1, 1.7, 4.2],
    [6.2, 2.2, 3.4],
    [7, 0.1, 2.6],
  ] as const;
  return holes.map(([left, top, long]) => {
    const at = (x: number, y: number) => `${x * pitch} ${y * pitch}`;
    const ragged = [0.2, 0.45, 0.7, 1].map((t, k) => `L${at(left + t * long, top + (k % 2 ? 0.27 : -0.12))}`).join("");
    const back = [0.75, 0.5, 0.25, 0]
      .map((t, k) => `L${at(left + t * long, top + 0.54 + (k % 2 ? -0.15 : 0.23))}`)
      .join("");
    return (
      <path
        key={left}
        d={`M${at(left, top)}${ragged}${back}Z`}
        fill="var(--plastic-gap)"
        stroke="var(--shade)"
        strokeOpacity="0.5"
      />
    );
  });
}

/** Beads in section are drawn so large, in px for a mm, where there is room. */
const SECTION_PER_MM = 58;
/** Far above the plate a bead is drawn no further off than this, in mm. */
const MOST_LIFTED_MM = 0.12;

/** The scale at which all of these, thick lines of a wide nozzle as well, stay below so many px. */
export function sectionScale(swatches: readonly SwatchData[], most: number): number {
  const highest = Math.max(...swatches.map((s) => s.height_mm));
  return Math.min(SECTION_PER_MM, most / (highest + MOST_LIFTED_MM));
}

/** Neighbouring lines cut across, on the plate, drawn to the bead model's width and height. */
export function Section({
  swatch,
  x,
  y,
  label = "",
  unknown = false,
  lines = 4,
  perMm = SECTION_PER_MM,
  thin = false,
}: {
  swatch: SwatchData;
  x: number;
  y: number;
  label?: string;
  unknown?: boolean;
  lines?: number;
  perMm?: number;
  /** Drawn in mm, not in px. */
  thin?: boolean;
}) {
  const edge = 0.14 * perMm;
  const w = swatch.line_mm * perMm;
  const h = swatch.height_mm * perMm;
  const pitch = swatch.pitch_mm * perMm;
  const lifted = Math.min(Math.max(swatch.gap_mm - swatch.height_mm, 0), MOST_LIFTED_MM) * perMm;
  return (
    <g transform={`translate(${x} ${y})`}>
      {Array.from({ length: lines }, (_, k) => k).map((k) => (
        <rect
          key={k}
          x={edge + k * pitch + (pitch - w) / 2}
          y={-h - lifted}
          width={w}
          height={h}
          rx={h / 2}
          fill={unknown ? "none" : "var(--plastic)"}
          stroke={unknown ? "var(--graphite)" : "var(--ink)"}
          strokeDasharray={unknown ? "2 3" : undefined}
          strokeWidth={thin ? 0.2 : 0.9}
        />
      ))}
      <path d={`M0 0H${2 * edge + lines * pitch}`} stroke="var(--ink)" strokeWidth={thin ? 0.3 : 1.5} />
      <text className="svg-words" x={2 * edge + 6 + lines * pitch} y={-3}>
        {label}
      </text>
    </g>
  );
}
