/** The probe itself: touches of one place that tell how well it repeats, and the height at which its sensor triggers. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Choice, Eyebrow, Field, Panel, Wrong } from "../../ui/controls";
import { useNumbers } from "../../ui/numbers";
import { signed, typedNumber } from "../../ui/words";
import { ProbePlace } from "./ProbePlace";

type Check = Schemas["ProbeCheck"];

export function ProbeCheck({ runId, seq, keep, busy }: { runId: string; seq: number; keep: KeepEntry; busy: boolean }) {
  const { data: check, error } = useQuery<Check, Refusal>({
    queryKey: ["run", runId, "probe", seq],
    queryFn: () =>
      answer(api.GET("/api/runs/{run_id}/probe", { params: { path: { run_id: runId } } })) as unknown as Promise<Check>,
    placeholderData: keepPreviousData,
  });
  const [z, setZ] = useState("");
  const [bed, setBed] = useState("");
  const [parked, setParked] = useState("");
  const touched = typedNumber(z);
  const minutes = parked.trim() ? typedNumber(parked) : null;
  const parkedWrong =
    parked.trim() && (minutes === null || minutes < 0 || minutes > 600) ? "Give minutes, or nothing." : null;
  const warm = bed.trim() ? typedNumber(bed) : null;
  const zWrong = z.trim() && (touched === null || Math.abs(touched) > 10) ? "Give the height in mm, −10 to 10." : null;
  const bedWrong = bed.trim() && (warm === null || warm > 160) ? "Give the plate's temperature, or nothing." : null;
  if (!check) return <Wrong wrong={error} />;
  const { repeats } = check;
  return (
    <div className="flex flex-col gap-3">
      <Eyebrow left="The probe, over the centre" right={`${repeats.touches} touches`} />
      <p className="text-sm text-graphite">
        Touch the same place ten times, then ten times more at printing heat, some of them after it stood low over the
        plate for five minutes. The set-up says ±{check.said_sd_mm} mm.
      </p>
      <form
        className="grid grid-cols-3 items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (touched !== null && !zWrong && !bedWrong && !parkedWrong)
            keep({ kind: "probe_touched", z_mm: touched, bed_c: warm, parked_min: minutes }, () => setZ(""));
        }}
      >
        <Field
          label="Triggered at z"
          unit="mm"
          inputMode="decimal"
          value={z}
          onChange={(e) => setZ(e.target.value)}
          wrong={zWrong}
        />
        <Field
          label="Plate"
          unit="°C"
          inputMode="decimal"
          value={bed}
          onChange={(e) => setBed(e.target.value)}
          wrong={bedWrong}
        />
        <Field
          label="Stood low for"
          unit="min"
          inputMode="decimal"
          value={parked}
          onChange={(e) => setParked(e.target.value)}
          wrong={parkedWrong}
        />
        <Button className="col-span-3" type="submit" disabled={busy || touched === null}>
          Keep touch {repeats.touches + 1}
        </Button>
      </form>
      <Panel tone={repeats.verdict === "poor" ? "brass" : undefined}>
        <p data-testid="repeats">{repeats.words}</p>
      </Panel>
      <Tilt check={check} keep={keep} busy={busy} />
      <ProbePlace check={check} keep={keep} busy={busy} />
      <Sensor sensor={check.sensor} keep={keep} busy={busy} />
    </div>
  );
}

const COMPARED = ["x_mm", "y_mm", "probe_z_mm", "drag_z_mm"] as const;

/** Probe and gauge at the same places: whether the probe reads higher on one side of the plate. */
function Tilt({ check, keep, busy }: { check: Check; keep: KeepEntry; busy: boolean }) {
  const { typed, values, field, clear } = useNumbers(COMPARED);
  const [wrong, setWrong] = useState<string | null>(null);
  const { tilt, counted_in } = check;
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        const read = values();
        if (!read) return setWrong("Give the place and both heights in mm.");
        if (Math.abs(read.probe_z_mm) > 10 || Math.abs(read.drag_z_mm) > 10)
          return setWrong("Heights lie between −10 and 10 mm.");
        setWrong(null);
        keep({ kind: "probe_compared", ...read }, clear);
      }}
    >
      <p className="font-semibold">Does it lean?</p>
      <p className="text-sm text-graphite">
        Probe and gauge at five places, edges and middle: where the probe triggers, and where the gauge drags under the
        tip.
      </p>
      <div className="grid grid-cols-2 gap-2">
        {field("x_mm", "At X")}
        {field("y_mm", "Y")}
        {field("probe_z_mm", "Probe triggers at z")}
        {field("drag_z_mm", "Gauge drags at z")}
      </div>
      {wrong && <p className="text-sm text-madder">{wrong}</p>}
      <Button type="submit" disabled={busy || !typed.probe_z_mm.trim() || !typed.drag_z_mm.trim()}>
        Keep place {check.compared.length + 1}
      </Button>
      <p data-testid="tilt" className={tilt.leans ? "font-semibold" : "text-sm text-graphite"}>
        {tilt.words}
      </p>
      {tilt.leans && tilt.tilt && (
        <Button look="main" disabled={busy} onClick={() => keep({ kind: "probe_tilted", tilt: tilt.tilt })}>
          Count it in from here on
        </Button>
      )}
      {counted_in && (
        <p className="text-sm">
          Counted in now: {signed(counted_in.right ?? 0, 3)} mm for 100 mm to the right,{" "}
          {signed(counted_in.back ?? 0, 3)} to the back.{" "}
          <Button look="quiet" disabled={busy} onClick={() => keep({ kind: "probe_tilted", tilt: null })}>
            take it as it reads
          </Button>
        </p>
      )}
    </form>
  );
}

/** Down until it triggers, a gauge between tip and plate: how high the tip hangs, and the turn that puts it right. */
function Sensor({ sensor, keep, busy }: { sensor: Schemas["SensorTurn"] | null; keep: KeepEntry; busy: boolean }) {
  const [margin, setMargin] = useState("");
  const [pitch, setPitch] = useState("0.5");
  const [way, setWay] = useState<"lowers" | "raises">("lowers");
  const up = typedNumber(margin);
  const thread = typedNumber(pitch);
  const wrong = margin.trim() && (up === null || up < -5 || up > 30) ? "Give the gap in mm, such as 1.2." : null;
  const threadWrong = thread === null || thread <= 0 || thread > 5 ? "Give mm per turn, such as 0.5." : null;
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (up !== null && !wrong && thread !== null && !threadWrong)
          keep({ kind: "sensor_measured", margin_mm: up, pitch_mm: thread, clockwise_raises: way === "raises" }, () =>
            setMargin(""),
          );
      }}
    >
      <p className="font-semibold">The sensor's height</p>
      <div className="grid grid-cols-2 gap-2">
        <Field
          label="Gap under the tip as it triggers"
          unit="mm"
          inputMode="decimal"
          value={margin}
          onChange={(e) => setMargin(e.target.value)}
          wrong={wrong}
        />
        <Field
          label="Its adjuster's thread"
          unit="mm/turn"
          inputMode="decimal"
          value={pitch}
          onChange={(e) => setPitch(e.target.value)}
          wrong={threadWrong}
        />
      </div>
      <Choice
        label="Clockwise, seen from above,"
        value={way}
        onChange={setWay}
        options={[
          { value: "lowers", text: "lowers the sensor" },
          { value: "raises", text: "raises the sensor" },
        ]}
      />
      <Button type="submit" disabled={busy || up === null}>
        Say what to turn
      </Button>
      {sensor && (
        <p data-testid="sensor" className={sensor.right ? "text-verdigris" : "font-semibold"}>
          {sensor.words}
        </p>
      )}
    </form>
  );
}
