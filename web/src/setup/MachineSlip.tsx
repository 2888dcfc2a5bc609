/** One machine: its plates and what lies on them, its screws placed on the sheet, and how it works. */
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { useKeep } from "../api/setup";
import { Button, Choice, Wrong } from "../ui/controls";
import { NumberField, ProblemOf, TextField, Tick } from "./fields";
import { Placing } from "./Placing";
import { freshId } from "./Stock";

type View = Schemas["SetupView"];
type Machine = Schemas["Machine"];
type Plate = Schemas["Plate"];
type Screw = Schemas["Screw"];

const PART = "rounded-[6px] border border-hairline bg-paper p-3";
const HEAD = "mb-2 font-semibold";

const CONVENTIONS = [
  { value: "probe_offset", text: "probe offset: more negative is closer" },
  { value: "home_offset", text: "home offset: more negative is further" },
  { value: "stop_position", text: "stop position: larger is closer" },
  { value: "live_only", text: "live only: nothing is stored" },
] as const;

function newMachine(): Machine {
  const id = freshId("machine");
  return {
    id,
    name: "",
    plates: [
      {
        id: freshId("plate"),
        name: "plate",
        shape: "rectangle",
        width_mm: 220,
        depth_mm: 220,
        layers: [],
        keep_outs: [],
        retired: false,
      },
    ],
    screws: [],
    nozzle_mm: 0.4,
    nozzle_id: null,
    beam: null,
    probe: null,
    convention: "probe_offset",
    stored_mm: 0,
    z_step_mm: 0.01,
    seen_from: "above",
    can_mesh: true,
    relative_extrusion: true,
    practice: false,
    on_leaving: "off",
    manner: "harbour",
    line_url: null,
    where: [],
    in_use: false,
    retired: false,
  };
}

export function MachineSlip({
  view,
  kept,
  go,
}: {
  view: View;
  kept: View["machines"][number] | undefined;
  go: (id: string) => void;
}) {
  const [draft, setDraft] = useState<Machine>(() => kept?.machine ?? newMachine());
  const [revision, setRevision] = useState(kept?.revision ?? 0);
  const [plateAt, setPlateAt] = useState(0);
  const [chosen, setChosen] = useState<number | null>(null);
  const [tool, setTool] = useState<"choose" | "screw" | "keep-out">("choose");
  const keep = useKeep((machine: Machine) =>
    api.PUT("/api/setup/machines/{kept_id}", {
      params: { path: { kept_id: machine.id } },
      body: { machine, seen_revision: revision },
    }),
  );
  const copy = useKeep((id: string) =>
    api.POST("/api/setup/machines/{kept_id}/copy", {
      params: { path: { kept_id: draft.id } },
      body: { id, name: `${draft.name} copy` },
    }),
  );
  const plate = draft.plates[plateAt] ?? draft.plates[0];
  if (!plate) return null;
  const set = (part: Partial<Machine>) => setDraft({ ...draft, ...part });
  const setPlate = (part: Partial<Plate>) =>
    set({ plates: draft.plates.map((p, k) => (k === plateAt ? { ...p, ...part } : p)) });
  const setScrew = (k: number, part: Partial<Screw>) =>
    set({ screws: draft.screws.map((s, j) => (j === k ? { ...s, ...part } : s)) });
  const addScrew = (x: number, y: number) => {
    const used = new Set(draft.screws.map((s) => s.name));
    let n = draft.screws.length + 1;
    while (used.has(`screw ${n}`)) n += 1;
    const like = draft.screws[draft.screws.length - 1];
    set({
      screws: [
        ...draft.screws,
        {
          name: `screw ${n}`,
          x_mm: x,
          y_mm: y,
          pitch_mm: like?.pitch_mm ?? 0.7,
          sense: like?.sense ?? 1,
          sense_proved: false,
          marks_per_turn: like?.marks_per_turn ?? 16,
          travel_mm: like?.travel_mm ?? null,
          preload_mm: like?.preload_mm ?? null,
        },
      ],
    });
    setChosen(draft.screws.length);
  };
  const touched = !kept || JSON.stringify(kept.machine) !== JSON.stringify(draft);
  const stale = kept !== undefined && kept.revision !== revision;
  const screw = chosen === null ? undefined : draft.screws[chosen];
  return (
    <ProblemOf.Provider value={keep.error?.problem ?? null}>
      <form
        className="grid content-start gap-3 lg:grid-cols-[minmax(0,1fr)_380px]"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(draft, {
            onSuccess: (now) => {
              setRevision(now.machines.find((m) => m.machine.id === draft.id)?.revision ?? 0);
              go(draft.id);
            },
          });
        }}
      >
        <div className="flex min-w-0 flex-col gap-3">
          <div className={PART}>
            <div className="mb-2 flex flex-wrap gap-2">
              {(["choose", "screw", "keep-out"] as const).map((t) => (
                <Button
                  key={t}
                  look={tool === t ? "chosen" : "plain"}
                  aria-pressed={tool === t}
                  onClick={() => setTool(t)}
                >
                  {{ choose: "choose and move", screw: "place a screw", "keep-out": "draw a keep-out" }[t]}
                </Button>
              ))}
            </div>
            <Placing
              plate={plate}
              screws={draft.screws}
              chosen={chosen}
              choose={setChosen}
              move={(k, x, y) => setScrew(k, { x_mm: x, y_mm: y })}
              add={addScrew}
              addKeepOut={(k) =>
                setPlate({ keep_outs: [...plate.keep_outs, { ...k, name: `clip ${plate.keep_outs.length + 1}` }] })
              }
              tool={tool}
            />
          </div>
          <Symmetric plate={plate} like={draft.screws[0]} put={(screws) => set({ screws })} />
          <Plates
            draft={draft}
            at={plateAt}
            go={setPlateAt}
            setPlate={setPlate}
            add={() => {
              set({
                plates: [...draft.plates, { ...plate, id: freshId("plate"), name: `${plate.name} 2`, keep_outs: [] }],
              });
              setPlateAt(draft.plates.length);
            }}
          />
        </div>
        <div className="flex flex-col gap-3">
          <div className={PART}>
            <TextField label="Name" path="machine.name" value={draft.name} onChange={(name) => set({ name })} />
            {stale && (
              <p role="alert" className="mt-2 border-l-2 border-madder pl-3 text-sm text-madder">
                It was changed elsewhere meanwhile.{" "}
                <button
                  type="button"
                  className="min-h-11 underline underline-offset-4"
                  onClick={() => {
                    if (kept) setDraft(kept.machine);
                    setRevision(kept?.revision ?? 0);
                  }}
                >
                  Show that, and drop what is typed here
                </button>
              </p>
            )}
            <div className="mt-3">
              <Wrong wrong={keep.error ?? copy.error} />
            </div>
            <p role="status" className={kept && !touched ? "text-verdigris" : "text-graphite"}>
              {kept && !touched ? "Kept." : "Not kept yet."}
            </p>
            <div className="mt-2">
              <Button look="main" type="submit" disabled={keep.isPending}>
                Keep this machine
              </Button>
            </div>
            {kept && (
              <div className="mt-1 flex flex-wrap gap-x-4">
                <Button
                  look="quiet"
                  className="text-sm"
                  onClick={() => {
                    const id = freshId("machine");
                    copy.mutate(id, { onSuccess: () => go(id) });
                  }}
                >
                  copy it
                </Button>
                <a
                  className="flex min-h-11 items-center text-sm text-graphite underline underline-offset-4"
                  href={`/api/setup/file?machine=${draft.id}`}
                >
                  save as JSON
                </a>
              </div>
            )}
            {kept && kept.learnt_runs > 0 && (
              <p className="text-sm text-graphite">
                {kept.learnt_runs} finished runs have taught its supports and knobs. Moving a screw or another thread
                sets that aside.
              </p>
            )}
          </div>
          <div className={PART}>
            <h2 className={HEAD}>{screw ? "This screw" : `Screws: ${draft.screws.length || "none"}`}</h2>
            {screw && chosen !== null ? (
              <ScrewFields
                key={chosen}
                screw={screw}
                at={chosen}
                machineId={kept ? draft.id : null}
                threads={view.threads}
                set={(part) => setScrew(chosen, part)}
                all={(part) => set({ screws: draft.screws.map((s) => ({ ...s, ...part })) })}
                remove={() => {
                  set({ screws: draft.screws.filter((_, k) => k !== chosen) });
                  setChosen(null);
                }}
              />
            ) : (
              <p className="text-sm text-graphite">
                Choose one on the sheet, place one by pointing, or put a symmetric set. Three or more, or none at all
                for a fixed plate.
              </p>
            )}
          </div>
          <Works draft={draft} set={set} nozzles={view.nozzles} />
        </div>
      </form>
    </ProblemOf.Provider>
  );
}

function ScrewFields({
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

function Symmetric({ plate, like, put }: { plate: Plate; like: Screw | undefined; put: (screws: Screw[]) => void }) {
  const round = plate.shape === "round";
  const [inset, setInset] = useState<number | null>(30);
  const [count, setCount] = useState<"3" | "4" | "6" | "9">("4");
  const make = useMutation<Schemas["Screws"], Refusal, void>({
    mutationFn: () => {
      const by = inset ?? 0;
      const [x, y] = round ? [-plate.width_mm / 2 + by, -plate.depth_mm / 2 + by] : [by, by];
      return answer(
        api.POST("/api/setup/symmetric", {
          body: {
            plate,
            x_mm: x ?? 0,
            y_mm: y ?? 0,
            opposite_x_mm: round ? plate.width_mm / 2 - by : plate.width_mm - by,
            opposite_y_mm: round ? plate.depth_mm / 2 - by : plate.depth_mm - by,
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

function Plates({
  draft,
  at,
  go,
  setPlate,
  add,
}: {
  draft: Machine;
  at: number;
  go: (k: number) => void;
  setPlate: (part: Partial<Plate>) => void;
  add: () => void;
}) {
  const plate = draft.plates[at];
  if (!plate) return null;
  const path = `machine.plates.${at}`;
  const stack = plate.layers.reduce<number | null>(
    (sum, l) => (sum === null || l.thickness_mm == null ? null : sum + l.thickness_mm),
    0,
  );
  return (
    <div className={PART}>
      <h2 className={HEAD}>Plates</h2>
      <div className="mb-2 flex flex-wrap gap-2">
        {draft.plates.map((p, k) => (
          <Button key={p.id} look={k === at ? "chosen" : "plain"} onClick={() => go(k)}>
            {p.name || "unnamed"}
          </Button>
        ))}
        <Button onClick={add}>another plate</Button>
      </div>
      <div key={plate.id} className="grid grid-cols-2 gap-2 sm:grid-cols-4">
        <TextField
          className="col-span-2"
          label="Plate"
          path={`${path}.name`}
          value={plate.name}
          onChange={(name) => setPlate({ name })}
        />
        <NumberField
          label={plate.shape === "round" ? "Across" : "Width"}
          unit="mm"
          path={`${path}.width_mm`}
          value={plate.width_mm}
          onChange={(v) =>
            setPlate(plate.shape === "round" ? { width_mm: v ?? 0, depth_mm: v ?? 0 } : { width_mm: v ?? 0 })
          }
        />
        {plate.shape === "rectangle" && (
          <NumberField
            label="Depth"
            unit="mm"
            path={`${path}.depth_mm`}
            value={plate.depth_mm}
            onChange={(v) => setPlate({ depth_mm: v ?? 0 })}
          />
        )}
        <Choice
          label="Shape"
          value={plate.shape}
          onChange={(shape) => setPlate(shape === "round" ? { shape, depth_mm: plate.width_mm } : { shape })}
          options={[
            { value: "rectangle", text: "rectangle" },
            { value: "round", text: "round" },
          ]}
        />
      </div>
      <p className="mt-3 text-sm font-medium">
        Layers on the heated base, from below
        {stack !== null && plate.layers.length > 0 && (
          <span className="text-graphite">, together {stack.toFixed(2)} mm</span>
        )}
      </p>
      {plate.layers.map((layer, k) => (
        <div key={k} className="grid grid-cols-[1fr_120px_auto] items-end gap-2">
          <TextField
            label="Layer"
            path={`${path}.layers.${k}.name`}
            value={layer.name}
            onChange={(name) => setPlate({ layers: plate.layers.map((l, j) => (j === k ? { ...l, name } : l)) })}
          />
          <NumberField
            label="Thick"
            unit="mm"
            optional
            path={`${path}.layers.${k}.thickness_mm`}
            value={layer.thickness_mm ?? null}
            onChange={(mm) =>
              setPlate({ layers: plate.layers.map((l, j) => (j === k ? { ...l, thickness_mm: mm } : l)) })
            }
          />
          <Button
            aria-label={`take away ${layer.name}`}
            onClick={() => setPlate({ layers: plate.layers.filter((_, j) => j !== k) })}
          >
            ✕
          </Button>
        </div>
      ))}
      <Button
        look="quiet"
        className="text-sm"
        onClick={() => setPlate({ layers: [...plate.layers, { name: "layer", thickness_mm: null }] })}
      >
        add a layer
      </Button>
      {plate.keep_outs.map((k, i) => (
        <div key={i} className="flex items-end gap-2">
          <TextField
            className="flex-1"
            label={`Keep-out, ${k.x_max_mm - k.x_min_mm} x ${k.y_max_mm - k.y_min_mm} mm`}
            path={`${path}.keep_outs.${i}.name`}
            value={k.name}
            onChange={(name) => setPlate({ keep_outs: plate.keep_outs.map((o, j) => (j === i ? { ...o, name } : o)) })}
          />
          <Button
            aria-label={`take away ${k.name}`}
            onClick={() => setPlate({ keep_outs: plate.keep_outs.filter((_, j) => j !== i) })}
          >
            ✕
          </Button>
        </div>
      ))}
    </div>
  );
}

function Works({
  draft,
  set,
  nozzles,
}: {
  draft: Machine;
  set: (part: Partial<Machine>) => void;
  nozzles: View["nozzles"];
}) {
  const probe = draft.probe;
  const beam = draft.beam;
  return (
    <div className={`${PART} grid grid-cols-2 gap-2`}>
      <h2 className={`${HEAD} col-span-2 mb-0`}>How it works</h2>
      <Choice
        label="Nozzle"
        value={draft.nozzle_id ?? ""}
        onChange={(id) => {
          const nozzle = nozzles.find((n) => n.id === id);
          set({ nozzle_id: id || null, nozzle_mm: nozzle?.diameter_mm ?? draft.nozzle_mm });
        }}
        options={[
          { value: "", text: `${draft.nozzle_mm} mm` },
          ...nozzles.filter((n) => !n.retired).map((n) => ({ value: n.id, text: n.name })),
        ]}
      />
      <NumberField
        label="Z step"
        unit="mm"
        path="machine.z_step_mm"
        value={draft.z_step_mm}
        onChange={(v) => set({ z_step_mm: v ?? 0 })}
      />
      <div className="col-span-2">
        <Choice
          label="Z offset is kept as"
          value={draft.convention}
          onChange={(convention) => set({ convention })}
          options={CONVENTIONS}
        />
      </div>
      <NumberField
        label="Stored now"
        unit="mm"
        path="machine.stored_mm"
        value={draft.stored_mm}
        onChange={(v) => set({ stored_mm: v ?? 0 })}
      />
      <Choice
        label="Knobs are seen from"
        value={draft.seen_from}
        onChange={(seen_from) => set({ seen_from })}
        options={[
          { value: "above", text: "above" },
          { value: "below", text: "below" },
        ]}
      />
      <Choice
        label="Probe"
        value={probe?.kind ?? "none"}
        onChange={(kind) =>
          set({
            probe:
              kind === "none"
                ? null
                : {
                    kind,
                    x_offset_mm: probe?.x_offset_mm ?? 0,
                    y_offset_mm: probe?.y_offset_mm ?? 0,
                    sd_mm: probe?.sd_mm ?? 0.005,
                    heat_sensitive: kind === "inductive",
                  },
          })
        }
        options={[
          { value: "none", text: "none" },
          { value: "touch", text: "touch" },
          { value: "inductive", text: "inductive" },
        ]}
      />
      <Choice
        label="Z drives"
        value={beam ? "2" : "1"}
        onChange={(n) =>
          set({ beam: n === "2" ? { left_mm: 0, right_mm: 220, pitch_mm: 8, steps_per_turn: 200 } : null })
        }
        options={[
          { value: "1", text: "one, or coupled" },
          { value: "2", text: "two, each on its own" },
        ]}
      />
      {probe && (
        <>
          <NumberField
            label="Probe right of tip"
            unit="mm"
            path="machine.probe.x_offset_mm"
            value={probe.x_offset_mm}
            onChange={(v) => set({ probe: { ...probe, x_offset_mm: v ?? 0 } })}
          />
          <NumberField
            label="Probe behind tip"
            unit="mm"
            path="machine.probe.y_offset_mm"
            value={probe.y_offset_mm}
            onChange={(v) => set({ probe: { ...probe, y_offset_mm: v ?? 0 } })}
          />
        </>
      )}
      {beam && (
        <>
          <NumberField
            label="Left drive at x"
            unit="mm"
            path="machine.beam.left_mm"
            value={beam.left_mm}
            onChange={(v) => set({ beam: { ...beam, left_mm: v ?? 0 } })}
          />
          <NumberField
            label="Right drive at x"
            unit="mm"
            path="machine.beam.right_mm"
            value={beam.right_mm}
            onChange={(v) => set({ beam: { ...beam, right_mm: v ?? 0 } })}
          />
          <NumberField
            label="Drive, mm per turn"
            path="machine.beam.pitch_mm"
            value={beam.pitch_mm}
            onChange={(v) => set({ beam: { ...beam, pitch_mm: v ?? 0 } })}
          />
          <NumberField
            label="Steps per turn"
            path="machine.beam.steps_per_turn"
            value={beam.steps_per_turn}
            onChange={(v) => set({ beam: { ...beam, steps_per_turn: Math.round(v ?? 0) } })}
          />
        </>
      )}
      <Choice
        label="Manner on the line"
        value={draft.manner as "harbour" | "lantern"}
        onChange={(manner) => set({ manner })}
        options={[
          { value: "harbour", text: "harbour" },
          { value: "lantern", text: "lantern" },
          ...(["harbour", "lantern"].includes(draft.manner)
            ? []
            : [{ value: draft.manner as "harbour", text: draft.manner }]),
        ]}
      />
      <Choice
        label="Heaters, when its line is left"
        value={draft.on_leaving}
        onChange={(on_leaving) => set({ on_leaving })}
        options={[
          { value: "off", text: "switched off" },
          { value: "ask", text: "asked each time" },
        ]}
      />
      <div className="col-span-2">
        <Tick label="It can follow a mesh" on={draft.can_mesh} onChange={(can_mesh) => set({ can_mesh })} />
        <Tick
          label="Extrusion is relative"
          on={draft.relative_extrusion}
          onChange={(relative_extrusion) => set({ relative_extrusion })}
        />
        <Tick label="It is in use already: no rough start" on={draft.in_use} onChange={(in_use) => set({ in_use })} />
        <Tick label="Retired" on={draft.retired} onChange={(retired) => set({ retired })} />
      </div>
    </div>
  );
}
