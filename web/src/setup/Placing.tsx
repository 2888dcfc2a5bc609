/** The plate on the sheet, to place things on: screws and keep-outs by pointing, dragging and arrow keys. */
import { type PointerEvent, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { box } from "../sheet/Field";
import { boundsOf, frameOf, ticks } from "../sheet/frame";

type Plate = Schemas["Plate"];
type Screw = Schemas["Screw"];
type KeepOut = Schemas["KeepOut"];

export interface PlacingProps {
  plate: Plate;
  screws: readonly Screw[];
  chosen: number | null;
  choose: (index: number | null) => void;
  move: (index: number, x: number, y: number) => void;
  add: (x: number, y: number) => void;
  addKeepOut: (k: Omit<KeepOut, "name">) => void;
  /** What pointing at an empty place does. */
  tool: "choose" | "screw" | "keep-out";
}

export function Placing({ plate, screws, chosen, choose, move, add, addKeepOut, tool }: PlacingProps) {
  const round = plate.shape === "round";
  const bounds = boundsOf(plate);
  const frame = frameOf(bounds);
  const [drag, setDrag] = useState<{ screw: number } | { x: number; y: number; toX: number; toY: number } | null>(null);
  const svg = useRef<SVGSVGElement>(null);
  const { plan } = frame;
  const placeOf = (e: PointerEvent) => {
    const at = new DOMPoint(e.clientX, e.clientY).matrixTransform(svg.current?.getScreenCTM()?.inverse());
    return { x: Math.round(frame.mmX(at.x)), y: Math.round(frame.mmY(at.y)) };
  };
  const down = (e: PointerEvent) => {
    const { x, y } = placeOf(e);
    const near = screws.findIndex(
      (s) => Math.hypot(frame.px(s.x_mm) - frame.px(x), frame.py(s.y_mm) - frame.py(y)) < 18,
    );
    svg.current?.setPointerCapture(e.pointerId);
    if (near >= 0) {
      choose(near);
      setDrag({ screw: near });
    } else if (tool === "screw") add(x, y);
    else if (tool === "keep-out") setDrag({ x, y, toX: x, toY: y });
    else choose(null);
  };
  const over = (e: PointerEvent) => {
    if (!drag) return;
    const { x, y } = placeOf(e);
    if ("screw" in drag) move(drag.screw, x, y);
    else setDrag({ ...drag, toX: x, toY: y });
  };
  const up = () => {
    if (drag && !("screw" in drag) && Math.abs(drag.toX - drag.x) >= 2 && Math.abs(drag.toY - drag.y) >= 2)
      addKeepOut({
        x_min_mm: Math.min(drag.x, drag.toX),
        x_max_mm: Math.max(drag.x, drag.toX),
        y_min_mm: Math.min(drag.y, drag.toY),
        y_max_mm: Math.max(drag.y, drag.toY),
      });
    setDrag(null);
  };
  const rect = (k: { x_min_mm: number; x_max_mm: number; y_min_mm: number; y_max_mm: number }) => ({
    x: frame.px(k.x_min_mm),
    y: frame.py(k.y_max_mm),
    width: frame.px(k.x_max_mm) - frame.px(k.x_min_mm),
    height: frame.py(k.y_min_mm) - frame.py(k.y_max_mm),
  });
  return (
    <svg
      ref={svg}
      viewBox="14 8 470 450"
      className="mx-auto block max-h-[60dvh] w-full touch-none"
      role="application"
      aria-label="Plate seen from above. Choose a screw and move it with the arrow keys; Shift for 10 mm."
      onPointerDown={down}
      onPointerMove={over}
      onPointerUp={up}
      data-testid="placing"
    >
      {round ? (
        <ellipse
          cx={plan.x + plan.w / 2}
          cy={plan.y + plan.h / 2}
          rx={plan.w / 2}
          ry={plan.h / 2}
          fill="var(--paper)"
          stroke="var(--ink)"
          strokeWidth="2"
        />
      ) : (
        <rect {...box(plan)} rx={8} fill="var(--paper)" stroke="var(--ink)" strokeWidth="2" />
      )}
      {ticks(bounds[0], bounds[2]).map((t) => (
        <text key={`x${t}`} className="svg-words" x={frame.px(t)} y={plan.y + plan.h + 18} textAnchor="middle">
          {t}
        </text>
      ))}
      {ticks(bounds[1], bounds[3]).map((t) => (
        <text key={`y${t}`} className="svg-words" x={plan.x - 10} y={frame.py(t) + 4} textAnchor="end">
          {t}
        </text>
      ))}
      {plate.keep_outs.map((k) => (
        <g key={k.name}>
          <rect {...rect(k)} fill="var(--ivory)" stroke="var(--ink)" strokeDasharray="4 2" />
          <text className="svg-words halo" x={frame.px(k.x_min_mm) + 3} y={frame.py(k.y_max_mm) + 13}>
            {k.name}
          </text>
        </g>
      ))}
      {drag && !("screw" in drag) && (
        <rect
          {...rect({
            x_min_mm: Math.min(drag.x, drag.toX),
            x_max_mm: Math.max(drag.x, drag.toX),
            y_min_mm: Math.min(drag.y, drag.toY),
            y_max_mm: Math.max(drag.y, drag.toY),
          })}
          fill="none"
          stroke="var(--brass)"
          strokeWidth="2"
        />
      )}
      {screws.map((s, k) => (
        <g
          key={k}
          role="button"
          tabIndex={0}
          aria-label={`${s.name}, x ${s.x_mm}, y ${s.y_mm}`}
          aria-pressed={chosen === k}
          onFocus={() => choose(k)}
          onKeyDown={(e) => {
            const by = e.shiftKey ? 10 : 1;
            const step = { ArrowLeft: [-by, 0], ArrowRight: [by, 0], ArrowUp: [0, by], ArrowDown: [0, -by] }[e.key];
            if (!step) return;
            e.preventDefault();
            move(k, s.x_mm + (step[0] ?? 0), s.y_mm + (step[1] ?? 0));
          }}
        >
          <circle
            cx={frame.px(s.x_mm)}
            cy={frame.py(s.y_mm)}
            r={14}
            fill="var(--paper)"
            stroke={chosen === k ? "var(--brass)" : "var(--ink)"}
            strokeWidth={chosen === k ? 3 : 1.5}
          />
          <path
            d={`M${frame.px(s.x_mm) - 5} ${frame.py(s.y_mm)}h10m-5 -5v10`}
            stroke="var(--graphite)"
            pointerEvents="none"
          />
          <text
            className="svg-words halo"
            x={frame.px(s.x_mm)}
            y={frame.py(s.y_mm) + (s.y_mm > (bounds[1] + bounds[3]) / 2 ? 30 : -20)}
            textAnchor="middle"
          >
            {s.name} ({s.x_mm}, {s.y_mm})
          </text>
        </g>
      ))}
    </svg>
  );
}
