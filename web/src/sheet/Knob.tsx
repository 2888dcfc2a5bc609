/** A knob as a dial with a tick for each of its marks; the arc with its arrowhead is the turn to make, as seen from where one looks. */
import type { Schemas } from "../api/client";
import { fraction, type SeenFrom, signed, way } from "../ui/words";

const R = 24;

export function Knob({
  knob,
  x,
  y,
  from,
  tol,
  edge,
  scale,
  named,
}: {
  knob: Schemas["KnobMark"];
  x: number;
  y: number;
  from: SeenFrom;
  tol: number;
  edge: { left: number; right: number; below: boolean };
  /** Larger on a phone, where the whole drawing is small. */
  scale: number;
  /** Many labels on a small drawing would hide one another: then only the knob at hand has one. */
  named: boolean;
}) {
  const known = knob.visited && knob.sd_mm < 0.15;
  const out = known && Math.abs(knob.height_mm) > tol;
  const colour = !known
    ? "var(--graphite)"
    : out
      ? knob.height_mm > 0
        ? "var(--madder)"
        : "var(--slate)"
      : "var(--verdigris)";
  // A count that is only expected is told in whole marks, as the slip tells it.
  const marks = knob.about ? Math.round(knob.marks ?? 0) : (knob.marks ?? 0);
  const moves = knob.moves_mm ?? 0;
  const label =
    Math.abs(moves) >= 0.005
      ? `${knob.name} ${moves > 0 ? "↑" : "↓"} ${Math.abs(moves).toFixed(2)}`
      : marks && knob.next
        ? `${knob.name} · ${knob.about ? "about " : ""}${fraction(marks, knob.per_turn)}`
        : knob.name;
  const width = label.length * 6.1 + 16;
  // Everything is placed around the knob, in the knob's own scale.
  const at = (v: number, knobAt: number) => knobAt + (v - knobAt) / scale;
  const lx = Math.min(Math.max(x - width / 2, at(edge.left, x)), at(edge.right, x) - width);
  const ly = edge.below ? y + R + 8 : y - R - 30;
  return (
    <g transform={`translate(${x * (1 - scale)} ${y * (1 - scale)}) scale(${scale})`}>
      <circle
        cx={x}
        cy={y}
        r={R}
        fill="var(--paper)"
        stroke={knob.next ? "var(--brass)" : "var(--ink)"}
        strokeWidth={knob.next ? 3 : 1.5}
      />
      {Array.from({ length: knob.per_turn }, (_, k) => {
        const a = (k / knob.per_turn) * 2 * Math.PI;
        const inner = (4 * k) % knob.per_turn === 0 ? R - 6 : R - 3.5;
        return (
          <path
            key={a}
            d={`M${x + Math.sin(a) * inner} ${y - Math.cos(a) * inner}L${x + Math.sin(a) * R} ${y - Math.cos(a) * R}`}
            stroke="var(--graphite)"
          />
        );
      })}
      {marks !== 0 && <TurnArc x={x} y={y} turns={marks / knob.per_turn} from={from} />}
      <text x={x} y={y + 4.5} textAnchor="middle" className="svg-number halo" style={{ fill: colour, fontSize: 12 }}>
        {known ? signed(knob.height_mm) : "?"}
      </text>
      {named ? (
        <>
          <rect x={lx} y={ly} width={width} height={20} rx={3} fill="var(--paper)" stroke="var(--hairline)" />
          <text
            x={lx + width / 2}
            y={ly + 14}
            textAnchor="middle"
            className="svg-words"
            style={{ fill: "var(--ink)", fontSize: 12 }}
          >
            {label}
          </text>
        </>
      ) : (
        <title>{label}</title>
      )}
    </g>
  );
}

function TurnArc({ x, y, turns, from }: { x: number; y: number; turns: number; from: SeenFrom }) {
  const r = R + 6;
  const clockwise = way(turns, from) === "clockwise";
  const share = Math.min(Math.max(Math.abs(turns), 1 / 8), 15 / 16);
  const a = share * 2 * Math.PI * (clockwise ? 1 : -1);
  const end = `${x + Math.sin(a) * r} ${y - Math.cos(a) * r}`;
  return (
    <path
      d={`M${x} ${y - r}A${r} ${r} 0 ${share > 0.5 ? 1 : 0} ${clockwise ? 1 : 0} ${end}`}
      fill="none"
      stroke="var(--ink)"
      strokeWidth="3"
      markerEnd="url(#turn-head)"
    />
  );
}
