/** The small shelves: gauges, nozzles, filaments, people. One form each, kept whole. */

import { type ReactNode, useState } from "react";
import { v4 as uuid } from "uuid";
import { api, type Schemas } from "../api/client";
import { useKeep } from "../api/setup";
import { Button, Choice, Wrong } from "../ui/controls";
import { Erase } from "./Erase";
import { NumberField, ProblemOf, TextField, Tick } from "./fields";

type Gauge = Schemas["Gauge"];

export const freshId = (prefix: string) => `${prefix}-${uuid().slice(0, 8)}`;

interface ShelfProps<T> {
  send: (body: T) => Promise<{ data?: unknown; error?: unknown }>;
  body: T;
  setRetired: (retired: boolean) => void;
  go: (id: string) => void;
  children: ReactNode;
}

/** Around the fields of one thing: refusals beside them, whether it is retired, and keeping it whole. */
function Shelf<T extends { id: string; retired?: boolean }>({ send, body, setRetired, go, children }: ShelfProps<T>) {
  const keep = useKeep(send);
  return (
    <ProblemOf.Provider value={keep.error?.problem ?? null}>
      <form
        className="grid max-w-2xl content-start gap-3 rounded-[6px] border border-hairline bg-paper p-4 sm:grid-cols-2"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(body, { onSuccess: () => go(body.id) });
        }}
      >
        {children}
        <Tick label="Retired" on={body.retired ?? false} onChange={setRetired} />
        <div className="flex flex-col gap-2 sm:col-span-2">
          <Wrong wrong={keep.error} />
          {keep.isSuccess && (
            <p role="status" className="text-verdigris">
              Kept.
            </p>
          )}
          <Button look="main" type="submit" disabled={keep.isPending}>
            Keep
          </Button>
        </div>
      </form>
    </ProblemOf.Provider>
  );
}

const putGauge = (body: Gauge) => api.PUT("/api/setup/gauges", { body });
const putNozzle = (body: Schemas["Nozzle"]) => api.PUT("/api/setup/nozzles", { body });
const putFilament = (body: Schemas["Filament"]) => api.PUT("/api/setup/filaments", { body });
const putPerson = (body: Schemas["Person"]) => api.PUT("/api/setup/people", { body });

const METHODS = [
  { value: "slide", text: "slid by hand" },
  { value: "push", text: "pushed until it buckles" },
  { value: "clip", text: "pulled by a clip that hangs on it" },
] as const;
const KINDS = [
  { value: "paper", text: "copy paper" },
  { value: "note", text: "sticky note" },
  { value: "card", text: "card" },
  { value: "feeler", text: "feeler" },
  { value: "shim", text: "shim" },
  { value: "lamp", text: "contact lamp" },
  { value: "dial", text: "dial gauge" },
  { value: "laser", text: "laser" },
  { value: "probe", text: "the machine's probe" },
] as const;

export function GaugeForm({ gauge, go }: { gauge: Gauge | undefined; go: (id: string) => void }) {
  const [draft, setDraft] = useState<Gauge>(
    gauge ?? {
      id: freshId("gauge"),
      name: "",
      kind: "paper",
      method: "slide",
      thickness_mm: 0,
      measured: false,
      stack_mm: null,
      stack_sheets: null,
      retired: false,
    },
  );
  const [known, setKnown] = useState<"stack" | "one" | "no">(
    gauge?.stack_mm ? "stack" : gauge?.measured ? "one" : gauge ? "no" : "stack",
  );
  const set = (part: Partial<Gauge>) => setDraft({ ...draft, ...part });
  const each = draft.stack_mm && draft.stack_sheets ? draft.stack_mm / draft.stack_sheets : null;
  const stack = known === "stack";
  const body = {
    ...draft,
    measured: known !== "no",
    stack_mm: stack ? draft.stack_mm : null,
    stack_sheets: stack ? draft.stack_sheets : null,
    thickness_mm: known === "no" ? 0 : draft.thickness_mm,
  };
  return (
    <Shelf send={putGauge} body={body} setRetired={(retired) => set({ retired })} go={go}>
      <TextField label="Name" path="name" value={draft.name} onChange={(name) => set({ name })} />
      <Choice label="Kind" value={draft.kind} options={KINDS} onChange={(kind) => set({ kind })} />
      <div className="sm:col-span-2">
        <Choice
          label="How it is felt"
          value={draft.method ?? "slide"}
          onChange={(method) => set({ method })}
          options={METHODS}
        />
        <p className="text-sm text-graphite">
          Each way has a scale of its own: a sheet that is felt in two ways is two gauges here. A feel check learns
          yours.
        </p>
      </div>
      <div className="sm:col-span-2">
        <Choice
          label="Its thickness"
          value={known}
          onChange={setKnown}
          options={[
            { value: "stack", text: "measured on a folded stack" },
            { value: "one", text: "measured singly, or marked on it" },
            { value: "no", text: "not known: drag counts as zero" },
          ]}
        />
      </div>
      {known === "stack" && (
        <>
          <NumberField
            label="Height of the stack"
            unit="mm"
            path="stack_mm"
            value={draft.stack_mm ?? null}
            onChange={(stack_mm) => set({ stack_mm })}
          />
          <NumberField
            label="Sheets in it"
            path="stack_sheets"
            value={draft.stack_sheets ?? null}
            onChange={(n) => set({ stack_sheets: n === null ? null : Math.round(n) })}
          />
          {each !== null && <p className="text-sm text-graphite sm:col-span-2">One sheet is {each.toFixed(3)} mm.</p>}
        </>
      )}
      {known === "one" && (
        <NumberField
          label="Thickness"
          unit="mm"
          path="thickness_mm"
          value={draft.thickness_mm}
          onChange={(mm) => set({ thickness_mm: mm ?? 0 })}
        />
      )}
      {known === "no" && (
        <p className="text-sm text-graphite sm:col-span-2">
          A sheet entered at 0.2 that is 0.1 spoils the first layer. Unmeasured, drag is zero, known to ±0.05 mm.
        </p>
      )}
    </Shelf>
  );
}

export function NozzleForm({ nozzle, go }: { nozzle: Schemas["Nozzle"] | undefined; go: (id: string) => void }) {
  const [draft, setDraft] = useState<Schemas["Nozzle"]>(
    nozzle ?? { id: freshId("nozzle"), name: "", diameter_mm: 0.4, retired: false },
  );
  return (
    <Shelf send={putNozzle} body={draft} setRetired={(retired) => setDraft({ ...draft, retired })} go={go}>
      <TextField label="Name" path="name" value={draft.name} onChange={(name) => setDraft({ ...draft, name })} />
      <NumberField
        label="Diameter"
        unit="mm"
        path="diameter_mm"
        value={draft.diameter_mm}
        onChange={(mm) => setDraft({ ...draft, diameter_mm: mm ?? 0 })}
      />
    </Shelf>
  );
}

const CLARITY = [
  { value: "opaque", text: "hardly any: dark or metallic" },
  { value: "usual", text: "some: most colours" },
  { value: "clear", text: "most: clear or natural" },
] as const;

const MATERIALS = ["PLA", "PETG", "ABS", "ASA", "TPU"] as const;

export function FilamentForm({
  filament,
  go,
}: {
  filament: Schemas["Filament"] | undefined;
  go: (id: string) => void;
}) {
  const [draft, setDraft] = useState<Schemas["Filament"]>(
    filament ?? {
      id: freshId("filament"),
      name: "",
      material: "PLA",
      diameter_mm: 1.75,
      bed_c: 55,
      nozzle_c: 205,
      first_layer_fan: 0,
      colour: "#cbbfa2",
      clarity: "usual",
      retired: false,
    },
  );
  const set = (part: Partial<Schemas["Filament"]>) => setDraft({ ...draft, ...part });
  return (
    <Shelf send={putFilament} body={draft} setRetired={(retired) => set({ retired })} go={go}>
      <TextField label="Name" path="name" value={draft.name} onChange={(name) => set({ name })} />
      <Choice
        label="Material"
        value={draft.material}
        options={MATERIALS.map((m) => ({ value: m, text: m }))}
        onChange={(material) => set({ material })}
      />
      <NumberField
        label="Diameter"
        unit="mm"
        path="diameter_mm"
        value={draft.diameter_mm}
        onChange={(v) => set({ diameter_mm: v ?? 0 })}
      />
      <NumberField label="Bed" unit="°C" path="bed_c" value={draft.bed_c} onChange={(v) => set({ bed_c: v ?? 0 })} />
      <NumberField
        label="Tip"
        unit="°C"
        path="nozzle_c"
        value={draft.nozzle_c}
        onChange={(v) => set({ nozzle_c: v ?? 0 })}
      />
      <NumberField
        label="Part fan in the first layer"
        unit="%"
        path="first_layer_fan"
        value={Math.round(100 * draft.first_layer_fan)}
        onChange={(v) => set({ first_layer_fan: (v ?? 0) / 100 })}
      />
      <label className="block text-sm text-graphite">
        Colour, for the pictures a print is judged against
        <input
          type="color"
          className="block h-11 w-full rounded-[4px] border border-graphite bg-paper p-1"
          value={draft.colour}
          onChange={(e) => set({ colour: e.target.value })}
        />
      </label>
      <Choice
        label="Light through a thin layer"
        value={draft.clarity}
        options={CLARITY}
        onChange={(clarity) => set({ clarity })}
      />
    </Shelf>
  );
}

export function PersonForm({ line, go }: { line: Schemas["PersonLine"] | undefined; go: (id: string) => void }) {
  const [draft, setDraft] = useState<Schemas["Person"]>(
    line?.person ?? { id: freshId("person"), name: "", initials: "", feels: [], retired: false },
  );
  // What was learnt of a feel since the page was opened is not typed here: it stays.
  const body = { ...draft, feels: line?.person.feels ?? [] };
  return (
    <Shelf send={putPerson} body={body} setRetired={(retired) => setDraft({ ...draft, retired })} go={go}>
      <TextField label="Name" path="name" value={draft.name} onChange={(name) => setDraft({ ...draft, name })} />
      <TextField
        label="Initials, as they sign"
        path="initials"
        value={draft.initials}
        onChange={(initials) => setDraft({ ...draft, initials })}
      />
      <div className="text-sm sm:col-span-2">
        <p className="font-medium">Feel</p>
        {line?.feels.length ? (
          line.feels.map((f) => <p key={f}>{f}</p>)
        ) : (
          <p className="text-graphite">
            Nothing known yet: the shipped scale is used. Every finished run narrows it; a feel check at the Z offset
            station does it in five minutes.
          </p>
        )}
      </div>
      {line && (
        <div className="text-sm sm:col-span-2">
          <Erase initials={line.person.initials} />
        </div>
      )}
    </Shelf>
  );
}
