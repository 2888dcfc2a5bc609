/** One doubtful point of the kept mesh, measured again beside a neighbour. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Choice, Field } from "../../ui/controls";
import { signed, typedMm } from "../../ui/words";

/** One doubtful point of the kept mesh, measured again beside a neighbour: the mesh has a zero of its own day. */
export function OnePointAgain({
  view,
  keep,
  busy,
}: {
  view: WithHead<Schemas["MeshView"]>;
  keep: KeepEntry;
  busy: boolean;
}) {
  const columns = view.grid?.xs_mm.length ?? 0;
  const [point, setPoint] = useState("0");
  const [beside, setBeside] = useState("1");
  const [here, setHere] = useState("");
  const [there, setThere] = useState("");
  const [wrong, setWrong] = useState<[string | null, string | null]>([null, null]);
  const options = (view.shown?.spots ?? []).map((s, k) => ({
    value: String(k),
    text: `column ${(k % columns) + 1}, row ${Math.floor(k / columns) + 1}: ${signed(s.value_mm ?? 0)}`,
  }));
  const choose = (p: string) => {
    const at = Number(p);
    setPoint(p);
    setBeside(String(at % columns < columns - 1 ? at + 1 : at - 1));
  };
  return (
    <form
      className="grid grid-cols-[1fr_7rem] items-end gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        const [a, b] = [typedMm(here, "0.04"), typedMm(there, "0.02")];
        if ("wrong" in a || "wrong" in b)
          return setWrong(["wrong" in a ? a.wrong : null, "wrong" in b ? b.wrong : null]);
        setWrong([null, null]);
        const [at, next] = [Number(point), Number(beside)];
        keep(
          {
            kind: "mesh_point_again",
            column: at % columns,
            row: Math.floor(at / columns),
            height_mm: a.mm,
            neighbour_column: next % columns,
            neighbour_row: Math.floor(next / columns),
            neighbour_height_mm: b.mm,
          },
          () => {
            setHere("");
            setThere("");
          },
        );
      }}
    >
      <p className="col-span-2 text-sm text-graphite">
        One point again: measure it and a neighbour in the same go. Only their difference counts, so today's zero and
        gauge do not matter.
      </p>
      <Choice label="This point" value={point} onChange={choose} options={options} />
      <Field
        label="Height, mm"
        inputMode="decimal"
        value={here}
        onChange={(e) => setHere(e.target.value)}
        wrong={wrong[0]}
      />
      <Choice label="Beside" value={beside} onChange={setBeside} options={options.filter((o) => o.value !== point)} />
      <Field
        label="Its height, mm"
        inputMode="decimal"
        value={there}
        onChange={(e) => setThere(e.target.value)}
        wrong={wrong[1]}
      />
      <Button type="submit" className="col-span-2" disabled={busy}>
        Keep this point
      </Button>
    </form>
  );
}
