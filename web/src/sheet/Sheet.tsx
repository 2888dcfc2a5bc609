/**
 * The drawing that every station puts on the table: plan, both elevations, title block.
 * It knows numbers and places, nothing of the API's calls. `onPlace` is called with mm on the plate.
 */
import { type PointerEvent, type ReactNode, useMemo, useState, useSyncExternalStore } from "react";
import type { Schemas } from "../api/client";
import { type SeenFrom, signed } from "../ui/words";
import { Elevation } from "./Elevation";
import { box, classAt, FieldLayer, Hatches, LEGEND } from "./Field";
import { type Frame, frameOf, HEIGHT, ticks, WIDTH } from "./frame";
import { Knob } from "./Knob";

interface Props {
  sheet: Schemas["Sheet"];
  from: SeenFrom;
  title: string;
  /** More on the plan: zones, for one. */
  children?: (frame: Frame) => ReactNode;
  /** Places in mm where that more writes numbers. */
  writes?: readonly (readonly [number, number])[];
  /** More below the drawing. */
  below?: ReactNode;
  /** A point was tapped. */
  onSpot?: (spot: Schemas["Spot"]) => void;
}

/** A place on an axis, with a true minus. */
const axis = (mm: number) => String(mm).replace("-", "−");

const NOTHING: readonly (readonly [number, number])[] = [];

export function Sheet({ sheet, from, title, children, writes = NOTHING, below, onSpot }: Props) {
  const frame = useMemo(() => frameOf(sheet.bounds_mm), [sheet.bounds_mm]);
  const taken = useMemo(
    () => [...[...sheet.spots, ...sheet.knobs].map((s) => [s.x_mm, s.y_mm] as const), ...writes],
    [sheet.spots, sheet.knobs, writes],
  );
  const [hover, setHover] = useState<{ x?: number; y?: number } | null>(null);
  const narrow = useNarrow();
  // On a phone the plan alone, and small; a tap shows the whole drawing.
  const [whole, setWhole] = useState(false);
  const small = narrow && !whole;
  const { plan } = frame;
  const [x0, y0, x1, y1] = sheet.bounds_mm;

  const point = (event: PointerEvent<SVGSVGElement>) => {
    const svg = event.currentTarget;
    const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM()?.inverse());
    const inX = at.x >= plan.x && at.x <= plan.x + plan.w;
    const inY = at.y >= plan.y && at.y <= plan.y + plan.h;
    const inFront = inX && at.y >= frame.front.y && at.y <= frame.front.y + frame.front.h;
    const inSide = inY && at.x >= frame.side.x && at.x <= frame.side.x + frame.side.w;
    if (inX && inY) setHover({ x: frame.mmX(at.x), y: frame.mmY(at.y) });
    else if (inFront) setHover({ x: frame.mmX(at.x) });
    else if (inSide) setHover({ y: frame.mmY(at.y) });
    else setHover(null);
  };
  const round = sheet.shape === "round";
  const corner = { x: frame.side.x, y: frame.front.y, w: frame.side.w, h: frame.front.h };
  const spoken = `${title}. ${sheet.figures.map((f) => `${f.name} ${f.value} ${f.unit} ${f.plus_minus}`).join(", ")}. ${sheet.field?.said ?? ""}`;
  return (
    <div className="relative h-full max-lg:h-auto">
      <svg
        viewBox={
          small
            ? `${plan.x - 14} ${plan.y - 8} ${plan.w + 28} ${plan.h + 16}`
            : `0 0 ${WIDTH} ${HEIGHT + (below ? 80 : 44)}`
        }
        className={`mx-auto block w-full ${small ? "h-[19dvh]" : "h-full max-h-full sm:max-lg:h-[42dvh]"}`}
        role="img"
        aria-label={spoken}
        onPointerMove={point}
        onPointerLeave={() => setHover(null)}
        data-testid="sheet"
      >
        <Hatches />
        <clipPath id="plate">
          {round ? (
            <ellipse cx={plan.x + plan.w / 2} cy={plan.y + plan.h / 2} rx={plan.w / 2} ry={plan.h / 2} />
          ) : (
            <rect {...box(plan)} rx={8} />
          )}
        </clipPath>
        {sheet.field && <FieldLayer field={sheet.field} frame={frame} clip="plate" taken={taken} />}
        {round ? (
          <ellipse
            cx={plan.x + plan.w / 2}
            cy={plan.y + plan.h / 2}
            rx={plan.w / 2}
            ry={plan.h / 2}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="2"
          />
        ) : (
          <rect {...box(plan)} rx={8} fill="none" stroke="var(--ink)" strokeWidth="2" />
        )}
        {sheet.keep_outs.map((k) => (
          <g key={k.name}>
            <rect
              x={frame.px(k.x_min_mm)}
              y={frame.py(k.y_max_mm)}
              width={frame.px(k.x_max_mm) - frame.px(k.x_min_mm)}
              height={frame.py(k.y_min_mm) - frame.py(k.y_max_mm)}
              fill="var(--paper)"
              stroke="var(--ink)"
            />
            <path
              d={`M${frame.px(k.x_min_mm)} ${frame.py(k.y_min_mm)}L${frame.px(k.x_max_mm)} ${frame.py(k.y_max_mm)}M${frame.px(k.x_min_mm)} ${frame.py(k.y_max_mm)}L${frame.px(k.x_max_mm)} ${frame.py(k.y_min_mm)}`}
              stroke="var(--graphite)"
            />
          </g>
        ))}
        {!small &&
          ticks(x0, x1).map((t) => (
            <g key={`x${t}`}>
              <path d={`M${frame.px(t)} ${plan.y + plan.h}v6`} stroke="var(--graphite)" />
              <text className="svg-words" x={frame.px(t)} y={plan.y + plan.h + 18} textAnchor="middle">
                {axis(t)}
              </text>
            </g>
          ))}
        {!small &&
          ticks(y0, y1).map((t) => (
            <g key={`y${t}`}>
              <path d={`M${plan.x} ${frame.py(t)}h-6`} stroke="var(--graphite)" />
              <text className="svg-words" x={plan.x - 10} y={frame.py(t) + 4} textAnchor="end">
                {axis(t)}
              </text>
            </g>
          ))}
        {children?.(frame)}
        {sheet.spots.map((s) => (
          <SpotMark key={`${s.x_mm},${s.y_mm}`} spot={s} frame={frame} onPick={onSpot && (() => onSpot(s))} />
        ))}
        {/* The knob at work last: its label lies on top. */}
        {[...sheet.knobs]
          .sort((a, b) => Number(a.next) - Number(b.next))
          .map((k) => (
            <Knob
              key={k.name}
              knob={k}
              x={frame.px(k.x_mm)}
              y={frame.py(k.y_mm)}
              from={from}
              tol={sheet.field?.tol_mm ?? 0.03}
              scale={narrow ? 1.5 : 1}
              named={k.next || !narrow || sheet.knobs.length <= 6}
              edge={{ left: plan.x - 30, right: plan.x + plan.w + 12, below: k.y_mm > (y0 + y1) / 2 }}
            />
          ))}
        {hover && <HoverMark hover={hover} frame={frame} field={sheet.field} />}
        {sheet.field && !small && (
          <>
            <Elevation field={sheet.field} frame={frame} side="front" hover={hover} />
            <Elevation field={sheet.field} frame={frame} side="side" hover={hover} />
          </>
        )}
        {!small && <TitleBlock at={corner} figures={sheet.figures} />}
        {sheet.field && !small && (
          <Legend
            y={frame.front.y + frame.front.h + 18}
            x={plan.x}
            tol={sheet.field.tol_mm}
            against={sheet.field.against}
          />
        )}
        {below && !small && <g transform={`translate(${plan.x} ${HEIGHT + 52})`}>{below}</g>}
      </svg>
      {narrow && (
        <button
          type="button"
          className="absolute right-0 bottom-0 min-h-11 w-16 text-right text-sm leading-tight text-graphite underline underline-offset-4"
          onClick={() => setWhole(!whole)}
        >
          {whole ? "plan only" : "whole drawing"}
        </button>
      )}
    </div>
  );
}

/** Whether the page is as narrow as a phone. */
function useNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      NARROW.addEventListener("change", changed);
      return () => NARROW.removeEventListener("change", changed);
    },
    () => NARROW.matches,
  );
}
const NARROW = window.matchMedia("(max-width: 640px)");

function SpotMark({ spot, frame, onPick }: { spot: Schemas["Spot"]; frame: Frame; onPick?: () => void }) {
  const x = frame.px(spot.x_mm);
  const y = frame.py(spot.y_mm);
  const value = spot.value_mm ?? null;
  return (
    <g>
      {spot.kind === "next" ? (
        <circle cx={x} cy={y} r={10} fill="none" stroke="var(--brass)" strokeWidth="3" />
      ) : spot.kind === "waiting" ? (
        <circle cx={x} cy={y} r={4} fill="var(--paper)" stroke="var(--graphite)" strokeDasharray="2 2" />
      ) : spot.kind === "believed" ? (
        <path d={`M${x - 5} ${y}h10M${x} ${y - 5}v10`} stroke="var(--graphite)" />
      ) : (
        <circle cx={x} cy={y} r={4} fill="var(--ink)" />
      )}
      {spot.kind === "doubtful" && <circle cx={x} cy={y} r={9} fill="none" stroke="var(--brass)" strokeWidth="2" />}
      {value !== null && (
        <text
          className="svg-number halo"
          fillOpacity={spot.kind === "believed" ? 0.65 : undefined}
          x={x}
          y={y - (spot.kind === "next" ? 15 : spot.kind === "doubtful" ? 13 : 9)}
          textAnchor="middle"
        >
          {signed(value)}
          {spot.kind === "doubtful" ? " ?" : ""}
        </text>
      )}
      {spot.label && (
        <text className="svg-words halo" x={x + 14} y={y + 14}>
          {spot.label}
        </text>
      )}
      {onPick && (
        // biome-ignore lint/a11y/noStaticElementInteractions: the same points stand in a list beside the sheet.
        <circle cx={x} cy={y} r={20} fill="transparent" className="cursor-pointer" onClick={onPick} />
      )}
    </g>
  );
}

function HoverMark({
  hover,
  frame,
  field,
}: {
  hover: { x?: number; y?: number };
  frame: Frame;
  field: Schemas["HeightField"] | null;
}) {
  const { plan } = frame;
  const x = hover.x === undefined ? null : frame.px(hover.x);
  const y = hover.y === undefined ? null : frame.py(hover.y);
  const value = field && hover.x !== undefined && hover.y !== undefined ? nearest(field, hover.x, hover.y) : null;
  return (
    <g pointerEvents="none" data-testid="hover">
      {x !== null && <path d={`M${x} ${plan.y}v${plan.h}`} stroke="var(--brass)" />}
      {y !== null && <path d={`M${plan.x} ${y}h${plan.w}`} stroke="var(--brass)" />}
      {x !== null && y !== null && value && (
        <text
          className="svg-number halo"
          x={x < plan.x + plan.w / 2 ? x + 8 : x - 8}
          y={y < plan.y + 20 ? y + 18 : y - 8}
          textAnchor={x < plan.x + plan.w / 2 ? "start" : "end"}
        >
          {value.name}, {signed(value.mean)} ±{value.sd.toFixed(2)}
        </text>
      )}
    </g>
  );
}

function nearest(field: Schemas["HeightField"], x: number, y: number) {
  const pick = (axis: readonly number[], v: number) =>
    axis.reduce((best, a, i) => (Math.abs(a - v) < Math.abs((axis[best] ?? 0) - v) ? i : best), 0);
  const i = pick(field.xs_mm, x);
  const j = pick(field.ys_mm, y);
  return { mean: field.mean_mm[j]?.[i] ?? 0, sd: field.sd_mm[j]?.[i] ?? 0, name: classAt(field, i, j) };
}

function TitleBlock({
  at,
  figures,
}: {
  at: { x: number; y: number; w: number; h: number };
  figures: Schemas["Figure"][];
}) {
  const row = at.h / 2;
  return (
    <g>
      <rect {...box(at)} fill="var(--paper)" stroke="var(--ink)" strokeWidth="1.5" />
      <path d={`M${at.x} ${at.y + row}h${at.w}`} stroke="var(--ink)" />
      {figures.slice(0, 2).map((f, k) => (
        <g key={f.name}>
          <text className="svg-words" x={at.x + 9} y={at.y + k * row + 17}>
            {f.name}
          </text>
          <text
            x={at.x + 9}
            y={at.y + k * row + 46}
            style={{ fontFamily: "var(--font-mono)", fontWeight: 600, fontSize: 20, fill: "var(--ink)" }}
          >
            {f.value}
            <tspan style={{ fontFamily: "var(--font-sans)", fontSize: 13, fontWeight: 400, fill: "var(--graphite)" }}>
              {" "}
              {f.plus_minus || f.unit}
            </tspan>
          </text>
        </g>
      ))}
    </g>
  );
}

function Legend({ x, y, tol, against }: { x: number; y: number; tol: number; against: string }) {
  return (
    <g>
      {LEGEND.map((item, k) => (
        <g key={item.fill} transform={`translate(${x + k * 94} ${y})`}>
          <rect width={20} height={12} fill="var(--paper)" />
          <rect width={20} height={12} fill={item.fill} stroke="var(--hairline)" />
          <text className="svg-words" x={25} y={11} style={{ fontSize: 12 }}>
            {item.text}
          </text>
        </g>
      ))}
      <text className="svg-words" x={x} y={y + 29} style={{ fontSize: 12 }}>
        within: ±{tol.toFixed(2)} mm of {against}
      </text>
    </g>
  );
}
