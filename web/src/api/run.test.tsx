import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { useActs, useStation } from "./run";

/** A server of one run: it answers what is kept, and says what it was asked. */
let seq = 0;
let asked: { method: string; path: string; body: { id: string; seen_seq: number } | null }[] = [];
let next: (() => Response | Promise<Response>) | null = null;

const json = (body: unknown, status = 200) =>
  new Response(JSON.stringify(body), { status, headers: { "content-type": "application/json" } });

beforeEach(() => {
  seq = 0;
  asked = [];
  next = null;
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url).pathname;
    const body = request.method === "POST" ? await request.json() : null;
    asked.push({ method: request.method, path, body });
    const made = next;
    next = null;
    if (made) return made();
    if (request.method === "POST") seq += 1;
    return path.endsWith("/head") ? json({ id: "r", seq, machine: { id: "m" } }) : json({ seq, last: null });
  });
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function page() {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false }, mutations: { retry: 0 } } });
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  );
  const hook = renderHook(
    () => {
      const { data } = useStation("r", "tram");
      return { data, acts: useActs("r", "tram", data?.seq ?? 0) };
    },
    { wrapper },
  );
  return { ...hook, client };
}

const COUNT = { kind: "counted", screw: "front left", marks: 3, sure: false } as const;
const posts = () => asked.filter((a) => a.method === "POST");

test("a view comes with its run's head, and both are of the same row", async () => {
  const { result } = page();
  await waitFor(() => expect(result.current.data?.head.seq).toBe(0));
  act(() => result.current.acts.keep(COUNT));
  await waitFor(() => expect(result.current.data?.seq).toBe(1));
  expect(result.current.data?.head.seq).toBe(1);
  await waitFor(() => expect(asked.filter((a) => a.path.endsWith("/head")).length).toBe(2));
});

test("pressed twice, one answer is kept", async () => {
  const { result } = page();
  await waitFor(() => expect(result.current.data).toBeTruthy());
  let release = () => {};
  next = () =>
    new Promise((done) => {
      release = () => {
        seq += 1;
        done(json({ seq, last: null }));
      };
    });
  act(() => result.current.acts.keep(COUNT));
  await waitFor(() => expect(result.current.acts.busy).toBe(true));
  act(() => result.current.acts.keep(COUNT));
  release();
  await waitFor(() => expect(result.current.data?.seq).toBe(1));
  await waitFor(() => expect(result.current.acts.busy).toBe(false));
  expect(posts().length).toBe(1);
});

test("what found no server waits, and is sent under the same id once it is back", async () => {
  const { result } = page();
  await waitFor(() => expect(result.current.data).toBeTruthy());
  next = () => Promise.reject(new TypeError("no network"));
  act(() => result.current.acts.keep(COUNT));
  await waitFor(() => expect(result.current.acts.wrong).toBeTruthy());
  expect(result.current.acts.wrong?.message).toContain("does not answer");
  expect(result.current.acts.busy).toBe(true);
  await waitFor(() => expect(result.current.data?.seq).toBe(1), { timeout: 8000 });
  expect(posts().length).toBe(2);
  const [first, again] = posts();
  expect(again?.body?.id).toBe(first?.body?.id);
});

test("a refusal is said with its sentence, and whether it may be insisted on comes from the server", async () => {
  const { result } = page();
  await waitFor(() => expect(result.current.data).toBeTruthy());
  const problem = { code: "count_doubtful", message: "Far from what is expected.", field: "marks", insist: true };
  next = () => json(problem, 422);
  act(() => result.current.acts.keep(COUNT));
  await waitFor(() => expect(result.current.acts.refused?.problem).toEqual(problem));
  expect(result.current.acts.refused?.what).toEqual(COUNT);
  act(() => result.current.acts.keep({ ...COUNT, sure: true }));
  await waitFor(() => expect(result.current.data?.seq).toBe(1));
  const [refused, insisted] = posts();
  expect(insisted?.body?.id).not.toBe(refused?.body?.id);
});

test("a look that was on its way while something was kept does not bring the step before back", async () => {
  const { result, client } = page();
  await waitFor(() => expect(result.current.data).toBeTruthy());
  let release = () => {};
  next = () =>
    new Promise((done) => {
      release = () => done(json({ seq: 0, last: null }));
    });
  act(() => void client.refetchQueries({ queryKey: ["run", "r", "view"] }));
  await waitFor(() => expect(asked.filter((a) => a.method === "GET" && a.path.endsWith("/tram")).length).toBe(2));
  act(() => result.current.acts.keep(COUNT));
  await waitFor(() => expect(result.current.data?.seq).toBe(1));
  release();
  await waitFor(() => expect(client.isFetching()).toBe(0));
  expect(result.current.data?.seq).toBe(1);
  act(() => result.current.acts.keep({ ...COUNT, marks: 4 }));
  await waitFor(() => expect(result.current.data?.seq).toBe(2));
  expect(posts().at(-1)?.body?.seen_seq).toBe(1);
});
