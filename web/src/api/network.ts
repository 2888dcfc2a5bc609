/** The hooks of the workshop's network: who this device is, letting others in. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "./client";

export type Me = Schemas["Me"];
export type NetworkView = Schemas["NetworkView"];

export function useMe() {
  return useQuery<Me, Refusal>({
    queryKey: ["me"],
    queryFn: () => answer(api.GET("/api/network/me")),
    staleTime: 30_000,
  });
}

/** What this device may do, in order; everything until it is known to be less. */
const RANK = { look: 0, work: 1, move: 2, here: 3 };
export const may = (me: Me | undefined, role: keyof typeof RANK) => !me?.role || RANK[me.role] >= RANK[role];

export function useNetwork() {
  return useQuery<NetworkView, Refusal>({
    queryKey: ["network"],
    queryFn: () => answer(api.GET("/api/network")) as unknown as Promise<NetworkView>,
    refetchInterval: 5000,
  });
}

export function useJoin() {
  const cache = useQueryClient();
  return useMutation<Me, Refusal, string>({
    mutationFn: (code) => answer(api.POST("/api/network/join", { body: { code } })),
    // Whatever was refused before may be answered now.
    onSuccess: () => cache.invalidateQueries(),
  });
}

export function useLeave() {
  const cache = useQueryClient();
  return useMutation<Me, Refusal, void>({
    mutationFn: () => answer(api.POST("/api/network/leave")),
    onSuccess: () => cache.invalidateQueries(),
  });
}

export function useLetIn() {
  const cache = useQueryClient();
  return useMutation<Schemas["Invitation"], Refusal, Schemas["NewCode"]>({
    mutationFn: (body) => answer(api.POST("/api/network/codes", { body })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ["network"] }),
  });
}

type Kept = { id: string; keep: Schemas["KeepDevice"] | "shut out" };

export function useKeepDevice() {
  const cache = useQueryClient();
  return useMutation<NetworkView, Refusal, Kept>({
    mutationFn: ({ id, keep }) => {
      const params = { path: { device_id: id } };
      return answer(
        keep === "shut out"
          ? api.POST("/api/network/devices/{device_id}/shut-out", { params })
          : api.PUT("/api/network/devices/{device_id}", { params, body: keep }),
      ) as unknown as Promise<NetworkView>;
    },
    onSuccess: (view) => cache.setQueryData(["network"], view),
  });
}
