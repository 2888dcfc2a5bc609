/** A change of height made on the machine while it printed: told, then merged into the stored value or put back. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Choice, Field, Panel, type Way, WayChoice } from "../../ui/controls";
import { Lines } from "../../ui/Lines";
import { signed, typedNumber } from "../../ui/words";

type View = WithHead<Schemas["FirstLayerView"]>;

export function LiveChange({ view, keep, busy }: { view: View; keep: KeepEntry; busy: boolean }) {
  const { live } = view;
  return (
    <>
      {live && (
        <Panel tone="brass">
          <p className="font-semibold">Changed {live.words} while it printed, and not stored.</p>
          <p className="text-sm">It is gone when the machine is switched off. Store it, or put it back.</p>
          <p className="font-mono">
            {signed(live.merge.old_mm, 3)} → {signed(live.merge.new_mm, 3)}
          </p>
          <Lines lines={live.merge.lines} />
          <div className="mt-2 grid grid-cols-2 gap-2">
            <Button disabled={busy} onClick={() => keep({ kind: "nudge_merged", stored_mm: live.merge.new_mm })}>
              {live.merge.lines.length ? "Sent, it is stored" : "It is stored"}
            </Button>
            <Button disabled={busy} onClick={() => keep({ kind: "nudged", away_mm: -live.away_mm, from_zone: null })}>
              It is put back
            </Button>
          </div>
        </Panel>
      )}
      {view.step !== "print" && <Told view={view} keep={keep} busy={busy} />}
    </>
  );
}

function Told({ view, keep, busy }: { view: View; keep: KeepEntry; busy: boolean }) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [way, setWay] = useState<Way>("closer");
  const [from, setFrom] = useState("0");
  const mm = typedNumber(text);
  const wrong = text.trim() && (mm === null || mm <= 0 || mm > 1) ? "Give up to 1 mm, such as 0.05." : null;
  if (!open)
    return (
      <Button look="quiet" className="self-start text-sm" onClick={() => setOpen(true)}>
        its height was changed while it printed
      </Button>
    );
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (mm !== null && !wrong)
          keep({ kind: "nudged", away_mm: way === "closer" ? -mm : mm, from_zone: Number(from) }, () => setOpen(false));
      }}
    >
      <div className="grid grid-cols-2 gap-2">
        <Field
          label="On the machine, by"
          unit="mm"
          inputMode="decimal"
          value={text}
          onChange={(e) => setText(e.target.value)}
          wrong={wrong}
        />
        <WayChoice value={way} onChange={setWay} />
      </div>
      <Choice
        label="From which patch on"
        value={from}
        onChange={setFrom}
        options={[
          ...view.zones.map((z, k) => ({ value: String(k), text: `${k + 1}, ${z.name}` })),
          { value: String(view.zones.length), text: "after the last" },
        ]}
      />
      <p className="text-sm text-graphite">
        It shows some lines after it was pressed, once what the machine has read ahead is laid. A patch that was half
        done by then is neither: take the next one, and skip that one when you judge.
      </p>
      <Button type="submit" disabled={busy || mm === null || Boolean(wrong)}>
        Take it into account
      </Button>
    </form>
  );
}
