/** Hooks over a machine's line: its status as it happens, what it can do here, and telling it. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas, type Station } from "./client";
import type { Zones } from "./run";

export type LineStatus = Schemas["LineStatus"];
export type LineView = Schemas["LineView"];

/** The status of a machine's line, pushed by the server; polled only while the stream is broken. */
export function useLineStatus(machineId: string, runId: string) {
  const cache = useQueryClient();
  const query = useQuery<LineStatus, Refusal>({
    queryKey: ["line", machineId],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/line", { params: { path: { machine_id: machineId } } }),
      ) as unknown as Promise<LineStatus>,
  });
  const before = useRef("");
  useEffect(() => {
    const stream = new EventSource(`/api/machines/${machineId}/line/events`);
    stream.onmessage = (event) => {
      const status = JSON.parse(event.data) as LineStatus;
      cache.setQueryData(["line", machineId], status);
      // A job keeps rows while it works: what the stations show follows it.
      const now = [status.state, status.job, status.words, status.question, status.done].join("|");
      if (now !== before.current) {
        before.current = now;
        cache.invalidateQueries({ queryKey: ["run", runId] });
        cache.invalidateQueries({ queryKey: ["run-line", runId] });
      }
    };
    return () => stream.close();
  }, [cache, machineId, runId]);
  return query.data;
}

/**
 * What the machine can do at this station now. What it does is part of the key: the first answer may have been given while it was
 * still connecting, and a first answer that is under way is not asked for anew. Not asked for without a state: nobody is on the line.
 */
export function useRunLine(runId: string, station: Station, seq: number, state: string | undefined) {
  return useQuery<LineView, Refusal>({
    queryKey: ["run-line", runId, station, seq, state],
    queryFn: () =>
      answer(
        api.GET("/api/runs/{run_id}/line", { params: { path: { run_id: runId }, query: { station } } }),
      ) as unknown as Promise<LineView>,
    enabled: state !== undefined,
    placeholderData: (was) => was,
  });
}

type Told =
  | { tell: "connect"; url: string | null; manner: string | null }
  | { tell: "disconnect"; heaters: "off" | "leave" | null }
  | { tell: "stop" | "recover" | "cancel" | "cool" | "ask" }
  | { tell: "hand-over"; yes: boolean }
  | { tell: "answer"; text: string; question: string }
  | { tell: "practice" | "disturb" }
  | { tell: "start"; job: string; zones: Zones }
  | { tell: "nudge"; away_mm: number }
  | { tell: "speed"; percent: number };

/** Telling the machine, or the person at the practice machine. */
export function useTell(machineId: string, runId: string, station: Station) {
  const cache = useQueryClient();
  const machine = { params: { path: { machine_id: machineId } } };
  const run = { params: { path: { run_id: runId } } };
  return useMutation<unknown, Refusal, Told>({
    mutationFn: (told) => {
      switch (told.tell) {
        case "connect":
          return answer(
            api.POST("/api/machines/{machine_id}/line/connect", {
              ...machine,
              body: { url: told.url, manner: told.manner },
            }),
          );
        case "disconnect":
          return answer(
            api.POST("/api/machines/{machine_id}/line/disconnect", { ...machine, body: { heaters: told.heaters } }),
          );
        case "answer":
          return answer(
            api.POST("/api/machines/{machine_id}/line/answer", {
              ...machine,
              body: { text: told.text, question: told.question },
            }),
          );
        case "hand-over":
          return answer(api.POST("/api/machines/{machine_id}/line/hand-over", { ...machine, body: { yes: told.yes } }));
        case "practice":
          return answer(api.POST("/api/runs/{run_id}/line/practice", run));
        case "disturb":
          return answer(api.POST("/api/runs/{run_id}/practice/disturb", run));
        case "start":
          return answer(
            api.POST("/api/runs/{run_id}/line/start", {
              ...run,
              body: { id: uuid(), station, job: told.job, zones: told.zones },
            }),
          );
        case "nudge":
          return answer(api.POST("/api/runs/{run_id}/line/nudge", { ...run, body: { away_mm: told.away_mm } }));
        case "speed":
          return answer(api.POST("/api/runs/{run_id}/line/speed", { ...run, body: { percent: told.percent } }));
        default:
          return answer(
            api.POST(`/api/machines/{machine_id}/line/${told.tell}` as "/api/machines/{machine_id}/line/stop", machine),
          );
      }
    },
    onSettled: () => {
      cache.invalidateQueries({ queryKey: ["line", machineId] });
      cache.invalidateQueries({ queryKey: ["run", runId] });
      cache.invalidateQueries({ queryKey: ["run-line", runId] });
    },
  });
}

/** What only a trainer sees of a practice machine: every crash so far, in words. */
export function useCrashes(runId: string, on: boolean, after: string) {
  return useQuery<Schemas["Crashes"], Refusal>({
    queryKey: ["crashes", runId, after],
    queryFn: () => answer(api.GET("/api/runs/{run_id}/practice/crashes", { params: { path: { run_id: runId } } })),
    enabled: on,
    retry: 0,
    placeholderData: (was) => was,
  });
}

/** How one patch of the newest proof came out on a practice machine, for an eye that judges for itself. */
export function useSeenPatch(runId: string, zone: number, proof: number, on: boolean) {
  return useQuery<Schemas["Swatch"], Refusal>({
    queryKey: ["patch", runId, proof, zone],
    queryFn: () =>
      answer(api.GET("/api/runs/{run_id}/practice/patch/{zone}", { params: { path: { run_id: runId, zone } } })),
    enabled: on,
    retry: 0,
  });
}
