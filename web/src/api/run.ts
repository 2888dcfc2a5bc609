/** Hooks over a run: a station's view, keeping an entry, asking the practice plate. */

import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef } from "react";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas, type Station, type What, wasLost } from "./client";

/** Who and what a run is about, and where each station stands: asked for anew when something was kept. */
export type Head = Schemas["RunHead"];

export type WithHead<V> = V & { head: Head };

interface Views {
  prepare: Schemas["PrepareView"];
  tram: Schemas["TramView"];
  mesh: Schemas["MeshView"];
  offset: Schemas["OffsetView"];
  first_layer: Schemas["FirstLayerView"];
  sign_off: Schemas["SignOffView"];
}

/** The proof that is asked for: as advised, or a kind of it. */
export type Zones = Schemas["Proposal"]["choice"];
const path = (station: Station) => `/api/runs/{run_id}/${station}` as "/api/runs/{run_id}/tram";
const practicePath = (station: Station) =>
  `/api/runs/{run_id}/${station}/practice` as "/api/runs/{run_id}/tram/practice";

const viewKey = (runId: string, station: Station, zones: Zones) => ["run", runId, "view", station, zones];

export function useHead(runId: string, seq: number | undefined) {
  return useQuery<Head, Refusal>({
    queryKey: ["run", runId, "head", seq],
    queryFn: () => answer(api.GET("/api/runs/{run_id}/head", { params: { path: { run_id: runId } } })),
    enabled: seq !== undefined,
    // What stood there stays until the new one is there.
    placeholderData: keepPreviousData,
  });
}

/** A station's view beside its run's head; both are of the newest row that the view has seen. */
export function useStation<S extends Station>(runId: string, station: S, zones: Zones = "advised") {
  const view = useView(runId, station, zones);
  const head = useHead(runId, view.data?.seq);
  const data = useMemo(
    () => (view.data && head.data ? { ...view.data, head: { ...head.data, seq: view.data.seq } as Head } : undefined),
    [view.data, head.data],
  );
  return { data, error: view.error ?? head.error };
}

function useView<S extends Station>(runId: string, station: S, zones: Zones) {
  const cache = useQueryClient();
  const key = viewKey(runId, station, zones);
  return useQuery<Views[S], Refusal>({
    queryKey: key,
    queryFn: async () => {
      // The paths differ by station, their shape does not: one place to say so.
      const fresh = (await answer(
        api.GET(path(station), { params: { path: { run_id: runId }, query: { zones } } }),
      )) as unknown as Views[S];
      // Something may have been kept while it was on its way: what is shown never goes back to before that.
      const shown = cache.getQueryData<Views[S]>(key);
      return shown && shown.seq > fresh.seq ? shown : fresh;
    },
    // Another tab may keep something at any time.
    refetchInterval: 4000,
  });
}

/** What is kept, and what the page does once it is: not before, so that a refusal loses nothing. */
interface Entry {
  what: What;
  then?: () => void;
  /** What is done in the same go, after it. */
  more?: What[];
}
export type KeepEntry = (what: What, then?: () => void, more?: What[]) => void;

/**
 * What a station can do; the answer is its new view.
 * `keep` answers the step that is shown: pressed again before the next one is there, it would answer a step nobody has
 * seen, and is passed over. `note` is true at any step and waits its turn. `practise` asks the practice plate.
 */
export function useActs<S extends Station>(runId: string, station: S, seq: number, zones: Zones = "advised") {
  const cache = useQueryClient();
  const shown = viewKey(runId, station, zones);
  // An id outlives a lost answer, so that trying again cannot keep the same thing twice.
  const pending = useRef<{ key: string; id: string } | null>(null);
  const idFor = (key: string) => {
    if (pending.current?.key !== key) pending.current = { key, id: uuid() };
    return pending.current.id;
  };
  const settled = {
    // A row is kept once, however often it is sent: it waits here until the server is back.
    retry: (_: number, wrong: Refusal) => wasLost(wrong),
    retryDelay: 1500,
    // One at a time, in the order they were asked.
    scope: { id: runId },
    onSuccess: (view: Views[S], entry: Entry | undefined) => {
      pending.current = null;
      cache.setQueryData(shown, view);
      // What else was shown is of before: none of it may be answered to.
      const other = (at: readonly unknown[]) => at[3] !== station || at[4] !== zones;
      cache.resetQueries({ queryKey: ["run", runId, "view"], predicate: (q) => other(q.queryKey) });
      entry?.then?.();
    },
    onError: (wrong: Refusal) => {
      if (wrong.problem.code !== "no_answer") pending.current = null;
      if (wrong.problem.code === "run_moved_on" || wrong.problem.code === "run_signed_off") {
        cache.invalidateQueries({ queryKey: ["run", runId] });
      }
    },
  };
  const params = { path: { run_id: runId }, query: { zones } };
  const post = (what: What, seen_seq: number) =>
    answer(
      api.POST(path(station), {
        params,
        body: { id: idFor(JSON.stringify(what)), seen_seq, what: what as Schemas["KeepTram"]["what"] },
      }),
    ) as unknown as Promise<Views[S]>;
  const answered = useMutation<Views[S], Refusal, Entry>({
    mutationFn: async ({ what, more = [] }) => {
      let view = await post(what, seq);
      for (const next of more) {
        // What was kept of it stays on the page, should the rest be refused.
        cache.setQueryData(shown, view);
        view = await post(next, view.seq);
      }
      return view;
    },
    ...settled,
  });
  const newest = () => cache.getQueryData<Views[S]>(shown)?.seq ?? seq;
  const noted = useMutation<Views[S], Refusal, Entry>({
    mutationFn: ({ what }) =>
      post(what, newest()).catch(async (wrong: Refusal) => {
        if (wrong.problem.code !== "run_moved_on") throw wrong;
        // Somebody else went on meanwhile: it is as true after what they kept.
        await cache.refetchQueries({ queryKey: shown });
        return post(what, newest());
      }),
    ...settled,
  });
  const practice = useMutation<Views[S], Refusal, Entry | undefined>({
    mutationFn: () =>
      answer(
        api.POST(practicePath(station), { params, body: { id: idFor(`practice ${seq}`), seen_seq: seq } }),
      ) as unknown as Promise<Views[S]>,
    ...settled,
  });
  const busy = answered.isPending || noted.isPending || practice.isPending;
  const keep: KeepEntry = (what, then, more) => {
    if (!busy) answered.mutate({ what, then, more });
  };
  const note: KeepEntry = (what, then) => {
    // Pressed twice, it is one entry.
    const waiting = noted.isPending && JSON.stringify(noted.variables.what);
    if (waiting !== JSON.stringify(what)) noted.mutate({ what, then });
  };
  return {
    keep,
    note,
    practise: () => {
      if (!busy) practice.mutate(undefined);
    },
    busy,
    wrong: answered.error ?? noted.error ?? practice.error ?? answered.failureReason ?? noted.failureReason,
    /** The answer that was refused; `forget` takes it off the page. */
    refused: answered.error ? { what: answered.variables.what, problem: answered.error.problem } : null,
    forget: answered.reset,
  };
}

export type Acts = ReturnType<typeof useActs>;

/** The bench; `everyMs`: looked at again by itself. */
export function useBench(everyMs?: number) {
  return useQuery<Schemas["BenchView"], Refusal>({
    queryKey: ["bench"],
    queryFn: () => answer(api.GET("/api/bench")),
    refetchInterval: everyMs,
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
