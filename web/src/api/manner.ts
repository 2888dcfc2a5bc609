/** The hooks of a machine's manner: what it is told and what it says, taught word by word, and proved step by step. */

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas } from "./client";

export type MannerView = Schemas["MannerView"];
export type Word = Schemas["WordView"];
export type WordShown = Schemas["WordShown"];
export type Lesson = Schemas["Lesson"];
export type Proving = Schemas["ProvingView"];

/** The manner of a machine that nobody has taught to talk. */
export const UNTAUGHT = "plain";

export function useManners() {
  return useQuery<Schemas["MannerLine"][], Refusal>({
    queryKey: ["manners"],
    queryFn: () => answer(api.GET("/api/manners")) as unknown as Promise<Schemas["MannerLine"][]>,
  });
}

const pathOf = (manner: string, machine: string) => ({
  params: { path: { manner_id: manner }, query: { machine } },
});

export function useManner(manner: string, machine: string) {
  return useQuery<MannerView, Refusal>({
    queryKey: ["manner", manner, machine],
    queryFn: () =>
      answer(api.GET("/api/manners/{manner_id}", pathOf(manner, machine))) as unknown as Promise<MannerView>,
    enabled: manner !== "",
    retry: 0,
  });
}

/** What is done to a manner or with it; every page that shows it follows. */
export function useTalk(manner: string, machine: string) {
  const cache = useQueryClient();
  const follow = () => {
    cache.invalidateQueries({ queryKey: ["manners"] });
    cache.invalidateQueries({ queryKey: ["manner"] });
    cache.invalidateQueries({ queryKey: ["setup"] });
    cache.invalidateQueries({ queryKey: ["proving", machine] });
  };
  const show = (view: MannerView) => cache.setQueryData(["manner", view.id, machine], view);
  const teach = useMutation<
    Schemas["Taught"],
    Refusal,
    { word: string; shown: WordShown; seen_version: number; by: string }
  >({
    mutationFn: ({ word, ...body }) =>
      answer(
        api.PUT("/api/manners/{manner_id}/words/{word_id}", {
          params: { path: { manner_id: manner, word_id: word }, query: { machine } },
          body,
        }),
      ) as unknown as Promise<Schemas["Taught"]>,
    onSuccess: (taught) => {
      show(taught.view);
      cache.invalidateQueries({ queryKey: ["manners"] });
      cache.invalidateQueries({ queryKey: ["proving", machine] });
    },
    onError: () => cache.invalidateQueries({ queryKey: ["manner", manner, machine] }),
  });
  const begin = useMutation<MannerView, Refusal, Schemas["Begin"]>({
    mutationFn: (body) => answer(api.POST("/api/manners", { body })) as unknown as Promise<MannerView>,
    onSuccess: follow,
  });
  const use = useMutation<unknown, Refusal, string>({
    mutationFn: (id) =>
      answer(
        api.PUT("/api/machines/{machine_id}/manner", {
          params: { path: { machine_id: machine } },
          body: { manner: id },
        }),
      ),
    onSuccess: follow,
  });
  const bring = useMutation<MannerView, Refusal, Schemas["BringManner"]>({
    mutationFn: (body) => answer(api.POST("/api/manners/file", { body })) as unknown as Promise<MannerView>,
    onSuccess: follow,
  });
  const settle = useMutation<MannerView, Refusal, Schemas["Settings"]>({
    mutationFn: (body) =>
      answer(
        api.PUT("/api/manners/{manner_id}/settings", { params: { path: { manner_id: manner } }, body }),
      ) as unknown as Promise<MannerView>,
    onSuccess: follow,
  });
  const back = useMutation<MannerView, Refusal, { version: number; by: string }>({
    mutationFn: ({ version, by }) =>
      answer(
        api.POST("/api/manners/{manner_id}/versions/{version}", {
          params: { path: { manner_id: manner, version }, query: { by } },
        }),
      ) as unknown as Promise<MannerView>,
    onSuccess: follow,
  });
  return { teach, begin, use, bring, settle, back };
}

export function useCatch(machine: string) {
  return useMutation<Schemas["Caught"], Refusal, Schemas["Catch"]>({
    mutationFn: (body) =>
      answer(
        api.POST("/api/machines/{machine_id}/line/catch", { params: { path: { machine_id: machine } }, body }),
      ) as unknown as Promise<Schemas["Caught"]>,
  });
}

export function useTryReply(manner: string) {
  return useMutation<Schemas["Tried"], Refusal, { word: string; text: string }>({
    mutationFn: ({ word, text }) =>
      answer(
        api.POST("/api/manners/{manner_id}/words/{word_id}/try", {
          params: { path: { manner_id: manner, word_id: word } },
          body: { text },
        }),
      ) as unknown as Promise<Schemas["Tried"]>,
  });
}

export function useJobLines(manner: string) {
  return useMutation<Schemas["JobLines"], Refusal, string>({
    mutationFn: (text) =>
      answer(
        api.POST("/api/manners/{manner_id}/job", { params: { path: { manner_id: manner } }, body: { text } }),
      ) as unknown as Promise<Schemas["JobLines"]>,
  });
}

export function useDifferences(manner: string, other: string) {
  return useQuery<Schemas["Differences"], Refusal>({
    queryKey: ["manner", manner, "differences", other],
    queryFn: () =>
      answer(
        api.GET("/api/manners/{manner_id}/differences", {
          params: { path: { manner_id: manner }, query: { other } },
        }),
      ) as unknown as Promise<Schemas["Differences"]>,
    enabled: other !== "",
    retry: 0,
  });
}

export function useProving(machine: string) {
  return useQuery<Proving, Refusal>({
    queryKey: ["proving", machine],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/proving", { params: { path: { machine_id: machine } } }),
      ) as unknown as Promise<Proving>,
  });
}

export function useProve(machine: string) {
  const cache = useQueryClient();
  const path = (step: string) => ({ params: { path: { machine_id: machine, step_id: step } } });
  return useMutation<
    Proving,
    Refusal,
    { step: string; by: string; hand?: { ok: boolean; read: Record<string, number>; words: string } }
  >({
    mutationFn: ({ step, by, hand }) =>
      answer(
        hand
          ? api.POST("/api/machines/{machine_id}/proving/{step_id}/hand", { ...path(step), body: { by, ...hand } })
          : api.POST("/api/machines/{machine_id}/proving/{step_id}", {
              ...path(step),
              body: { id: uuid(), by },
            }),
      ) as unknown as Promise<Proving>,
    onSuccess: (view) => cache.setQueryData(["proving", machine], view),
    onSettled: () => cache.invalidateQueries({ queryKey: ["manner"] }),
  });
}
