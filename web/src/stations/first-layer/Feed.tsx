import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Field, Panel } from "../../ui/controls";
import { day, signed, typedNumber } from "../../ui/words";

/** Whether as much filament goes in as is commanded: measured with a rule, then put right. */
export function Feed({
  view,
  keep,
  busy,
  asked,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  keep: KeepEntry;
  busy: boolean;
  asked: boolean;
}) {
  const { feed } = view;
  const [open, setOpen] = useState(false);
  const [left, setLeft] = useState("");
  const [old, setOld] = useState("");
  const texts = left.trim().split(/[\s;]+/);
  const values = texts.filter(Boolean).map((t) => typedNumber(t));
  const wrong =
    left.trim() && values.some((v) => v === null || v <= 0 || v > 1000)
      ? "Give mm, such as 98; several with a space between."
      : null;
  const notNow = (
    <Button
      look="quiet"
      className="self-start text-sm"
      disabled={busy}
      onClick={() => keep({ kind: "tool_told", tool: "rule", here: false })}
    >
      it cannot be measured now
    </Button>
  );
  if (feed.times !== null) {
    const steps = typedNumber(old);
    return (
      <Panel tone="brass">
        <p className="font-semibold">
          {Math.abs(100 * (feed.off ?? 0)).toFixed(1)} % {(feed.off ?? 0) > 0 ? "more" : "less"} goes in than is asked
          for.
        </p>
        <p className="text-sm">Multiply the machine's steps for a mm of filament by {feed.times.toFixed(4)}.</p>
        <div className="mt-1 grid grid-cols-2 items-end gap-2">
          <Field
            label="Steps per mm now"
            inputMode="decimal"
            value={old}
            onChange={(e) => setOld(e.target.value)}
            wrong={old.trim() && (steps === null || steps <= 0) ? "Give the number it shows." : null}
          />
          <p className="pb-2 font-mono">{steps && steps > 0 ? `→ ${(steps * feed.times).toFixed(2)}` : "→ …"}</p>
        </div>
        <p className="text-sm">Store it, read it back, then print.</p>
        <Button
          className="mt-2 w-full"
          disabled={busy}
          onClick={() => keep({ kind: "feed_corrected", times: feed.times ?? 1 })}
        >
          It is set and read back
        </Button>
      </Panel>
    );
  }
  if (feed.off !== null && feed.known_at === null)
    return <p className="text-sm text-graphite">Feed measured: {signed(100 * feed.off, 1)} %, left as it is. </p>;
  if (feed.unknown && !open)
    return (
      <Panel tone="brass">
        <p className="text-sm">
          Nobody has measured the feed here with this filament. Measured once, it is known in every later run; five
          minutes.
        </p>
        <p className="flex flex-wrap gap-x-5">
          <Button look="quiet" className="text-sm" onClick={() => setOpen(true)}>
            measure it first
          </Button>
          {notNow}
        </p>
      </Panel>
    );
  if (!asked && !open)
    return (
      <p className="flex flex-wrap items-center gap-x-4 text-sm text-graphite">
        {feed.off !== null && feed.known_at !== null && (
          <span>
            Feed measured {day(feed.known_at)}: {signed(100 * feed.off, 1)} %.
          </span>
        )}
        <Button look="quiet" className="text-sm" onClick={() => setOpen(true)}>
          {feed.known_at ? "measure it again" : "measure how much is fed"}
        </Button>
      </p>
    );
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        const measured = values.filter((v): v is number => v !== null);
        if (measured.length && !wrong)
          keep({ kind: "feed_measured", commanded_mm: feed.asked_mm, measured_mm: measured, sure: false });
      }}
    >
      <p className="text-sm">
        Tip at printing heat, lifted. Mark the filament {(feed.asked_mm + 20).toFixed(0)} mm before it goes in, feed{" "}
        {feed.asked_mm.toFixed(0)} mm slowly, measure what is left, and take that from {(feed.asked_mm + 20).toFixed(0)}
        : so much went in. Twice is better. The tip and what comes out are hot.
      </p>
      <Field
        label="So much went in"
        unit="mm"
        inputMode="text"
        value={left}
        onChange={(e) => setLeft(e.target.value)}
        wrong={wrong}
      />
      <Button type="submit" look={asked ? "main" : "plain"} disabled={busy || !left.trim() || Boolean(wrong)}>
        Keep it
      </Button>
      {asked && notNow}
    </form>
  );
}
