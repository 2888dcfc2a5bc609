/** Two Z drives: read left and right, turn the right drive, until the beam is level. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Acts, KeepEntry, WithHead } from "../../api/run";
import { Button, Field } from "../../ui/controls";
import { typedMm } from "../../ui/words";

export function BeamSlip({ view, acts, keep }: { view: WithHead<Schemas["TramView"]>; acts: Acts; keep: KeepEntry }) {
  const [left, setLeft] = useState("");
  const [right, setRight] = useState("");
  const [wrong, setWrong] = useState<{ left?: string; right?: string }>({});
  const [x0, , x1] = view.sheet.bounds_mm;
  const at = { left: x0 + 0.15 * (x1 - x0), right: x1 - 0.15 * (x1 - x0) };
  if (view.beam) {
    const { beam } = view;
    return (
      <>
        <h2 className="text-2xl leading-tight font-semibold">
          {beam.level ? "The beam is level." : `${beam.up_mm > 0 ? "Raise" : "Lower"} the right drive.`}
        </h2>
        <p>{beam.words}</p>
        {!beam.level && (
          <p className="text-graphite">
            Motors off, slowly: a motor turned fast by hand makes current. Or send the steps. Then read both sides
            again.
          </p>
        )}
        <Button
          look="main"
          disabled={acts.busy}
          onClick={() => keep({ kind: "beam_turned", up_mm: beam.level ? 0 : Number(beam.up_mm.toFixed(4)) })}
        >
          {beam.level ? "Go on" : "Turned, read again"}
        </Button>
      </>
    );
  }
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        const a = typedMm(left, "0.31");
        const b = typedMm(right, "0.18");
        setWrong({ left: "wrong" in a ? a.wrong : undefined, right: "wrong" in b ? b.wrong : undefined });
        if ("mm" in a && "mm" in b)
          keep({
            kind: "beam_read",
            reading: { left_x_mm: at.left, right_x_mm: at.right, left_mm: a.mm, right_mm: b.mm },
          });
      }}
    >
      <h2 className="text-2xl leading-tight font-semibold">Level the beam first.</h2>
      <p className="text-graphite">
        Two Z drives carry it. Read the gap under the beam's head, or a dial it carries, at x {at.left.toFixed(0)} and
        at x {at.right.toFixed(0)}: larger means higher.
      </p>
      <div className="grid grid-cols-2 gap-2">
        <Field
          label="Left"
          unit="mm"
          inputMode="decimal"
          value={left}
          onChange={(e) => setLeft(e.target.value)}
          wrong={wrong.left}
        />
        <Field
          label="Right"
          unit="mm"
          inputMode="decimal"
          value={right}
          onChange={(e) => setRight(e.target.value)}
          wrong={wrong.right}
        />
      </div>
      <Button look="main" type="submit" keyHint="Enter" disabled={acts.busy}>
        Keep both
      </Button>
    </form>
  );
}
