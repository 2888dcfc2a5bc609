/** Fields of the set-up: what is typed stays as it was typed; only a usable number goes into the draft. */
import { createContext, useContext, useEffect, useState } from "react";
import type { Problem } from "../api/client";
import { Field } from "../ui/controls";
import { typedNumber } from "../ui/words";

/** The last refusal, so that each field can show its own part of it. */
export const ProblemOf = createContext<Problem | null>(null);

export function useProblem(path: string): string | null {
  const problem = useContext(ProblemOf);
  return problem?.field === path ? problem.message : null;
}

export function NumberField({
  label,
  unit,
  path,
  value,
  onChange,
  optional = false,
  className,
}: {
  label: string;
  unit?: string;
  path: string;
  value: number | null;
  onChange: (value: number | null) => void;
  optional?: boolean;
  className?: string;
}) {
  const [text, setText] = useState(value === null ? "" : String(value));
  const refused = useProblem(path);
  // Changed from elsewhere, by dragging for one.
  useEffect(() => {
    setText((was) => (typedNumber(was) === value ? was : value === null ? "" : String(value)));
  }, [value]);
  const typed = typedNumber(text);
  const wrong = !text.trim()
    ? optional
      ? null
      : "A number is needed here."
    : typed === null
      ? "This must be a number, such as 0.7."
      : null;
  return (
    <Field
      className={className}
      label={label}
      unit={unit}
      inputMode="decimal"
      value={text}
      onChange={(e) => {
        setText(e.target.value);
        const next = typedNumber(e.target.value);
        if (next !== null) onChange(next);
        else if (!e.target.value.trim() && optional) onChange(null);
      }}
      wrong={wrong ?? refused}
    />
  );
}

export function TextField({
  label,
  path,
  value,
  onChange,
  className,
}: {
  label: string;
  path: string;
  value: string;
  onChange: (value: string) => void;
  className?: string;
}) {
  const refused = useProblem(path);
  return (
    <Field
      className={className}
      label={label}
      value={value}
      maxLength={80}
      onChange={(e) => onChange(e.target.value)}
      wrong={!value.trim() ? "A name is needed here." : refused}
    />
  );
}

export function Tick({ label, on, onChange }: { label: string; on: boolean; onChange: (on: boolean) => void }) {
  return (
    <label className="flex min-h-11 items-center gap-2 text-sm">
      <input type="checkbox" className="size-5 shrink-0 accent-ink" checked={on} onChange={() => onChange(!on)} />
      {label}
    </label>
  );
}

const numbersIn = (text: string) =>
  text
    .split(/[;\s]+/)
    .filter(Boolean)
    .map(typedNumber);

/** A few numbers on one line, or none. */
export function NumbersField({
  label,
  unit,
  value,
  onChange,
  className,
}: {
  label: string;
  unit?: string;
  value: readonly number[];
  onChange: (value: number[]) => void;
  className?: string;
}) {
  const [text, setText] = useState(value.join("; "));
  const typed = numbersIn(text);
  const wrong = typed.some((mm) => mm === null || mm < 0.001 || mm > 50) || typed.length > 8;
  return (
    <Field
      className={className}
      label={label}
      unit={unit}
      value={text}
      placeholder="none: heights are typed or sent"
      onChange={(e) => {
        setText(e.target.value);
        const next = numbersIn(e.target.value);
        if (!next.some((mm) => mm === null)) onChange(next as number[]);
      }}
      wrong={wrong ? "Give up to eight steps in mm with spaces between, such as 1 0.1 0.02." : null}
    />
  );
}
