/** A mended copy of the job: moved on the plate, or with its first layer laid otherwise; saved as a file of its own. */
import { type FormEvent, useState } from "react";
import type { JobReport } from "../api/jobs";
import { Tick } from "../setup/fields";
import { Button, Field } from "../ui/controls";
import { typedNumber } from "../ui/words";

const FIELDS = [
  ["dx_mm", "move right by, mm"],
  ["dy_mm", "move back by, mm"],
  ["turn_deg", "turn to the left by, °"],
  ["speed_percent", "first layer speed, %"],
  ["tip_c", "first layer tip, °C"],
  ["plate_c", "first layer plate, °C"],
  ["fan", "first layer fan, %"],
] as const;
type Name = (typeof FIELDS)[number][0];

export function SaveCopy({ report, file }: { report: JobReport; file: File | null }) {
  const placed = report.placed;
  const [typed, setTyped] = useState<Partial<Record<Name, string>>>({});
  const [wrong, setWrong] = useState<string | null>(null);
  const [ourStart, setOurStart] = useState(false);
  const [done, setDone] = useState("");
  const [busy, setBusy] = useState(false);
  if (!file) return <p className="text-sm text-graphite">Choose the file again to save a mended copy of it.</p>;
  const save = async (e: FormEvent) => {
    e.preventDefault();
    const query = new URLSearchParams({ name: report.name, plate: report.plate_id });
    for (const [name, label] of FIELDS) {
      const text = typed[name]?.trim();
      if (!text) continue;
      const value = typedNumber(text);
      if (value === null) return setWrong(`Give a number for “${label}”, or leave it empty.`);
      query.set(name, String(name === "fan" ? value / 100 : value));
    }
    if (ourStart) query.set("our_start", "true");
    if ([...query.keys()].length === 2) return setWrong("Say what is to be done otherwise.");
    setWrong(null);
    setBusy(true);
    try {
      const answer = await fetch(`/api/machines/${report.machine_id}/jobs/copy?${query}`, {
        method: "POST",
        headers: { "content-type": "text/plain" },
        body: file,
      });
      if (!answer.ok) return setWrong((await answer.json()).message);
      const link = document.createElement("a");
      link.href = URL.createObjectURL(await answer.blob());
      const dot = report.name.lastIndexOf(".");
      link.download = dot > 0 ? `${report.name.slice(0, dot)}-copy${report.name.slice(dot)}` : `${report.name}-copy`;
      link.click();
      URL.revokeObjectURL(link.href);
      setDone(link.download);
    } catch {
      setWrong("The server does not answer. Nothing was saved; try again.");
    } finally {
      setBusy(false);
    }
  };
  return (
    <details className="border-t border-hairline pt-1">
      <summary className="flex min-h-11 items-center underline underline-offset-4">save a mended copy</summary>
      <form onSubmit={save} className="flex flex-col gap-2 pb-2">
        <div className="grid grid-cols-2 gap-2">
          {FIELDS.map(([name, label]) => (
            <Field
              key={name}
              label={label}
              inputMode="decimal"
              value={typed[name] ?? ""}
              onChange={(e) => setTyped({ ...typed, [name]: e.target.value })}
            />
          ))}
        </div>
        <Tick label="begin it as our own programs begin on this machine" on={ourStart} onChange={setOurStart} />
        {placed && (
          <Button
            look="quiet"
            className="self-start text-sm"
            onClick={() =>
              setTyped({
                ...typed,
                dx_mm: String(placed.dx_mm),
                dy_mm: String(placed.dy_mm),
                turn_deg: placed.turn_deg ? String(placed.turn_deg) : "",
              })
            }
          >
            put it where {Math.round(100 * placed.share_after)} % would hold
          </Button>
        )}
        {wrong && (
          <p role="alert" className="text-sm text-madder">
            {wrong}
          </p>
        )}
        {done && !wrong && (
          <p role="status" className="text-sm">
            Saved as {done}. The first line says what was done; check it before it is printed.
          </p>
        )}
        <Button type="submit" disabled={busy}>
          {busy ? "Writing it" : "Save the copy"}
        </Button>
      </form>
    </details>
  );
}
