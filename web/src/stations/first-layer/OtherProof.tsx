import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry, WithHead, Zones } from "../../api/run";
import { Wrong } from "../../ui/controls";
import { alone, PrintSlip } from "./PrintSlip";

/** Another proof than the next step prints: two rows side by side, a ladder, the whole plate. */
export function OtherProof({
  view,
  chosen,
  choose,
  keep,
  busy,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  /** Which one; null while nobody asks for another. On the line it is what is printed. */
  chosen: Zones | null;
  choose: (zones: Zones | null) => void;
  keep: KeepEntry;
  busy: boolean;
}) {
  const zones = chosen ?? "pair";
  const [only, setOnly] = useState<readonly number[]>([]);
  const runId = view.head.id;
  const { data, error, isPlaceholderData } = useQuery<Schemas["OtherProof"], Refusal>({
    queryKey: ["run", runId, "other_proof", view.seq, zones],
    queryFn: async () =>
      // The client's types read pairs back as lists.
      (await answer(
        api.GET("/api/runs/{run_id}/other_proof", { params: { path: { run_id: runId }, query: { zones } } }),
      )) as unknown as Schemas["OtherProof"],
    enabled: chosen !== null,
    placeholderData: keepPreviousData,
  });
  return (
    <details open={chosen !== null} onToggle={(e) => choose(e.currentTarget.open ? zones : null)}>
      <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
        print another proof instead
      </summary>
      <Wrong wrong={error} />
      {data && (
        <div className="flex flex-col gap-3">
          <PrintSlip
            view={view}
            offered={data}
            isNext={false}
            zones={zones}
            setZones={(z) => {
              choose(z);
              setOnly([]);
            }}
            only={only}
            setOnly={setOnly}
            start={() => keep({ kind: "proof_started", proof: alone(data.plan, only) })}
            keep={keep}
            // What was shown before is not what is asked for now.
            busy={busy || isPlaceholderData}
          />
        </div>
      )}
    </details>
  );
}
