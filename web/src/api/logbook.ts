/** The hooks of a machine's logbook: what was found and left, what happened, what is to be expected. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "./client";

export type LogbookView = Schemas["LogbookView"];
export type RunPoint = Schemas["RunPoint"];
export type Seen = Schemas["PlateSeen"];

export function useLogbook(machine: string, plate: string | null) {
  return useQuery<LogbookView, Refusal>({
    queryKey: ["logbook", machine, plate],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/logbook", {
          params: { path: { machine_id: machine }, query: plate ? { plate } : {} },
        }),
      ) as unknown as Promise<LogbookView>,
    refetchInterval: 60_000,
  });
}

export function useTellLog(machine: string) {
  const cache = useQueryClient();
  return useMutation<LogbookView, Refusal, Schemas["TellLog"]>({
    mutationFn: (body) =>
      answer(
        api.POST("/api/machines/{machine_id}/logbook", { params: { path: { machine_id: machine } }, body }),
      ) as unknown as Promise<LogbookView>,
    onSuccess: () => {
      cache.invalidateQueries({ queryKey: ["logbook", machine] });
      cache.invalidateQueries({ queryKey: ["bench"] });
    },
  });
}
