/** A reading in mm at a screw. */
import { useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Acts, KeepEntry, WithHead } from "../../api/run";
import { Button, Choice, Eyebrow, Field } from "../../ui/controls";
import { typedMm } from "../../ui/words";

type View = WithHead<Schemas["TramView"]>;

export function ReadSlip({ view, acts, keep }: { view: View; acts: Acts; keep: KeepEntry }) {
  const [text, setText] = useState("");
  const [by, setBy] = useState<"dial" | "feelers" | "probe" | "lamp" | "laser">(
    view.head.machine.probe ? "probe" : "dial",
  );
  const [wrong, setWrong] = useState<string | null>(null);
  const screw = view.head.machine.screws.find((s) => s.name === view.screw);
  useEffect(() => setText(""), [view.screw, view.head.seq]);
  const submit = () => {
    const typed = typedMm(text, "0.12 or -0.05");
    if ("wrong" in typed) return setWrong(typed.wrong);
    setWrong(null);
    if (screw)
      keep({
        kind: "read_mm",
        x_mm: screw.x_mm,
        y_mm: screw.y_mm,
        instrument: by,
        value_mm: typed.mm,
        screw: screw.name,
        sure: false,
      });
  };
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      <Eyebrow left={view.screw ?? ""} right="read all first" />
      <h2 className="text-3xl leading-tight font-semibold">Read the {by === "feelers" ? "gap" : "height"} here.</h2>
      <p className="text-graphite">
        {by === "feelers"
          ? "The thickest feeler that still slides, tip at z 0."
          : "Plate high is positive. Same zero for all screws."}
      </p>
      <Field
        label="Reading"
        unit="mm"
        inputMode="decimal"
        value={text}
        autoFocus
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Choice
        label="Read with"
        value={by}
        onChange={setBy}
        options={[
          { value: "dial", text: "dial gauge (height)" },
          { value: "feelers", text: "feelers (gap)" },
          { value: "probe", text: "the machine's probe (height)" },
          { value: "laser", text: "laser (height)" },
          { value: "lamp", text: "contact lamp: z where it lights" },
        ]}
      />
      <Button look="main" type="submit" keyHint="Enter" disabled={acts.busy}>
        Keep
      </Button>
    </form>
  );
}
