/** The set-up's hooks: what there is, and how something of it is kept. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "./client";

type View = Schemas["SetupView"];

export function useSetup() {
  return useQuery<View, Refusal>({
    queryKey: ["setup"],
    queryFn: () => answer(api.GET("/api/setup")) as unknown as Promise<View>,
  });
}

/** Keep something of the set-up; what is shown everywhere follows. */
export function useKeep<T>(send: (body: T) => Promise<{ data?: unknown; error?: unknown }>) {
  const cache = useQueryClient();
  return useMutation<View, Refusal, T>({
    mutationFn: (body) => answer(send(body)) as Promise<View>,
    onSuccess: (view) => {
      cache.setQueryData(["setup"], view);
      cache.invalidateQueries({ queryKey: ["bench"] });
    },
    // Another tab may have been first: show what is there now beside what was typed.
    onError: () => cache.invalidateQueries({ queryKey: ["setup"] }),
  });
}
