/** Numbers and turns as they are written here: true minus, signs, sixteenths, seen from above or below. */
export type SeenFrom = "above" | "below";

export function signed(mm: number, digits = 2): string {
  const text = Math.abs(mm).toFixed(digits);
  if (Number(text) === 0) return text;
  return (mm > 0 ? "+" : "−") + text;
}

/** 3 -> 3/16, 19 -> 1 turn 3/16, 3.5 -> 7/32, by how many marks make a turn; never reduced. */
export function fraction(marks: number, perTurn: number): string {
  const halves = Math.round(2 * Math.abs(marks));
  const whole = Math.floor(halves / (2 * perTurn));
  const rest = halves - whole * 2 * perTurn;
  const part = rest % 2 ? `${rest}/${2 * perTurn}` : `${rest / 2}/${perTurn}`;
  if (!whole) return part;
  return rest ? `${many(whole, "turn")} ${part}` : many(whole, "turn");
}

/** 1 stop, 2 stops. */
export function many(count: number, one: string): string {
  return count === 1 ? `1 ${one}` : `${count} ${one}s`;
}

/** Marks are clockwise seen from above; from below the same turn runs the other way. */
export function way(marks: number, from: SeenFrom): "clockwise" | "counter-clockwise" {
  return marks > 0 === (from === "above") ? "clockwise" : "counter-clockwise";
}

export function turnWords(marks: number, perTurn: number, from: SeenFrom): string {
  return marks ? `${fraction(marks, perTurn)} ${way(marks, from)}` : "no turn";
}

export function clock(at: string | null | undefined): string {
  return at ? new Date(at).toLocaleTimeString("en-GB") : "";
}

export function day(at: string): string {
  return new Date(at).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });
}

/** A typed number, with a comma or a true minus as people write them; null for anything else. */
export function typedNumber(text: string): number | null {
  const value = Number(text.trim().replace(",", ".").replace("−", "-"));
  return text.trim() && Number.isFinite(value) ? value : null;
}

/** A typed reading of a plate in mm, or the sentence that goes beside its field. */
export function typedMm(text: string, example: string): { mm: number } | { wrong: string } {
  const mm = typedNumber(text);
  if (mm === null) return { wrong: `Type the reading in mm, such as ${example}.` };
  if (Math.abs(mm) > 10) return { wrong: "More than 10 mm is no reading of a plate. Is the decimal point missing?" };
  return { mm };
}
