/** Where things lie on the drawing: plan, front elevation below it, side elevation to its right, in register. */
import { scaleLinear } from "d3-scale";

export const PLAN = { x: 60, y: 24, size: 400 };
export const SIDE_GAP = 26;
export const SIDE = 112;
export const FRONT_GAP = 34;
export const FRONT = 116;
export const WIDTH = 632;
export const HEIGHT = 612;

export interface Frame {
  px: (xMm: number) => number;
  py: (yMm: number) => number;
  mmX: (px: number) => number;
  mmY: (py: number) => number;
  plan: { x: number; y: number; w: number; h: number };
  front: { x: number; y: number; w: number; h: number };
  side: { x: number; y: number; w: number; h: number };
}

/** `bounds` x0, y0, x1, y1 in mm. The plate keeps its proportions. */
export function frameOf(bounds: readonly number[]): Frame {
  const [x0 = 0, y0 = 0, x1 = 1, y1 = 1] = bounds;
  const scale = PLAN.size / Math.max(x1 - x0, y1 - y0);
  const w = (x1 - x0) * scale;
  const h = (y1 - y0) * scale;
  const plan = { x: PLAN.x, y: PLAN.y + (PLAN.size - h), w, h };
  const px = scaleLinear([x0, x1], [plan.x, plan.x + w]);
  const py = scaleLinear([y0, y1], [plan.y + h, plan.y]);
  return {
    px,
    py,
    mmX: px.invert,
    mmY: py.invert,
    plan,
    front: { x: plan.x, y: PLAN.y + PLAN.size + FRONT_GAP, w, h: FRONT },
    side: { x: plan.x + w + SIDE_GAP, y: plan.y, w: SIDE, h },
  };
}

/** Round places for the axis: 0, 100, 200 or finer on a small plate. */
export function ticks(from: number, to: number): number[] {
  return scaleLinear([from, to], [0, 1]).ticks(3);
}
