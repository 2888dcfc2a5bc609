/** Far from the plate, something thick under the tip tells how far: one tap where the gauge itself is folded. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Field } from "../../ui/controls";
import { typedNumber } from "../../ui/words";

export function ByThickness({
  z,
  sizes,
  words,
  far,
  keep,
  busy,
  asked,
}: {
  z: number;
  sizes: readonly Schemas["ThickSize"][];
  /** Of what they are layers. */
  words: string;
  /** So far off that this is the quickest way. */
  far: boolean;
  keep: KeepEntry;
  busy: boolean;
  /** The last answer was asked about: the same again is meant. */
  asked: boolean;
}) {
  const [text, setText] = useState("");
  const thick = typedNumber(text);
  const wrong =
    text.trim() && !(thick !== null && thick > 0 && thick <= 30) ? "Give its thickness in mm, such as 1.5." : null;
  const under = ({ under_mm, not_mm }: Schemas["ThickSize"]) =>
    keep({ kind: "thick_tried", z_mm: z, under_mm, not_mm, typed: false, sure: false });
  const own = (goes: boolean) => {
    if (thick === null || wrong) return;
    const told = goes ? { under_mm: thick, not_mm: null } : { under_mm: 0, not_mm: thick };
    keep({ kind: "thick_tried", z_mm: z, ...told, typed: true, sure: asked }, () => setText(""));
  };
  return (
    <details className="border-t border-hairline" open={far}>
      <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
        or by something thick: the gauge folded, a coin, a stack of cards
      </summary>
      <div className="flex flex-col gap-2 pb-2">
        {sizes.length > 0 && (
          <fieldset className="flex flex-col gap-1">
            <legend className="pb-1 text-sm">The thickest that goes under the tip, {words}:</legend>
            <div className="grid grid-cols-4 gap-1">
              {sizes.map((s) => (
                <Button key={s.layers} disabled={busy} onClick={() => under(s)}>
                  {s.layers || "none"}
                  {s.layers > 0 && <span className="block font-mono text-xs font-normal">{s.under_mm}</span>}
                </Button>
              ))}
            </div>
          </fieldset>
        )}
        <div className="grid grid-cols-[1fr_auto_auto] items-end gap-2">
          <Field
            label="a coin, a card"
            unit="mm"
            inputMode="decimal"
            value={text}
            onChange={(e) => setText(e.target.value)}
            wrong={wrong}
          />
          <Button disabled={busy || thick === null || Boolean(wrong)} onClick={() => own(true)}>
            goes under
          </Button>
          <Button disabled={busy || thick === null || Boolean(wrong)} onClick={() => own(false)}>
            does not
          </Button>
        </div>
        <p className="text-sm text-graphite">
          Slide it in from the side, never lower the tip onto it. Nothing thick is left under the tip when it comes
          down.
        </p>
      </div>
    </details>
  );
}
