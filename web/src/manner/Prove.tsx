/** Each line proved before anything depends on it: what will happen, then what was expected beside what was heard. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { type LineStatus, useTell } from "../api/line";
import { type MannerView, useProve, useProving, useTalk } from "../api/manner";
import { type Key, useKeys } from "../app/keys";
import { Asked, answerKeys, Fallen } from "../line/asked";
import { Button, Field, Panel, Wrong } from "../ui/controls";
import { day, typedNumber } from "../ui/words";
import { FIELD_NAMES } from "./samples";

type Step = Schemas["StepView"];

const STATE: Record<string, { text: string; tone: string }> = {
  proved: { text: "proved", tone: "text-verdigris" },
  failed: { text: "not as it should be", tone: "text-madder" },
  changed: { text: "changed since", tone: "text-brass" },
  "not proved": { text: "not proved", tone: "text-graphite" },
};

export type Proof = ReturnType<typeof useProof>;

/** The steps, which one is at hand, and the line they are tried on. */
export function useProof(machineId: string, status: LineStatus | undefined, by: string) {
  const cache = useQueryClient();
  const proving = useProving(machineId);
  const prove = useProve(machineId);
  const tell = useTell(machineId, "", "prepare");
  const [chosen, setChosen] = useState("");
  const said = [status?.state, status?.words, status?.job, status?.done].join("|");
  useEffect(() => {
    if (!said) return;
    cache.invalidateQueries({ queryKey: ["proving", machineId] });
    cache.invalidateQueries({ queryKey: ["manner"] });
  }, [cache, machineId, said]);
  const steps = proving.data?.steps ?? [];
  const open = steps.filter((s) => !s.why_not);
  const at = steps.find((s) => s.step.id === chosen) ?? open.find((s) => s.state !== "proved") ?? open[0];
  const on = status !== undefined && status.state !== "nobody" && status.state !== "lost";
  const active = status?.state === "waiting" || status?.state === "busy";
  const ready = status?.state === "idle";
  const act = () => {
    if (at && ready && by) {
      setChosen(at.step.id);
      prove.mutate({ step: at.step.id, by });
    }
  };
  const next = () => {
    const k = open.findIndex((s) => s.step.id === at?.step.id);
    const to = [...open.slice(k + 1), ...open.slice(0, k)].find((s) => s.state !== "proved");
    setChosen((to ?? open[(k + 1) % open.length])?.step.id ?? "");
  };
  const line = { status, tell, on, active };
  return {
    steps,
    at,
    choose: setChosen,
    on,
    active,
    ready,
    act,
    next,
    prove,
    tell,
    line,
    status,
    wrong: proving.error,
  };
}

export function Steps({ proof }: { proof: Proof }) {
  const done = proof.steps.filter((s) => s.state === "proved").length;
  const can = proof.steps.filter((s) => !s.why_not).length;
  return (
    <div className="flex h-full min-h-0 flex-col">
      <p className="border-b border-ink pb-1 font-semibold">
        In this order: what only asks, what is easily undone, what moves
      </p>
      <ol className="min-h-0 flex-1 overflow-y-auto">
        {proof.steps.map((s, k) => (
          <li
            key={s.step.id}
            ref={s === proof.at ? (li) => li?.scrollIntoView({ block: "nearest" }) : undefined}
            className="border-t border-hairline first:border-0"
          >
            <button
              type="button"
              aria-current={s === proof.at}
              disabled={s.why_not !== "" || proof.active}
              onClick={() => proof.choose(s.step.id)}
              className={`grid min-h-11 w-full grid-cols-[2rem_minmax(0,1fr)_auto] items-baseline gap-x-2 border-l-4 py-1.5 pl-2 text-left ${s === proof.at ? "border-brass bg-brass/10" : "border-transparent"}`}
            >
              <span className="font-mono text-graphite">{k + 1}</span>
              <span className={s.why_not ? "text-graphite" : ""}>{s.step.name}</span>
              <span className={`text-sm ${s.why_not ? "text-graphite" : STATE[s.state]?.tone}`}>
                {s.why_not ? "" : STATE[s.state]?.text}
                {!s.why_not && s.proved ? ` ${day(s.proved.at)} ${s.proved.by}` : ""}
              </span>
              {(s.why_not || s.proved) && (
                <span className="col-start-2 col-end-4 text-sm text-graphite">
                  {s.why_not || `${s.proved?.how === "hand" ? "By hand" : "Heard"}: ${s.proved?.heard}`}
                </span>
              )}
            </button>
          </li>
        ))}
      </ol>
      <p className="border-t border-ink pt-2 text-sm text-graphite">
        <span className="font-mono text-lg text-ink">
          {done} of {can}
        </span>{" "}
        proved on this machine. What was taught anew is proved anew.
      </p>
    </div>
  );
}

export function ProveSlip({
  proof,
  machine,
  view,
  by,
}: {
  proof: Proof;
  machine: Schemas["Machine"];
  view: MannerView;
  by: string;
}) {
  const { use } = useTalk(view.id, machine.id);
  if (machine.manner !== view.id)
    return (
      <>
        <h2 className="text-2xl leading-tight font-semibold">Put it in use, then prove it</h2>
        <p>
          {machine.name} uses '{machine.manner}' now. A manner is proved on the machine that uses it.
        </p>
        {view.missing.length > 0 && (
          <p className="border-l-2 border-brass pl-3 text-sm">
            Still needed:{" "}
            {view.words
              .filter((w) => view.missing.includes(w.id))
              .map((w) => w.name.toLowerCase())
              .join(", ")}
            .
          </p>
        )}
        <Button look="main" disabled={view.missing.length > 0 || use.isPending} onClick={() => use.mutate(view.id)}>
          {machine.name} uses “{view.name}” from now on
        </Button>
        <Wrong wrong={use.error} />
      </>
    );
  return <OneStep key={proof.at?.step.id} proof={proof} machine={machine} by={by} />;
}

function OneStep({ proof, machine, by }: { proof: Proof; machine: Schemas["Machine"]; by: string }) {
  const { at, status, tell } = proof;
  const [byHand, setByHand] = useState(false);
  const practise = usePractise(machine);
  const keys: Key[] = [];
  if (status?.state === "waiting") {
    keys.push(...answerKeys(status, tell, practise));
  } else if (at && proof.ready) {
    if (at.state === "proved") keys.push({ keys: ["Enter", "n", "N"], cap: "N", does: "next step", run: proof.next });
    keys.push({
      keys: at.state === "proved" ? ["d", "D"] : ["Enter", "d", "D"],
      cap: "D",
      does: "do it",
      run: proof.act,
    });
  }
  useKeys(keys);
  if (!at) return <p className="text-graphite">There is nothing to prove yet: teach its words first.</p>;
  if (status?.state === "waiting")
    return (
      <>
        <Asked status={status} tell={tell} practise={practise} />
        <Button look="quiet" onClick={() => tell.mutate({ tell: "cancel" })}>
          cancel
        </Button>
      </>
    );
  return (
    <>
      <div>
        <h2 className="text-2xl leading-tight font-semibold">{at.step.name}</h2>
        <p className="mt-1">{byHand ? at.step.by_hand : at.step.before}</p>
      </div>
      {status && <Fallen status={status} tell={tell} />}
      {(status?.state === "busy" || status?.state === "connecting") && (
        <p aria-live="polite" className="text-graphite">
          {status.words}
        </p>
      )}
      {at.proved && (
        <Panel tone={at.proved.ok ? "verdigris" : "madder"}>
          <dl className="grid grid-cols-[5rem_minmax(0,1fr)] gap-x-2 text-sm" aria-live="polite">
            <dt className="text-graphite">expected</dt>
            <dd>{at.proved.expected}</dd>
            <dt className="text-graphite">{at.proved.how === "hand" ? "found" : "heard"}</dt>
            <dd className="font-semibold">{at.proved.heard}</dd>
          </dl>
        </Panel>
      )}
      {byHand ? (
        <HandForm at={at} proof={proof} by={by} />
      ) : proof.on ? (
        at.state === "proved" ? (
          <>
            <Button look="main" keyHint="N" onClick={proof.next}>
              Next step
            </Button>
            <Button keyHint="D" disabled={!proof.ready || !by} onClick={proof.act}>
              Do it again
            </Button>
          </>
        ) : (
          <Button look="main" keyHint="D" disabled={!proof.ready || !by} onClick={proof.act}>
            Do it now
          </Button>
        )
      ) : (
        <Connect proof={proof} machine={machine} />
      )}
      <Wrong wrong={(proof.prove.error ?? tell.error) as Refusal | null} />
      <div className="flex flex-wrap gap-x-4 text-sm">
        <Button look="quiet" onClick={() => setByHand(!byHand)}>
          {byHand ? "on the line instead" : "it is on no line: by hand"}
        </Button>
        {proof.on && (
          <Button look="quiet" onClick={() => tell.mutate({ tell: "disconnect", heaters: null })}>
            leave the line
          </Button>
        )}
        <Button look="quiet" onClick={proof.next}>
          later
        </Button>
      </div>
    </>
  );
}

/** Lets the person at a practice machine answer; nothing for a real one. */
function usePractise(machine: Schemas["Machine"]): (() => void) | undefined {
  if (!machine.practice) return undefined;
  return () => {
    // A question that is gone meanwhile needs no answer.
    void answer(
      api.POST("/api/machines/{machine_id}/line/practice", { params: { path: { machine_id: machine.id } } }),
    ).catch(() => undefined);
  };
}

function Connect({ proof, machine }: { proof: Proof; machine: Schemas["Machine"] }) {
  const [url, setUrl] = useState(proof.status?.url ?? "");
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        proof.tell.mutate({ tell: "connect", url: url || null, manner: null });
      }}
    >
      <Field label="Line: a device, or socket://host:port" value={url} onChange={(e) => setUrl(e.target.value)} />
      <Button look="main" type="submit" disabled={proof.tell.isPending}>
        Take {machine.name} on the line
      </Button>
    </form>
  );
}

function HandForm({ at, proof, by }: { at: Step; proof: Proof; by: string }) {
  const [read, setRead] = useState<Record<string, string>>({});
  const [wrong, setWrong] = useState<string | null>(null);
  const send = (ok: boolean) => {
    const found: Record<string, number> = {};
    for (const field of at.step.reads) {
      const n = typedNumber(read[field] ?? "");
      if (n !== null) found[field] = n;
      else if (ok) return setWrong(field);
    }
    setWrong(null);
    proof.prove.mutate({ step: at.step.id, by, hand: { ok, read: found, words: "" } });
  };
  return (
    <div className="flex flex-col gap-2">
      {at.step.reads.map((f) => (
        <Field
          key={f}
          label={`Its own screen says: ${FIELD_NAMES[f] ?? f}`}
          inputMode="decimal"
          value={read[f] ?? ""}
          onChange={(e) => setRead({ ...read, [f]: e.target.value })}
          wrong={wrong === f ? "Type the number that its own screen says." : null}
        />
      ))}
      <div className="grid grid-cols-2 gap-2">
        <Button disabled={!by} onClick={() => send(true)}>
          It is right
        </Button>
        <Button disabled={!by} onClick={() => send(false)}>
          It is not
        </Button>
      </div>
    </div>
  );
}
