/** What is being told of one zone beside its grade, before it is kept. */
import type { Schemas } from "../../api/client";
import { typedNumber } from "../../ui/words";

export interface Told {
  signs: readonly Schemas["Sign"]["id"][];
  /** As typed, mm: the patch's thickness, how much too low a part is, how much too wide its foot. */
  caliper: string;
  short: string;
  foot: string;
}

export const NOTHING_TOLD: Told = { signs: [], caliper: "", short: "", foot: "" };

/** Whether anything was told of how a zone came out. */
export const wasJudged = (z: Schemas["ZoneView"]) =>
  z.grade !== null || z.caliper_mm !== null || z.signs.length > 0 || z.open;

export const mmOf = (text: string) => (text.trim() ? typedNumber(text) : null);

/** A sentence beside each field that holds no length of that kind. */
export function wrongMeasures(told: Told) {
  const wrong = (text: string, least: number, most: number, say: string) => {
    const mm = typedNumber(text);
    return text.trim() && (mm === null || mm < least || mm > most) ? say : null;
  };
  return {
    caliper: wrong(told.caliper, 1e-6, 20, "Give the thickness in mm, such as 0.21."),
    short: wrong(told.short, -0.5, 0.5, "Give up to 0.5 mm, such as 0.05."),
    foot: wrong(told.foot, 0, 2, "Give up to 2 mm for one side, such as 0.1."),
  };
}
