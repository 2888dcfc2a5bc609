import { useState } from "react";
import { Link } from "react-router";
import { api, type Schemas } from "../api/client";
import { UNTAUGHT } from "../api/manner";
import { useKeep } from "../api/setup";
import { Button, Wrong } from "../ui/controls";
import { ProblemOf, TextField } from "./fields";
import { Placing } from "./Placing";
import { Plates } from "./Plates";
import { HEAD, PART } from "./parts";
import { ScrewFields, Symmetric } from "./ScrewFields";
import { freshId } from "./Stock";
import { Works } from "./Works";

type View = Schemas["SetupView"];
type Machine = Schemas["Machine"];
type Plate = Schemas["Plate"];
type Screw = Schemas["Screw"];

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
    sign_proved: false,
    z_step_mm: 0.01,
    z_presses_mm: [],
    seen_from: "above",
    can_mesh: true,
    relative_extrusion: true,
    practice: false,
    on_leaving: "off",
    manner: UNTAUGHT,
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
            faces={view.faces}
            coats={view.coats}
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
                <Link
                  className="flex min-h-11 items-center text-sm text-graphite underline underline-offset-4"
                  to={`/machines/${draft.id}/talk`}
                >
                  how it talks
                </Link>
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
