/** The screws of a machine: one by one, or as a symmetric set. */
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { boundsOf } from "../sheet/frame";
import { Button, Choice, Wrong } from "../ui/controls";
import { NumberField, TextField } from "./fields";
import { PART } from "./parts";

type Plate = Schemas["Plate"];
type Screw = Schemas["Screw"];

export function ScrewFields({
  screw,
  at,
  machineId,
  threads,
  set,
  all,
  remove,
}: {
  screw: Screw;
  at: number;
  machineId: string | null;
  threads: Record<string, number>;
  set: (part: Partial<Screw>) => void;
  all: (part: Partial<Screw>) => void;
  remove: () => void;
}) {
  const path = `machine.screws.${at}`;
  const thread = Object.entries(threads).find(([, mm]) => mm === screw.pitch_mm)?.[0] ?? "own";
  const position = useMutation<Schemas["LineStatus"], Refusal, string>({
    mutationFn: (machine) =>
      answer(
        api.GET("/api/machines/{machine_id}/line", { params: { path: { machine_id: machine } } }),
      ) as unknown as Promise<Schemas["LineStatus"]>,
    onSuccess: (status) => {
      if (status.position_mm) set({ x_mm: status.position_mm[0], y_mm: status.position_mm[1] });
    },
  });
  return (
    <div className="grid grid-cols-2 gap-2">
      <TextField
        className="col-span-2"
        label="Name"
        path={`${path}.name`}
        value={screw.name}
        onChange={(name) => set({ name })}
      />
      <NumberField
        label="x"
        unit="mm"
        path={`${path}.x_mm`}
        value={screw.x_mm}
        onChange={(v) => set({ x_mm: v ?? 0 })}
      />
      <NumberField
        label="y"
        unit="mm"
        path={`${path}.y_mm`}
        value={screw.y_mm}
        onChange={(v) => set({ y_mm: v ?? 0 })}
      />
      {machineId && (
        <div className="col-span-2">
          <Button className="w-full" onClick={() => position.mutate(machineId)}>
            Take it from the machine's position
          </Button>
          {position.isSuccess && !position.data.position_mm && (
            <p role="alert" className="text-sm text-madder">
              Nobody is on this machine's line, or it was not homed. Connect it in a run, or type the numbers.
            </p>
          )}
          <Wrong wrong={position.error} />
        </div>
      )}
      <Choice
        label="Thread"
        value={thread}
        onChange={(t) => t !== "own" && all({ pitch_mm: threads[t] ?? 0.7 })}
        options={[
          ...Object.entries(threads).map(([name, mm]) => ({ value: name, text: `${name}, ${mm} mm per turn` })),
          { value: "own", text: "another" },
        ]}
      />
      <NumberField
        label="mm per turn"
        path={`${path}.pitch_mm`}
        value={screw.pitch_mm}
        onChange={(v) => set({ pitch_mm: v ?? 0 })}
      />
      <NumberField
        label="Marks per turn"
        path={`${path}.marks_per_turn`}
        value={screw.marks_per_turn}
        onChange={(v) => all({ marks_per_turn: Math.round(v ?? 16) })}
      />
      <Choice
        label="Clockwise from above"
        value={String(screw.sense) as "1" | "-1"}
        onChange={(s) => set({ sense: Number(s) as 1 | -1, sense_proved: false })}
        options={[
          { value: "1", text: "raises the plate" },
          { value: "-1", text: "lowers the plate" },
        ]}
      />
      <NumberField
        label="Travel, loose to tight"
        unit="mm"
        path={`${path}.travel_mm`}
        value={screw.travel_mm ?? null}
        optional
        onChange={(v) => set({ travel_mm: v })}
      />
      <NumberField
        label="Spring preload now"
        unit="mm"
        path={`${path}.preload_mm`}
        value={screw.preload_mm ?? null}
        optional
        onChange={(v) => set({ preload_mm: v })}
      />
      <p className="col-span-2 text-sm text-graphite">
        {screw.sense_proved
          ? "Its sense has been seen to be so."
          : "Its sense is proved in the first run: lift the tip, a sixteenth clockwise, and what the paper does; or by what the gauge said before each first turn."}
      </p>
      <Button look="quiet" className="justify-self-start text-sm" onClick={remove}>
        take this screw away
      </Button>
    </div>
  );
}

export function Symmetric({
  plate,
  like,
  put,
}: {
  plate: Plate;
  like: Screw | undefined;
  put: (screws: Screw[]) => void;
}) {
  const [inset, setInset] = useState<number | null>(30);
  const [count, setCount] = useState<"3" | "4" | "6" | "9">("4");
  const make = useMutation<Schemas["Screws"], Refusal, void>({
    mutationFn: () => {
      const by = inset ?? 0;
      const [x0, y0, x1, y1] = boundsOf(plate);
      return answer(
        api.POST("/api/setup/symmetric", {
          body: {
            plate,
            x_mm: x0 + by,
            y_mm: y0 + by,
            opposite_x_mm: x1 - by,
            opposite_y_mm: y1 - by,
            count: Number(count) as 3 | 4 | 6 | 9,
          },
        }),
      );
    },
    onSuccess: (found) =>
      put(
        found.screws.map((s) => ({
          ...s,
          pitch_mm: like?.pitch_mm ?? s.pitch_mm,
          marks_per_turn: like?.marks_per_turn ?? s.marks_per_turn,
          sense: like?.sense ?? s.sense,
          travel_mm: like?.travel_mm ?? null,
          preload_mm: like?.preload_mm ?? null,
        })),
      ),
  });
  return (
    <div className={`${PART} grid grid-cols-[1fr_1fr_auto] items-end gap-2`}>
      <Choice
        label="A symmetric set of"
        value={count}
        onChange={setCount}
        options={[
          { value: "3", text: "3 screws" },
          { value: "4", text: "4 screws" },
          { value: "6", text: "6 screws" },
          { value: "9", text: "9 screws" },
        ]}
      />
      <NumberField label="From the plate's edges" unit="mm" path="inset" value={inset} onChange={setInset} />
      <Button onClick={() => make.mutate()}>Put them</Button>
      <div className="col-span-3">
        <Wrong wrong={make.error} />
      </div>
    </div>
  );
}
