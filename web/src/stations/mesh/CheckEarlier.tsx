/** An earlier mesh read again at the places that tell most, until it is known whether it still holds. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Eyebrow, Field } from "../../ui/controls";
import { typedMm } from "../../ui/words";

export function CheckEarlier({ check, keep, busy }: { check: Schemas["CheckShown"]; keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  const place = check.to_read[0];
  const settled = check.verdict !== "cannot tell yet";
  const use = () => keep({ kind: "mesh_taken_up", survey: check.survey, measured_at: check.measured });
  const discard = () => keep({ kind: "mesh_discarded", measured_at: check.measured });
  return (
    <>
      <Eyebrow left={`Mesh of ${check.measured_at}`} right={`${check.read} read, ${check.to_read.length} to come`} />
      <h2 className="text-2xl leading-tight font-semibold">
        {place && !settled
          ? `Read (${place[0]}, ${place[1]})`
          : check.verdict === "holds"
            ? "It still holds."
            : "Measure anew."}
      </h2>
      <p data-testid="check-words">{check.words}</p>
      {place && !settled && (
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            const typed = typedMm(text, "0.04 or -0.02");
            if ("wrong" in typed) return setWrong(typed.wrong);
            setWrong(null);
            keep({ kind: "mesh_checked", x_mm: place[0], y_mm: place[1], height_mm: typed.mm }, () => setText(""));
          }}
        >
          <Field
            label={check.survey.owns_zero ? "Height at the drag" : "Height, plate high positive"}
            unit="mm"
            inputMode="decimal"
            autoFocus
            value={text}
            onChange={(e) => setText(e.target.value)}
            wrong={wrong}
          />
          <Button look="main" type="submit" keyHint="Enter" disabled={busy}>
            Keep, next place
          </Button>
          <p className="text-sm text-graphite">
            All of them from one zero, whichever it is: only their differences count.
          </p>
        </form>
      )}
      <div className="grid grid-cols-2 gap-2">
        <Button look={check.verdict === "holds" ? "main" : "plain"} disabled={busy} onClick={use}>
          Use it
        </Button>
        <Button disabled={busy} onClick={discard}>
          Discard it
        </Button>
      </div>
    </>
  );
}
