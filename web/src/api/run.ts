/** Hooks over a run: a station's view, keeping an entry, asking the practice plate. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { answer, api, type Refusal, type Schemas, type Station, type What } from "./client";

export interface Views {
  prepare: Schemas["PrepareView"];
  tram: Schemas["TramView"];
  mesh: Schemas["MeshView"];
  offset: Schemas["OffsetView"];
  first_layer: Schemas["FirstLayerView"];
  sign_off: Schemas["SignOffView"];
}

type Zones = 5 | 9;
const path = (station: Station) => `/api/runs/{run_id}/${station}` as "/api/runs/{run_id}/tram";
const practicePath = (station: Station) =>
  `/api/runs/{run_id}/${station}/practice` as "/api/runs/{run_id}/tram/practice";

export function useStation<S extends Station>(runId: string, station: S, zones: Zones = 5) {
  return useQuery<Views[S], Refusal>({
    queryKey: ["run", runId, station, zones],
    // The paths differ by station, their shape does not: one place to say so.
    queryFn: () =>
      answer(api.GET(path(station), { params: { path: { run_id: runId }, query: { zones } } })) as unknown as Promise<
        Views[S]
      >,
    // Another tab may keep something at any time.
    refetchInterval: 4000,
  });
}

/** What a station can do: keep an entry or ask the practice plate. The answer is the station's new view. */
export function useActs<S extends Station>(runId: string, station: S, seq: number, zones: Zones = 5) {
  const cache = useQueryClient();
  // An id outlives a lost answer, so that trying again cannot keep the same thing twice.
  const pending = useRef<{ key: string; id: string } | null>(null);
  const idFor = (key: string) => {
    if (pending.current?.key !== key) pending.current = { key, id: crypto.randomUUID() };
    return pending.current.id;
  };
  const settled = {
    onSuccess: (view: Views[S]) => {
      pending.current = null;
      cache.setQueryData(["run", runId, station, zones], view);
      // What other stations showed is of before: none of it may be answered to.
      cache.removeQueries({ queryKey: ["run", runId], predicate: (q) => q.queryKey[2] !== station });
    },
    onError: (wrong: Refusal) => {
      if (wrong.problem.code !== "no_answer") pending.current = null;
      if (wrong.problem.code === "run_moved_on" || wrong.problem.code === "run_signed_off") {
        cache.invalidateQueries({ queryKey: ["run", runId] });
      }
    },
  };
  const params = { path: { run_id: runId }, query: { zones } };
  const keep = useMutation<Views[S], Refusal, What>({
    mutationFn: (what) =>
      answer(
        api.POST(path(station), { params, body: { id: idFor(JSON.stringify(what)), seen_seq: seq, what } }),
      ) as unknown as Promise<Views[S]>,
    ...settled,
  });
  const practice = useMutation<Views[S], Refusal, void>({
    mutationFn: () =>
      answer(
        api.POST(practicePath(station), { params, body: { id: idFor(`practice ${seq}`), seen_seq: seq } }),
      ) as unknown as Promise<Views[S]>,
    ...settled,
  });
  return { keep, practice, busy: keep.isPending || practice.isPending, wrong: keep.error ?? practice.error };
}

export type Acts = ReturnType<typeof useActs>;

export function useBench() {
  return useQuery<Schemas["BenchView"], Refusal>({
    queryKey: ["bench"],
    queryFn: () => answer(api.GET("/api/bench")),
  });
}

export function useStartRun() {
  return useMutation<Schemas["Started"], Refusal, Schemas["StartRun"]>({
    mutationFn: (body) => answer(api.POST("/api/runs", { body })),
  });
}

export function useImportRun() {
  const cache = useQueryClient();
  return useMutation<Schemas["Imported"], Refusal, unknown>({
    mutationFn: (body) => answer(api.POST("/api/runs/import", { body: body as Schemas["RunFile"] })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["bench"] }),
  });
}
