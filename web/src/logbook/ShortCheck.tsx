/** The two-minute check: one place looked at, by the gauge or by one patch, before a whole run is made. */
import { type FormEvent, useState } from "react";
import { v4 as uuid } from "uuid";
import { type LogbookView, useTellLog } from "../api/logbook";
import { Button, Choice, Field, Wrong } from "../ui/controls";
import { typedNumber } from "../ui/words";

type Verdict = "sound" | "loose" | "scraped";
const VERDICTS: [Verdict, string][] = [
  ["sound", "sound"],
  ["loose", "too far"],
  ["scraped", "too close"],
];

export function ShortCheck({ view }: { view: LogbookView }) {
  const tell = useTellLog(view.machine_id);
  const e = view.expected;
  const left = view.points.find((p) => p.left)?.left;
  const [place, setPlace] = useState("");
  const [off, setOff] = useState("");
  const [id, setId] = useState(() => uuid());
  const [wrong, setWrong] = useState<string | null>(null);
  const [right, setRight] = useState(false);
  if (!e || !left) return null;
  const at = place || e.outlook.check;
  const by = localStorage.getItem("initials") ?? "";
  const hasKnob = view.knobs.includes(at);
  const keep = (found: { off_mm: number | null; verdict: Verdict | null; put_right: boolean }) => {
    if (!by) return setWrong("Give your initials below first.");
    setWrong(null);
    tell.mutate(
      {
        id,
        by,
        kind: "check",
        note: "",
        check: { plate_id: view.plate_id, place: at, ...found },
      },
      {
        onSuccess: () => {
          setId(uuid());
          setOff("");
          setPlace("");
          setRight(false);
        },
      },
    );
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const mm = typedNumber(off);
    if (mm === null || Math.abs(mm) > 2) return setWrong("Give the gap's error in mm, such as 0.03 or -0.02.");
    keep({ off_mm: mm, verdict: null, put_right: hasKnob && right });
  };
  return (
    <details className="border-t border-hairline pt-1">
      <summary className="flex min-h-11 items-center underline underline-offset-4">a two-minute check instead</summary>
      <form onSubmit={submit} className="flex flex-col gap-2 pb-2">
        <Choice
          label="Where"
          value={at}
          onChange={setPlace}
          options={left.places.map((p) => ({ value: p, text: p === e.outlook.check ? `${p}: tells most` : p }))}
        />
        <p className="text-sm text-graphite">One patch printed there is</p>
        <div className="grid grid-cols-3 gap-2">
          {VERDICTS.map(([verdict, text]) => (
            <Button
              key={verdict}
              disabled={tell.isPending}
              onClick={() => keep({ off_mm: null, verdict, put_right: false })}
            >
              {text}
            </Button>
          ))}
        </div>
        <div className="grid grid-cols-[1fr_7rem] items-end gap-2">
          <Field
            label="or by the gauge: gap too large by, mm"
            inputMode="decimal"
            placeholder="0.02"
            value={off}
            onChange={(event) => setOff(event.target.value)}
            wrong={wrong}
          />
          <Button type="submit" disabled={tell.isPending || !off.trim()}>
            Keep it
          </Button>
        </div>
        {hasKnob && (
          <label className="flex min-h-11 items-center gap-2">
            <input
              type="checkbox"
              className="size-5 shrink-0 accent-ink"
              checked={right}
              onChange={(event) => setRight(event.target.checked)}
            />
            I turned this knob at once, until the gauge was right
          </label>
        )}
        <Wrong wrong={tell.error} />
      </form>
    </details>
  );
}
