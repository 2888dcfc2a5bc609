import { describe, expect, it } from "vitest";
import { mmOf, NOTHING_TOLD, wrongMeasures } from "./told";

describe("what is told of a zone beside its grade", () => {
  it("takes nothing for nothing, and a comma for a point", () => {
    expect(wrongMeasures(NOTHING_TOLD)).toEqual({ caliper: null, short: null, foot: null });
    expect(mmOf("  ")).toBeNull();
    expect(mmOf("0,21")).toBeCloseTo(0.21);
  });

  it.each([
    ["caliper", "fat"],
    ["caliper", "0"],
    ["caliper", "200"],
    ["short", "5"],
    ["short", "-0.6"],
    ["foot", "-0.1"],
    ["foot", "1e9"],
  ] as const)("says beside %s what would do for %s", (field, text) => {
    const wrong = wrongMeasures({ ...NOTHING_TOLD, [field]: text });
    expect(wrong[field]).toContain("Give");
    expect(Object.values(wrong).filter(Boolean)).toHaveLength(1);
  });

  it.each([
    ["caliper", "0.21"],
    ["short", "-0.05"],
    ["foot", "0"],
  ] as const)("takes %s of %s", (field, text) => {
    expect(wrongMeasures({ ...NOTHING_TOLD, [field]: text })[field]).toBeNull();
  });
});
