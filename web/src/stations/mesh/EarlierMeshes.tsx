/** Meshes measured before: of this plate to be used again or checked, of the others to see which plate lies flattest. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Eyebrow } from "../../ui/controls";
import { day } from "../../ui/words";

type Earlier = Schemas["EarlierMesh"];

export function EarlierMeshes({
  runId,
  seq,
  meshOn,
  shown,
  onShow,
  keep,
  busy,
}: {
  runId: string;
  seq: number;
  meshOn: boolean;
  /** The mesh whose difference is on the sheet, by when it was measured. */
  shown: string | null;
  onShow: (mesh: Earlier | null) => void;
  keep: KeepEntry;
  busy: boolean;
}) {
  const { data } = useQuery<Earlier[], Refusal>({
    queryKey: ["run", runId, "earlier", seq],
    queryFn: () =>
      answer(api.GET("/api/runs/{run_id}/mesh/earlier", { params: { path: { run_id: runId } } })) as unknown as Promise<
        Earlier[]
      >,
    placeholderData: keepPreviousData,
  });
  const others = data ?? [];
  // What is read counts from the bare machine.
  const check = (m: Earlier) => {
    const begun = { kind: "mesh_check_begun", survey: m.survey, measured_at: m.measured_at } as const;
    if (meshOn) keep({ kind: "mesh_used", on: false }, undefined, [begun]);
    else keep(begun);
  };
  if (!others.length) return null;
  return (
    <section aria-label="Earlier meshes" className="flex flex-col gap-2 border-t border-hairline pt-3">
      <Eyebrow left="Earlier meshes" right={`${others.length}`} />
      {others.map((m) => (
        <div key={m.measured_at} className="border-b border-hairline pb-2 text-sm">
          <p className="flex justify-between gap-2">
            <span className="font-semibold">
              {day(m.measured_at)}, {m.plate_name}
              {m.in_use && ", in use"}
            </span>
            <span className="font-mono">{m.size}</span>
          </p>
          <p className="text-graphite">
            Flat to {m.flat_mm.toFixed(2)} mm, range {m.range_mm.toFixed(2)} mm
            {m.bed_c != null && `, taken at ${Math.round(m.bed_c)} °C`}
            {m.p_holds != null && `; by its age it still holds with ${Math.round(100 * m.p_holds)} %`}.
          </p>
          {m.against_words && (
            <p className="text-graphite">
              Against the mesh in use: {m.against_words}.{" "}
              {m.against.length > 0 && (
                <Button look="quiet" className="text-sm" onClick={() => onShow(shown === m.measured_at ? null : m)}>
                  {shown === m.measured_at ? "take it off the sheet" : "on the sheet"}
                </Button>
              )}
            </p>
          )}
          {m.this_plate && (
            <div className="mt-1 grid grid-cols-3 gap-2">
              <Button disabled={busy} onClick={() => check(m)}>
                Check it
              </Button>
              <Button
                disabled={busy || m.in_use}
                onClick={() => keep({ kind: "mesh_taken_up", survey: m.survey, measured_at: m.measured_at })}
              >
                Use it
              </Button>
              <Button disabled={busy} onClick={() => keep({ kind: "mesh_discarded", measured_at: m.measured_at })}>
                Discard
              </Button>
            </div>
          )}
        </div>
      ))}
    </section>
  );
}
