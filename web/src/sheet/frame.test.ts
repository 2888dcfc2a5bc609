import { expect, test } from "vitest";
import { boundsOf, frameOf, PLAN, path, straight, ticks } from "./frame";

test("a plate keeps its proportions and stands on the line of the front elevation", () => {
  const frame = frameOf([0, 0, 240, 120]);
  expect(frame.plan.w).toBe(PLAN.size);
  expect(frame.plan.h).toBe(PLAN.size / 2);
  expect(frame.px(0)).toBe(frame.plan.x);
  expect(frame.py(0)).toBe(frame.plan.y + frame.plan.h);
  expect(frame.py(120)).toBe(frame.plan.y);
  for (const mm of [0, 33, 240]) expect(frame.mmX(frame.px(mm))).toBeCloseTo(mm);
  for (const mm of [0, 33, 120]) expect(frame.mmY(frame.py(mm))).toBeCloseTo(mm);
});

test("a rectangle begins at its corner", () => {
  expect(boundsOf({ shape: "rectangle", width_mm: 240, depth_mm: 120 })).toEqual([0, 0, 240, 120]);
});

test("a round plate around zero is drawn as one", () => {
  const frame = frameOf(boundsOf({ shape: "round", width_mm: 220, depth_mm: 220 }));
  expect(frame.px(0)).toBeCloseTo(frame.plan.x + frame.plan.w / 2);
});

test.each([
  [0, 244, [0, 100, 200]],
  [0, 120, [0, 50, 100]],
  [-110, 110, [-100, -50, 0, 50, 100]],
  [0.012, 0.048, [0.02, 0.03, 0.04]],
  [5, 5, [5]],
])("axis from %s to %s", (from, to, wanted) => expect(ticks(from, to)).toEqual(wanted));

test("a line of nothing is nothing, and one value has no slope", () => {
  expect(path([])).toBe("");
  expect(
    path([
      [1, 2],
      [3, 4],
    ]),
  ).toBe("M1,2L3,4");
  expect(straight(2, 2, 7, 9)(2)).toBe(7);
});
