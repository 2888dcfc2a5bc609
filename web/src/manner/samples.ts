import type { Word, WordShown } from "../api/manner";
import { typedNumber } from "../ui/words";
import type { Spot } from "./Marked";

export const FIELD_NAMES: Record<string, string> = {
  bed: "the plate now",
  bed_target: "the plate as told",
  tip: "the tip now",
  tip_target: "the tip as told",
  x: "X",
  y: "Y",
  z: "Z",
  value: "the stored value",
  prints: "prints made",
  line: "the line's number",
  front_left: "front left",
  front_right: "front right",
  back_left: "back left",
  text: "the reason begins here",
};

export const nameOf = (field: string) => FIELD_NAMES[field] ?? field;

export interface Sample {
  text: string;
  bare: string;
  pointed: Record<string, Spot>;
  numbers: Record<string, string>;
}

export const EMPTY: Sample = { text: "", bare: "", pointed: {}, numbers: {} };

export const STATES = ["open", "closed"] as const;

export const isTold = (word: Word) => word.kind === "line" || word.kind === "dress";

/** What was shown last, as it was typed. */
export function samplesOf(word: Word): Sample[] {
  const told = word.shown.told.map((t) => ({ ...EMPTY, text: t.line, bare: String(t.values.line ?? "") }));
  const said = word.shown.said.map((s) => ({
    ...EMPTY,
    text: s.text,
    pointed: Object.fromEntries(
      Object.entries(s.pointed).map(([f, p]) => [f, { start: p.start, end: p.end, says: nameOf(f) }]),
    ),
    numbers: Object.fromEntries(Object.entries(s.values).map(([f, v]) => [f, String(v)])),
  }));
  const found = isTold(word) ? told : said;
  const least = word.kind === "state" || word.kind === "dress" ? 2 : 1;
  return [...found, ...Array<Sample>(Math.max(0, least - found.length)).fill(EMPTY)];
}

/** The samples as they are sent; empty ones are left out. */
export function shownOf(word: Word, samples: Sample[], chosen: string | null): WordShown {
  const full = samples.map((s, k) => ({ ...s, k })).filter((s) => s.text.trim());
  if (isTold(word))
    return {
      told: full.map((s) => ({
        line: s.text,
        values: word.kind === "dress" ? { line: s.bare } : (word.values[s.k] ?? {}),
      })),
      said: [],
      chosen,
      without: false,
    };
  return {
    told: [],
    said: full.map((s) => ({
      text: s.text,
      values:
        word.kind === "state"
          ? { state: STATES[s.k % 2] ?? "open" }
          : Object.fromEntries(
              Object.entries(s.numbers).flatMap(([f, v]) => {
                const n = typedNumber(v);
                return n === null ? [] : [[f, n]];
              }),
            ),
      pointed: Object.fromEntries(Object.entries(s.pointed).map(([f, p]) => [f, { start: p.start, end: p.end }])),
    })),
    chosen,
    without: false,
  };
}
