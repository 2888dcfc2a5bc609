/** One point of a mesh: come down to where the drag is believed and say how the gauge slides, or type a height. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Choice, Eyebrow, Field, Panel, Why } from "../../ui/controls";
import { signed, typedMm } from "../../ui/words";
import { FEELS, FeelKeys } from "../Feel";

type Place = { column: number; row: number };

export function ReadPoint({
  view,
  picked,
  onPicked,
  onFeel,
  keep,
  busy,
}: {
  view: WithHead<Schemas["MeshView"]>;
  picked: Place | null;
  onPicked: (place: Place | null) => void;
  onFeel: (k: number) => void;
  keep: KeepEntry;
  busy: boolean;
}) {
  const { next, progress } = view;
  const at = picked ?? next;
  const here = view.points.find((p) => p.column === at?.column && p.row === at?.row);
  const byFeel = !picked && next?.try_mm != null && !progress?.base_due;
  const digits = view.head.machine.z_step_mm < 0.01 ? 3 : 2;
  if (!progress) return null;
  const left = progress.base_due
    ? "The base point"
    : `Column ${(at?.column ?? 0) + 1} from the left, row ${(at?.row ?? 0) + 1} from the front`;
  return (
    <>
      <Eyebrow left={left} right={`${progress.read} read, about ${Math.ceil(progress.minutes_left)} min left`} />
      {progress.base_due && (
        <Panel tone="brass">
          <p className="text-sm">
            After a pause the zero may have moved. Read the place where this survey began once more: what it has moved
            is taken out.
          </p>
        </Panel>
      )}
      {byFeel && next?.try_mm != null ? (
        <>
          <h2 className="text-2xl leading-tight font-semibold">
            {next.felt.length ? "Come down again, to" : "Lift, go there, come down to"}
          </h2>
          <p className="font-mono text-5xl font-semibold" data-testid="next-z">
            {signed(next.try_mm, digits)}
            <span className="text-xl font-normal text-graphite"> mm</span>
          </p>
          {next.presses.length > 0 && (
            <p className="font-mono" data-testid="presses">
              {next.presses.map((p) => `${p.times} × ${p.mm} ${p.up ? "up" : "down"}`).join(", then ")}
            </p>
          )}
          {next.moved && <p className="text-sm text-brass">{next.moved}</p>}
          <FeelKeys disabled={busy} onFeel={(f) => onFeel(FEELS.findIndex((x) => x.feel === f))} />
          {next.felt.length > 0 && (
            <p className="text-sm text-graphite">
              Felt here: {next.felt.map((f) => `${f.feel} at ${signed(f.z_mm, digits)}`).join(", ")}.
            </p>
          )}
          <p className="text-sm text-graphite">
            Keep the gauge under the tip while it comes down. Lift between points.
          </p>
        </>
      ) : (
        <h2 className="text-2xl leading-tight font-semibold">
          {progress.base_due
            ? "Read it again."
            : here?.readings.length
              ? "Read it once more."
              : view.owns_zero
                ? "Step down to the drag."
                : "Read the height here."}
        </h2>
      )}
      {here && here.readings.length > 0 && !progress.base_due && (
        <p className="text-sm text-graphite">
          Read here:{" "}
          {here.readings
            .map((r) => signed(r.height_mm, 3) + (r.counts ? "" : ` (replaced${r.reason && `: ${r.reason}`})`))
            .join(", ")}
          . Believed {signed(here.believed_mm, 3)} ± {here.sd_mm.toFixed(3)} mm.
        </p>
      )}
      <TypedHeight
        label={
          byFeel ? "Or type where it drags" : view.owns_zero ? "Height at the drag" : "Height, plate high positive"
        }
        main={!byFeel}
        busy={busy}
        onHeight={(mm) => {
          if (progress.base_due) return keep({ kind: "mesh_base", height_mm: mm, sure: false });
          if (!at) return;
          const again = (here?.readings.filter((r) => r.counts).length ?? 0) > 0;
          keep(
            { kind: "mesh_point", column: at.column, row: at.row, height_mm: mm, reason: "", sure: false, again },
            () => onPicked(null),
          );
        }}
      />
      {!progress.base_due && (
        <>
          <Choice
            label="Another point (or tap it on the sheet)"
            value={at ? `${at.column},${at.row}` : ""}
            onChange={(v) => {
              const [column, row] = v.split(",").map(Number);
              onPicked({ column: column ?? 0, row: row ?? 0 });
            }}
            options={view.points
              .filter((p) => p.able)
              .map((p) => ({
                value: `${p.column},${p.row}`,
                text: `column ${p.column + 1}, row ${p.row + 1}${p.readings.length ? ": read" : ""}`,
              }))}
          />
          {picked && (
            <Button look="quiet" className="self-start" onClick={() => onPicked(null)}>
              back to the point that tells most
            </Button>
          )}
        </>
      )}
      <Why
        lines={[
          next ? `Here ${signed(next.expected_mm)} ± ${next.sd_mm.toFixed(3)} mm is expected. ${next.words}` : "",
          progress.words && `${progress.words}.`,
          progress.base_words,
          view.points.some((p) => !p.able)
            ? `Not read, but filled from the others: ${view.points
                .filter((p) => !p.able)
                .map((p) => `column ${p.column + 1}, row ${p.row + 1} (${p.why})`)
                .join(", ")}.`
            : "",
        ].filter(Boolean)}
      />
    </>
  );
}

function TypedHeight({
  label,
  main,
  busy,
  onHeight,
}: {
  label: string;
  main: boolean;
  busy: boolean;
  onHeight: (mm: number) => void;
}) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  return (
    <form
      className={
        main ? "flex flex-col gap-3" : "grid grid-cols-[1fr_auto] items-end gap-2 border-t border-hairline pt-2"
      }
      onSubmit={(e) => {
        e.preventDefault();
        const typed = typedMm(text, "0.04 or -0.02");
        if ("wrong" in typed) return setWrong(typed.wrong);
        setWrong(null);
        onHeight(typed.mm);
      }}
    >
      <Field
        label={label}
        unit="mm"
        inputMode="decimal"
        autoFocus={main}
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      {main ? (
        <Button look="main" type="submit" keyHint="Enter" disabled={busy}>
          Keep, next point
        </Button>
      ) : (
        <Button type="submit" disabled={busy}>
          Keep
        </Button>
      )}
    </form>
  );
}
