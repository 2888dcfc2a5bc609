/** A feel check at the centre: heights in an order nobody can foretell, a feel each, and the scale they tell. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Eyebrow, Panel, Wrong } from "../../ui/controls";
import { signed } from "../../ui/words";
import { type FEELS, FeelKeys } from "../Feel";

type Check = Schemas["FeelCheck"];
export type Feel = (typeof FEELS)[number]["feel"];

export function useFeelCheck(runId: string, seq: number) {
  return useQuery<Check, Refusal>({
    queryKey: ["run", runId, "feel", seq],
    queryFn: () =>
      answer(api.GET("/api/runs/{run_id}/feel", { params: { path: { run_id: runId } } })) as unknown as Promise<Check>,
  });
}

export function FeelCheck({
  runId,
  seq,
  check,
  practice,
  keep,
  busy,
}: {
  runId: string;
  seq: number;
  check: Check;
  practice: boolean;
  keep: KeepEntry;
  busy: boolean;
}) {
  const cache = useQueryClient();
  const ask = useMutation<Check, Refusal, void>({
    mutationFn: () =>
      answer(
        api.POST("/api/runs/{run_id}/feel/practice", {
          params: { path: { run_id: runId } },
          body: { id: uuid(), seen_seq: seq },
        }),
      ) as unknown as Promise<Check>,
    onSettled: () => cache.invalidateQueries({ queryKey: ["run", runId] }),
  });
  const feel = (f: Feel) => {
    if (check.next_above_mm != null) keep({ kind: "feel_tried", feel_try: { above_mm: check.next_above_mm, feel: f } });
  };
  if (check.why_not && check.done === 0) return <p className="text-sm text-graphite">{check.why_not}</p>;
  return (
    <div className="flex flex-col gap-3">
      <Eyebrow left="Feel check, do not look at the order" right={`${check.done} of ${check.of}`} />
      {check.next_z_mm != null && (
        <>
          <h2 className="text-2xl leading-tight font-semibold">Lift, then come down to</h2>
          <p className="font-mono text-4xl font-semibold">
            {signed(check.next_z_mm, 3)}
            <span className="text-xl font-normal text-graphite"> mm</span>
          </p>
          <FeelKeys disabled={busy || ask.isPending} onFeel={feel} />
          {practice && (
            <Button disabled={busy || ask.isPending} onClick={() => ask.mutate()}>
              Practice: feel for me
            </Button>
          )}
        </>
      )}
      <Wrong wrong={ask.error} />
      <Panel>
        <p>{check.words}</p>
      </Panel>
      {check.scale && (
        <Button
          look={check.next_z_mm == null ? "main" : "plain"}
          disabled={busy}
          onClick={() => check.scale && keep({ kind: "feel_kept", scale: check.scale })}
        >
          Use this as my feel on this gauge
        </Button>
      )}
    </div>
  );
}
