/** The hooks of what changed: a layer gone bad, and what follows from a change. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "./client";

export type WhatChanged = Schemas["WhatChanged"];
export type AfterChange = Schemas["AfterChange"];
export type Look = NonNullable<WhatChanged["look"]>;

export function useWhatChanged(machine: string, plate: string | null, look: Look | null) {
  return useQuery<WhatChanged, Refusal>({
    queryKey: ["gone-bad", machine, plate, look],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/logbook/gone-bad", {
          params: { path: { machine_id: machine }, query: { plate: plate ?? undefined, look: look ?? undefined } },
        }),
      ) as unknown as Promise<WhatChanged>,
    placeholderData: (was) => was,
  });
}

export function useAfterChange(machine: string) {
  return useQuery<AfterChange, Refusal>({
    queryKey: ["after-change", machine],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/after-change", { params: { path: { machine_id: machine } } }),
      ) as unknown as Promise<AfterChange>,
  });
}

export function useTakeSnapshot(machine: string) {
  const cache = useQueryClient();
  return useMutation<AfterChange, Refusal, Schemas["TakeSnapshot"]>({
    mutationFn: (body) =>
      answer(
        api.POST("/api/machines/{machine_id}/after-change/snapshots", {
          params: { path: { machine_id: machine } },
          body,
        }),
      ) as unknown as Promise<AfterChange>,
    onSuccess: (view) => cache.setQueryData(["after-change", machine], view),
  });
}

export function useCompared(machine: string, before: string, after: string) {
  return useQuery<Schemas["Compared"], Refusal>({
    queryKey: ["compared", machine, before, after],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/after-change/compare", {
          params: { path: { machine_id: machine }, query: { before, after } },
        }),
      ) as unknown as Promise<Schemas["Compared"]>,
    enabled: Boolean(before && after && before !== after),
  });
}
