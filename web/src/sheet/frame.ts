/** Where things lie on the drawing: plan, front elevation below it, side elevation to its right, in register. */
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

export interface Outline {
  shape: "rectangle" | "round";
  width_mm: number;
  depth_mm: number;
}

/** Where a plate lies in the machine's coordinates: x0, y0, x1, y1 in mm. A round one has its zero in the middle. */
export function boundsOf({ shape, width_mm: w, depth_mm: d }: Outline): [number, number, number, number] {
  return shape === "round" ? [-w / 2, -d / 2, w / 2, d / 2] : [0, 0, w, d];
}

/** `bounds` x0, y0, x1, y1 in mm. The plate keeps its proportions. */
export function frameOf(bounds: readonly number[]): Frame {
  const [x0 = 0, y0 = 0, x1 = 1, y1 = 1] = bounds;
  const scale = PLAN.size / Math.max(x1 - x0, y1 - y0);
  const w = (x1 - x0) * scale;
  const h = (y1 - y0) * scale;
  const plan = { x: PLAN.x, y: PLAN.y + (PLAN.size - h), w, h };
  const px = straight(x0, x1, plan.x, plan.x + w);
  const py = straight(y0, y1, plan.y + h, plan.y);
  return {
    px,
    py,
    mmX: straight(plan.x, plan.x + w, x0, x1),
    mmY: straight(plan.y + h, plan.y, y0, y1),
    plan,
    front: { x: plan.x, y: PLAN.y + PLAN.size + FRONT_GAP, w, h: FRONT },
    side: { x: plan.x + w + SIDE_GAP, y: plan.y, w: SIDE, h },
  };
}

/** The straight line that takes `a` to `at` and `b` to `bt`. */
export function straight(a: number, b: number, at: number, bt: number): (value: number) => number {
  const slope = a === b ? 0 : (bt - at) / (b - a);
  return (value) => at + (value - a) * slope;
}

/** Round places for an axis, about `wanted` of them: steps of 1, 2 or 5 times a power of ten. */
export function ticks(from: number, to: number, wanted = 3): number[] {
  const least = (to - from) / wanted;
  if (!(least > 0)) return [from];
  const ten = 10 ** Math.floor(Math.log10(least));
  const step = [1, 2, 5, 10].map((m) => m * ten).reduce((a, b) => (Math.abs(b - least) < Math.abs(a - least) ? b : a));
  const found: number[] = [];
  for (let k = Math.ceil(from / step); k * step <= to + step * 1e-9; k++)
    found.push(Number((k * step).toPrecision(12)));
  return found;
}

/** An SVG path through points. */
export function path(points: readonly (readonly [number, number])[]): string {
  return points.map(([x, y], k) => `${k ? "L" : "M"}${x},${y}`).join("");
}
