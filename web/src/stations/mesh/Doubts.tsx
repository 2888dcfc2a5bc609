/** Readings that the others speak against: read again, keep with a reason, or put another number in their place. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Field } from "../../ui/controls";
import { signed, typedMm } from "../../ui/words";

type Point = Schemas["PointShown"];

export function Doubts({
  view,
  keep,
  busy,
  onPick,
}: {
  view: WithHead<Schemas["MeshView"]>;
  keep: KeepEntry;
  busy: boolean;
  onPick: (place: { column: number; row: number }) => void;
}) {
  const doubted = view.points.filter((p) => p.doubt);
  if (!doubted.length) return null;
  return (
    <section aria-label="Doubtful points" className="flex flex-col gap-2">
      {doubted.map((p) => (
        <Doubtful key={`${p.column},${p.row}`} point={p} keep={keep} busy={busy} onPick={onPick} />
      ))}
    </section>
  );
}

function Doubtful({
  point,
  keep,
  busy,
  onPick,
}: {
  point: Point;
  keep: KeepEntry;
  busy: boolean;
  onPick: (place: { column: number; row: number }) => void;
}) {
  const [editing, setEditing] = useState<"keep" | "edit" | null>(null);
  const [height, setHeight] = useState("");
  const [reason, setReason] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  const { column, row } = point;
  return (
    <details className="rounded-[4px] border border-brass bg-brass/10 px-3">
      <summary className="min-h-11 cursor-pointer py-2 text-sm">
        <b>
          Column {column + 1}, row {row + 1} ?
        </b>{" "}
        {point.doubt}
      </summary>
      <p className="text-sm">
        Read {point.readings.map((r) => signed(r.height_mm) + (r.counts ? "" : " (replaced)")).join(", ")}. A doubtful
        point is left out, or counts less, until it is read again.
      </p>
      <div className="my-2 grid grid-cols-3 gap-2">
        <Button disabled={busy} onClick={() => onPick({ column, row })}>
          Read again
        </Button>
        <Button disabled={busy} onClick={() => setEditing(editing === "keep" ? null : "keep")}>
          It is so
        </Button>
        <Button disabled={busy} onClick={() => setEditing(editing === "edit" ? null : "edit")}>
          Mistyped
        </Button>
      </div>
      {editing && (
        <form
          className="mb-2 flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (editing === "keep") return keep({ kind: "mesh_point_trusted", column, row, reason });
            const typed = typedMm(height, "0.04");
            if ("wrong" in typed) return setWrong(typed.wrong);
            setWrong(null);
            keep({
              kind: "mesh_point",
              column,
              row,
              height_mm: typed.mm,
              again: false,
              reason: reason || "mistyped",
              sure: false,
            });
          }}
        >
          {editing === "edit" && (
            <Field
              label="Height it should be, mm"
              inputMode="decimal"
              value={height}
              onChange={(e) => setHeight(e.target.value)}
              wrong={wrong}
            />
          )}
          <Field label="Why" value={reason} maxLength={200} onChange={(e) => setReason(e.target.value)} />
          <Button type="submit" disabled={busy}>
            {editing === "keep" ? "Keep it as read" : "Put it in its place"}
          </Button>
        </form>
      )}
    </details>
  );
}
