/** The tip's heat: the drag felt at two heats tells how much longer a hot tip is. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Eyebrow, Field, Panel, Wrong } from "../../ui/controls";
import { signed, typedNumber } from "../../ui/words";

type Heat = Schemas["TipHeatView"];

export function TipHeat({ runId, seq, keep, busy }: { runId: string; seq: number; keep: KeepEntry; busy: boolean }) {
  const { data: heat, error } = useQuery<Heat, Refusal>({
    queryKey: ["run", runId, "tip-heat", seq],
    queryFn: () =>
      answer(
        api.GET("/api/runs/{run_id}/tip-heat", { params: { path: { run_id: runId } } }),
      ) as unknown as Promise<Heat>,
    placeholderData: keepPreviousData,
  });
  const [celsius, setCelsius] = useState("");
  const [drag, setDrag] = useState("");
  if (!heat) return <Wrong wrong={error} />;
  const tip = typedNumber(celsius);
  const z = typedNumber(drag);
  const tipWrong =
    celsius.trim() && (tip === null || tip < 0 || tip > 400) ? "Give the tip's heat, 0 to 400 °C." : null;
  const zWrong = drag.trim() && (z === null || Math.abs(z) > 10) ? "Give the height in mm, −10 to 10." : null;
  const { found } = heat;
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (tip !== null && z !== null && !tipWrong && !zWrong)
          keep({ kind: "tip_felt_at", tip_c: tip, drag_z_mm: z }, () => {
            setCelsius("");
            setDrag("");
          });
      }}
    >
      <Eyebrow left="The tip, cold and hot" right={`${found.tries} felt`} />
      <p className="text-sm text-graphite">
        Over one place, with the plate's heat as it is: where the gauge drags with the tip as cool as you measure, then
        at the {heat.prints_c.toFixed(0)} °C it prints at. Wait five minutes at each. The tip is hot: move the gauge,
        not your fingers, and wipe off what oozes.
      </p>
      {heat.felt.length > 0 && (
        <ul className="font-mono text-sm">
          {heat.felt.map((f, k) => (
            <li key={`${k} ${f.tip_c}`}>
              {f.tip_c.toFixed(0)} °C: {signed(f.drag_z_mm, 3)} mm
            </li>
          ))}
        </ul>
      )}
      <div className="grid grid-cols-[1fr_1fr_auto] items-end gap-2">
        <Field
          label="Tip"
          unit="°C"
          inputMode="decimal"
          value={celsius}
          onChange={(e) => setCelsius(e.target.value)}
          wrong={tipWrong}
        />
        <Field
          label="It drags at z"
          unit="mm"
          inputMode="decimal"
          value={drag}
          onChange={(e) => setDrag(e.target.value)}
          wrong={zWrong}
        />
        <Button type="submit" disabled={busy || tip === null || z === null}>
          Keep
        </Button>
      </div>
      <Panel>
        <p data-testid="tip-heat">{found.words}</p>
      </Panel>
      {found.counts && found.heat && (
        <Button look="main" disabled={busy} onClick={() => keep({ kind: "tip_heat_counted", heat: found.heat })}>
          Count it in from here on
        </Button>
      )}
      {heat.counted_in && (
        <p className="text-sm">
          Counted in now: {(1000 * heat.counted_in.mm_per_c).toFixed(2)} µm for 1 °C
          {heat.held_c === null ? "; note at Prepare how hot the tip is held." : "."}{" "}
          <Button look="quiet" disabled={busy} onClick={() => keep({ kind: "tip_heat_counted", heat: null })}>
            take the tip as it is felt
          </Button>
        </p>
      )}
    </form>
  );
}
