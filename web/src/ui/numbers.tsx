/** Some numbers in mm that are typed beside one another and kept together. */
import { useState } from "react";
import { Field } from "./controls";
import { typedNumber } from "./words";

export function useNumbers<N extends string>(names: readonly N[]) {
  const empty = Object.fromEntries(names.map((name) => [name, ""])) as Record<N, string>;
  const [typed, setTyped] = useState(empty);
  return {
    typed,
    /** What was typed as numbers; null where one of them is none. */
    values: (): Record<N, number> | null => {
      const found = names.map((name) => [name, typedNumber(typed[name])] as const);
      return found.some(([, value]) => value === null)
        ? null
        : (Object.fromEntries(found) as unknown as Record<N, number>);
    },
    field: (name: N, label: string) => (
      <Field
        label={label}
        unit="mm"
        inputMode="decimal"
        value={typed[name]}
        onChange={(e) => setTyped({ ...typed, [name]: e.target.value })}
      />
    ),
    clear: () => setTyped(empty),
  };
}
