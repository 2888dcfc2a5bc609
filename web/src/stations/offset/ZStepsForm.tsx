/** Steps per mm in Z by the heights of a printed block: two or more, so that the first layer's own error falls out. */
import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import { Button, Field, Wrong } from "../../ui/controls";
import { typedNumber } from "../../ui/words";

const ROWS = [0, 1, 2];

export function ZStepsForm({ runId }: { runId: string }) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [wrong, setWrong] = useState<string | null>(null);
  const look = useMutation<Schemas["ZSteps"], Refusal, Schemas["ZStepsWanted"]>({
    mutationFn: (body) =>
      answer(
        api.POST("/api/runs/{run_id}/z-steps", { params: { path: { run_id: runId } }, body }),
      ) as unknown as Promise<Schemas["ZSteps"]>,
  });
  const text = (name: string) => (typed[name] ?? "").trim();
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const heights = [];
    for (const k of ROWS) {
      if (!text(`drawn ${k}`) && !text(`measured ${k}`)) continue;
      const [drawn, measured] = [typedNumber(text(`drawn ${k}`)), typedNumber(text(`measured ${k}`))];
      if (!drawn || !measured || drawn <= 0 || measured <= 0)
        return setWrong("Give both of each pair in mm, such as 40 and 39.95, or leave both empty.");
      heights.push({ drawn_mm: drawn, measured_mm: measured });
    }
    const steps = typedNumber(text("steps"));
    if (text("steps") && (!steps || steps <= 0))
      return setWrong("Give the steps per mm as a number, or leave it empty.");
    setWrong(null);
    look.mutate({ heights, steps_per_mm: text("steps") ? steps : null });
  };
  const field = (name: string, label: string, unit?: string) => (
    <Field
      key={name}
      label={label}
      unit={unit}
      inputMode="decimal"
      value={typed[name] ?? ""}
      onChange={(e) => setTyped({ ...typed, [name]: e.target.value })}
    />
  );
  return (
    <details>
      <summary className="flex min-h-11 items-center text-sm text-graphite underline underline-offset-4">
        Z steps by a printed height
      </summary>
      <form onSubmit={submit} className="flex flex-col gap-2 pb-2">
        <p className="text-sm">
          Print a block with steps, let it cool off the machine, measure two or more of its heights: low and high, so
          that what the first layer does to all of them falls out.
        </p>
        <div className="grid grid-cols-2 gap-2">
          {ROWS.flatMap((k) => [
            field(`drawn ${k}`, `Drawn, height ${k + 1}`, "mm"),
            field(`measured ${k}`, `Measured, height ${k + 1}`, "mm"),
          ])}
          {field("steps", "Steps per mm now")}
        </div>
        {wrong && (
          <p role="alert" className="text-sm text-madder">
            {wrong}
          </p>
        )}
        <Wrong wrong={look.error} />
        {look.data && !wrong && (
          <p role="status" className="border-l-2 border-brass pl-3">
            {look.data.words}
          </p>
        )}
        <Button type="submit">What do they tell?</Button>
      </form>
    </details>
  );
}
