import { expect, test } from "vitest";
import { fraction, many, type SeenFrom, signed, turnWords, typedMm, typedNumber, way } from "./words";
import cases from "./words.cases.json";

// The same table is held against `core/words.py`: a number reads the same on the page and in a kept row.
test.each(cases.signed)("$mm is written $text", ({ mm, digits, text }) => expect(signed(mm, digits)).toBe(text));
test.each(cases.marks)("$marks of $perTurn is $text", ({ marks, perTurn, text }) =>
  expect(fraction(marks, perTurn)).toBe(text),
);
test.each(cases.way)("$marks from $from is $text", ({ marks, from, text }) =>
  expect(way(marks, from as SeenFrom)).toBe(text),
);
test.each(cases.many)("$count $one is $text", ({ count, one, text }) => expect(many(count, one)).toBe(text));

test("no turn is said so", () => expect(turnWords(0, 16, "above")).toBe("no turn"));

test.each([
  ["0.12", 0.12],
  [" 0,12 ", 0.12],
  ["−3", -3],
  ["", null],
  ["  ", null],
  ["1.2.3", null],
  ["Infinity", null],
  ["3,25x", null],
])("'%s' typed is %s", (text, value) => expect(typedNumber(text)).toBe(value));

test("a reading that cannot be one says what is missing", () => {
  expect(typedMm("0,04", "0.05")).toEqual({ mm: 0.04 });
  expect(typedMm("", "0.05")).toEqual({ wrong: "Type the reading in mm, such as 0.05." });
  expect(typedMm("42", "0.05")).toHaveProperty("wrong");
});
