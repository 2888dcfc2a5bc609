import type { Schemas } from "../api/client";
import { useManners } from "../api/manner";
import { Choice } from "../ui/controls";
import { signed } from "../ui/words";
import { NumberField, NumbersField, Tick } from "./fields";
import { HEAD, PART } from "./parts";

type View = Schemas["SetupView"];
type Machine = Schemas["Machine"];

const CONVENTIONS = [
  { value: "probe_offset", text: "probe offset: more negative is closer" },
  { value: "home_offset", text: "home offset: more negative is further" },
  { value: "stop_position", text: "stop position: larger is closer" },
  { value: "live_only", text: "live only: nothing is stored" },
] as const;

export function Works({
  draft,
  set,
  nozzles,
}: {
  draft: Machine;
  set: (part: Partial<Machine>) => void;
  nozzles: View["nozzles"];
}) {
  const manners = useManners().data ?? [];
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
      <NumbersField
        className="col-span-2"
        label="Its height buttons step by"
        unit="mm"
        value={draft.z_presses_mm}
        onChange={(z_presses_mm) => set({ z_presses_mm })}
      />
      {draft.screws.length > 0 && <Springy draft={draft} set={set} />}
      <div className="col-span-2">
        <Choice
          label="Z offset is kept as"
          value={draft.convention}
          onChange={(convention) => set({ convention, sign_proved: false })}
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
            onChange={(v) => set({ probe: { ...probe, x_offset_mm: v ?? 0, sighted: null } })}
          />
          <NumberField
            label="Probe behind tip"
            unit="mm"
            path="machine.probe.y_offset_mm"
            value={probe.y_offset_mm}
            onChange={(v) => set({ probe: { ...probe, y_offset_mm: v ?? 0, sighted: null } })}
          />
          {probe.sighted && (
            <p className="col-span-2 text-sm text-graphite">
              By marks: {signed(probe.sighted.x_mm)} mm and {signed(probe.sighted.y_mm)} mm. That counts until a number
              is typed here.
            </p>
          )}
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
        value={draft.manner}
        onChange={(manner) => set({ manner })}
        options={[
          ...manners.filter((m) => m.complete).map((m) => ({ value: m.id, text: m.name })),
          ...(manners.some((m) => m.complete && m.id === draft.manner)
            ? []
            : [{ value: draft.manner, text: draft.manner }]),
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

/** A plate on springs gives way under the gauge: one weight beside one screw tells by how much. */
function Springy({ draft, set }: { draft: Machine; set: (part: Partial<Machine>) => void }) {
  const tried = draft.gives_way;
  return (
    <>
      <div className="col-span-2">
        <Tick
          label="Its plate is on springs"
          on={tried != null}
          onChange={(on) =>
            set({ gives_way: on ? { screw: draft.screws[0]?.name ?? "", weight_g: 500, sinks_mm: 0.2 } : null })
          }
        />
      </div>
      {tried && (
        <>
          <p className="col-span-2 text-sm text-graphite">
            Lay a weight on the plate over one screw, and read with a dial or feelers how far it sinks there.
          </p>
          <div className="col-span-2">
            <Choice
              label="Over"
              value={tried.screw}
              onChange={(screw) => set({ gives_way: { ...tried, screw } })}
              options={draft.screws.map((s) => ({ value: s.name, text: s.name }))}
            />
          </div>
          <NumberField
            label="A weight of"
            unit="g"
            path="machine.gives_way.weight_g"
            value={tried.weight_g}
            onChange={(v) => set({ gives_way: { ...tried, weight_g: v ?? 0 } })}
          />
          <NumberField
            label="sinks it by"
            unit="mm"
            path="machine.gives_way.sinks_mm"
            value={tried.sinks_mm}
            onChange={(v) => set({ gives_way: { ...tried, sinks_mm: v ?? 0 } })}
          />
        </>
      )}
    </>
  );
}
