import type { Schemas } from "../api/client";
import { Button, Choice } from "../ui/controls";
import { NumberField, TextField } from "./fields";
import { HEAD, PART } from "./parts";

type Machine = Schemas["Machine"];
type Plate = Schemas["Plate"];

type View = Schemas["SetupView"];

export function Plates({
  draft,
  faces,
  coats,
  at,
  go,
  setPlate,
  add,
}: {
  draft: Machine;
  faces: View["faces"];
  coats: View["coats"];
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
        <div className="col-span-2">
          <Choice
            label="Its face"
            value={plate.face ?? ""}
            onChange={(face) => setPlate({ face: face || null })}
            options={[{ value: "", text: "not said" }, ...named(faces)]}
          />
        </div>
        <Choice
          label="What lies on it"
          value={plate.coat ?? ""}
          onChange={(coat) => setPlate({ coat: coat || null })}
          options={[{ value: "", text: "nothing" }, ...named(coats)]}
        />
      </div>
      {!plate.face && (
        <p className="mt-1 text-sm text-graphite">
          Its face says how it is cleaned, and what holds on it poorly, or too well.
        </p>
      )}
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

/** Choices by id and name. */
function named<T extends string>(all: readonly { id: T; name: string }[]): { value: T | ""; text: string }[] {
  return all.map(({ id, name }) => ({ value: id, text: name }));
}
