import type { Schemas, Station } from "../api/client";
import { type LineStatus, useCrashes, useRunLine, useTell } from "../api/line";
import { may, useMe } from "../api/network";
import type { Key } from "../app/keys";
import { answerKeys } from "./asked";

export type Line = ReturnType<typeof useLine>;

/** What a station needs of its machine's line. `active`: the machine works or waits, and the slip is the line's. */
export function useLine(
  machine: Schemas["Machine"],
  runId: string,
  station: Station,
  seq: number,
  status?: LineStatus,
) {
  const on = status !== undefined && status.state !== "nobody";
  const { data } = useRunLine(runId, station, seq, on ? status.state : undefined);
  const tell = useTell(machine.id, runId, station);
  const crashes = useCrashes(runId, on && machine.practice, `${status?.state} ${status?.words}`).data?.crashes ?? [];
  const active = status?.state === "waiting" || (status?.state === "busy" && status.job !== "Lifted and warm");
  const me = useMe().data;
  return { machine, status, here: on ? data : undefined, tell, active, on, crashes, me, moves: may(me, "move") };
}

export const lineWords = (status: LineStatus | undefined, practice: boolean): string => {
  if (!status || status.state === "nobody") return practice ? "practice, off the line" : "nobody on the line";
  return `${practice ? "practice " : ""}on the line: ${status.state === "waiting" ? "waits for you" : status.state}`;
};

/** The keys that answer the machine, while it asks or works. */
export function lineKeys({ status, tell, machine }: Line): Key[] {
  const practise = machine.practice ? () => tell.mutate({ tell: "practice" }) : undefined;
  const keys = status?.state === "waiting" ? answerKeys(status, tell, practise) : [];
  keys.push({ keys: ["c", "C"], cap: "C", does: "cancel", run: () => tell.mutate({ tell: "cancel" }) });
  return keys;
}
