/** What the machine shows of itself: which way its stored number counts, and what its display reads after homing. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Acts, KeepEntry } from "../../api/run";
import { Button, Choice, Field, Panel } from "../../ui/controls";
import { Lines } from "../../ui/Lines";
import { signed, typedNumber } from "../../ui/words";

/** A move with the tip high above the plate, where a wrong sign does no harm. */
export function ShowSign({
  sign,
  rule,
  keep,
  busy,
  refused,
}: {
  sign: Schemas["SignTry"];
  rule: string;
  keep: KeepEntry;
  busy: boolean;
  refused: Acts["refused"];
}) {
  const [open, setOpen] = useState(false);
  const other =
    refused?.problem.code === "counts_the_other_way" && refused.what.kind === "sign_shown" ? refused.what : null;
  const tell = (went: "closer" | "further" | "nowhere", convention: Schemas["Counting"]["id"] | null = null) =>
    keep({ kind: "sign_shown", larger_by_mm: sign.larger_by_mm, went, convention });
  if (!open)
    return (
      <Button look="quiet" className="self-start text-sm text-brass" onClick={() => setOpen(true)}>
        not shown yet: does this machine count as set up ({rule})?
      </Button>
    );
  return (
    <Panel tone="brass">
      <p className="font-semibold">Let the machine show which way its number counts.</p>
      <p className="text-sm">
        Keep the tip {sign.height_mm} mm above the plate. Change the number by {signed(sign.larger_by_mm, 2)} and watch
        the tip:
      </p>
      <Lines className="my-1" lines={sign.lines} />
      <p className="text-sm">Then put it back:</p>
      <Lines className="my-1" lines={sign.back} />
      {other ? (
        <>
          <p className="text-sm">It counts the other way. What does this machine store?</p>
          <div className="mt-1 grid gap-1">
            {sign.can_be
              .filter((c) => c.larger_is_further === ((other.went === "further") === other.larger_by_mm > 0))
              .map((c) => (
                <Button key={c.id} disabled={busy} onClick={() => tell(other.went, c.id)}>
                  {c.name}: {c.rule}
                </Button>
              ))}
          </div>
        </>
      ) : (
        <div className="mt-1 grid grid-cols-3 gap-1">
          <Button disabled={busy} onClick={() => tell("closer")}>
            it sank
          </Button>
          <Button disabled={busy} onClick={() => tell("further")}>
            it rose
          </Button>
          <Button disabled={busy} onClick={() => tell("nowhere")}>
            it stayed
          </Button>
        </div>
      )}
      <p className="mt-1 text-sm text-graphite">
        If it stays, the number takes effect only once it is stored and the machine homed: do that, lift the tip, look
        again, and put it back.
      </p>
    </Panel>
  );
}

/** A display that does not show 0 after homing is explained before anything comes down. */
export function OwnDisplay({ keep, busy }: { keep: KeepEntry; busy: boolean }) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [means, setMeans] = useState<"" | "height" | "zero">("");
  const shows = typedNumber(text);
  const wrong = text.trim() && (shows === null || Math.abs(shows) > 500) ? "Give the number it shows, in mm." : null;
  if (!open)
    return (
      <Button look="quiet" className="self-start text-sm" onClick={() => setOpen(true)}>
        its display does not show 0 after homing
      </Button>
    );
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (shows !== null && !wrong)
          keep({ kind: "display_shown", shows_mm: shows, means: means || null }, () => setOpen(false));
      }}
    >
      <Field
        label="After homing it shows"
        unit="mm"
        inputMode="decimal"
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Choice
        label="That is"
        value={means}
        onChange={setMeans}
        options={[
          { value: "", text: "not known yet" },
          { value: "height", text: "where the tip was lifted to, or rests" },
          { value: "zero", text: "its own zero: it shows this where 0 is sent" },
        ]}
      />
      <Button type="submit" disabled={busy || shows === null || Boolean(wrong)}>
        Take it into account
      </Button>
    </form>
  );
}
