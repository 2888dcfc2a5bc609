/** The one way to the server: typed paths, and refusals as values. Called by the hooks in `run.ts` only. */
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

// `fetch` is looked up when it is called: a test puts its own in its place.
export const api = createClient<paths>({ baseUrl: window.location.origin, fetch: (request) => fetch(request) });

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];
export type Station = Schemas["StationLine"]["station"];
/** Any row that some station takes. */
export type What =
  | Schemas["KeepPrepare"]["what"]
  | Schemas["KeepTram"]["what"]
  | Schemas["KeepMesh"]["what"]
  | Schemas["KeepOffset"]["what"]
  | Schemas["KeepFirstLayer"]["what"]
  | Schemas["KeepSignOff"]["what"];

/** A refusal or a lost connection, always with a sentence. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.message);
  }
}

const LOST: Problem = {
  code: "no_answer",
  insist: false,
  message: "The server does not answer. What you entered is still here.",
};

/** Whether asking again may help: nobody answered. A refusal stays one, and is said at once. */
export function wasLost(wrong: unknown): boolean {
  return wrong instanceof Refusal && wrong.problem.code === LOST.code;
}

/** Unwrap an answer: its data, or a `Refusal`. */
export async function answer<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let result: { data?: T; error?: unknown };
  try {
    result = await call;
  } catch {
    throw new Refusal(LOST);
  }
  if (result.data !== undefined) return result.data;
  const wrong = result.error as Partial<Problem> | undefined;
  throw new Refusal(
    wrong?.code && wrong.message
      ? (wrong as Problem)
      : { code: "unexpected", message: "The server answered oddly.", insist: false },
  );
}
