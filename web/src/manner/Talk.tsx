/** How a machine is told things and what it answers: taught by example, proved step by step, carried as a file. */
import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { useLineStatus } from "../api/line";
import { useManner } from "../api/manner";
import { useSetup } from "../api/setup";
import { Finder } from "../app/Finder";
import { useKeys, useShownKeys } from "../app/keys";
import { Waiting } from "../app/Waiting";
import { StopButton } from "../line/LinePanel";
import { lineWords } from "../line/useLine";
import { Beginning } from "./Beginning";
import { Carry } from "./Carry";
import { Dialogue } from "./Dialogue";
import { FromJob } from "./FromJob";
import { ProveSlip, Steps, useProof } from "./Prove";
import { Teach } from "./Teach";

const PAGES = [
  ["teach", "Teach"],
  ["job", "From a job file"],
  ["prove", "Prove"],
  ["carry", "Versions and files"],
] as const;
type Page = (typeof PAGES)[number][0];

export function Talk() {
  const { machineId = "" } = useParams();
  const setup = useSetup();
  const machine = setup.data?.machines.find((k) => k.machine.id === machineId)?.machine;
  const [at, setAt] = useSearchParams();
  const mannerId = at.get("manner") ?? machine?.manner ?? "";
  const manner = useManner(mannerId, machineId);
  const status = useLineStatus(machineId, "");
  const [by, setBy] = useState(localStorage.getItem("initials") ?? "");
  const page = PAGES.find(([p]) => p === at.get("page"))?.[0] ?? "teach";
  const view = manner.data?.id === mannerId ? manner.data : undefined;
  const word =
    view?.words.find((w) => w.id === at.get("word")) ?? view?.words.find((w) => w.state === "needed") ?? view?.words[0];
  const go = (to: Record<string, string>) => {
    const fresh = new URLSearchParams(at);
    for (const [k, v] of Object.entries(to)) fresh.set(k, v);
    setAt(fresh);
  };
  const step = (by_: number) => {
    if (!view || !word) return;
    const k = view.words.findIndex((w) => w.id === word.id) + by_;
    const to = view.words[(k + view.words.length) % view.words.length];
    if (to) go({ word: to.id });
  };
  /** On to the next word that is neither taught nor known to be missing; after the last, to the proof. */
  const next = () => {
    if (!view || !word) return;
    const k = view.words.findIndex((w) => w.id === word.id);
    const rest = [...view.words.slice(k + 1), ...view.words.slice(0, k)];
    const open = rest.find((w) => w.state === "needed" || w.state === "open");
    if (open) go({ word: open.id });
    else go({ page: "prove" });
  };
  const unnamed = view?.source === "taught" && page === "teach" && !at.get("word") ? word?.id : undefined;
  useEffect(() => {
    // The word at hand stays it once it is taught: what came of it is to be seen.
    if (unnamed)
      setAt(
        (was) => {
          was.set("word", unnamed);
          return was;
        },
        { replace: true },
      );
  }, [unnamed, setAt]);
  const proof = useProof(machineId, status, by);
  useKeys(
    page === "teach"
      ? [
          { keys: ["ArrowDown"], cap: "↓", does: "word below", run: () => step(1) },
          { keys: ["ArrowUp"], cap: "↑", does: "word above", run: () => step(-1) },
        ]
      : [],
  );
  useEffect(() => {
    document.title = `${machine?.name ?? "Machine"} · how it talks · Ivory Table`;
  }, [machine]);
  if (!machine) return <Waiting wrong={setup.error} />;
  const broken = manner.error && !view;
  return (
    <div className="flex min-h-dvh flex-col px-4 lg:h-dvh lg:px-6">
      <header className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-hairline py-1">
        <Link to="/" className="flex min-h-11 items-center font-semibold lg:text-xl">
          Ivory Table
        </Link>
        <h1 className="min-w-0 truncate text-graphite">
          <Link to={`/setup?shelf=machines&id=${machineId}`} className="underline underline-offset-4">
            {machine.name}
          </Link>{" "}
          · how it talks{view ? `: ${view.name}` : ""}
        </h1>
        <label className="ml-auto flex items-center gap-2 text-sm text-graphite">
          Your initials
          <input
            value={by}
            maxLength={12}
            onChange={(e) => {
              setBy(e.target.value.trim());
              localStorage.setItem("initials", e.target.value.trim());
            }}
            className={`min-h-11 w-20 rounded-[4px] border bg-paper px-2 font-mono text-ink ${by ? "border-graphite" : "border-madder"}`}
          />
        </label>
        <StopButton line={proof.line} />
      </header>
      <nav aria-label="Parts of this page" className="flex flex-wrap gap-1 border-b border-hairline">
        {PAGES.map(([p, name]) => (
          <button
            key={p}
            type="button"
            aria-pressed={p === page}
            onClick={() => go({ page: p satisfies Page })}
            className={`min-h-11 border-b-2 px-3 ${p === page ? "border-brass font-semibold" : "border-transparent text-graphite"}`}
          >
            {name}
          </button>
        ))}
      </nav>
      <div className="grid flex-1 gap-3 py-3 lg:min-h-0 lg:grid-cols-[minmax(0,1fr)_420px] lg:gap-6">
        <main className="order-2 min-w-0 rounded-[6px] border border-hairline bg-paper p-3 lg:order-1 lg:min-h-0">
          {broken && <p role="alert">{manner.error?.problem.message}</p>}
          {view && page === "prove" && <Steps proof={proof} />}
          {view && page !== "prove" && (
            <Dialogue
              view={view}
              at={page === "teach" ? (word?.id ?? "") : ""}
              go={(w) => go({ word: w, page: "teach" })}
            />
          )}
          {!view && !broken && <p className="text-graphite">Looking.</p>}
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 rounded-[6px] border border-hairline bg-paper p-4 lg:order-2 lg:overflow-y-auto"
        >
          {!by && (
            <p role="alert" className="border-l-2 border-madder pl-3 text-sm text-madder">
              Give your initials at the top, so that the record says who taught and proved it.
            </p>
          )}
          {view && page === "teach" && view.source !== "taught" && (
            <Beginning view={view} machine={machine} by={by} begun={(id) => go({ manner: id, page: "teach" })} />
          )}
          {view && page === "teach" && view.source === "taught" && word && (
            <>
              <Using view={view} machine={machine} />
              <Teach key={word.id} view={view} word={word} machineId={machineId} by={by} next={next} />
            </>
          )}
          {view && page === "job" && <FromJob view={view} machineId={machineId} by={by} />}
          {view && page === "prove" && <ProveSlip proof={proof} machine={machine} view={view} by={by} />}
          {page === "carry" && <Carry view={view} machine={machine} by={by} show={(id) => go({ manner: id })} />}
        </section>
      </div>
      <Foot line={lineWords(status, machine.practice)} />
      <Finder />
    </div>
  );
}

/** Says when what is taught here is not yet what the machine uses. */
function Using({
  view,
  machine,
}: {
  view: { id: string; missing: string[] };
  machine: { manner: string; name: string };
}) {
  if (machine.manner === view.id) return null;
  return (
    <p className="border-l-2 border-brass pl-3 text-sm">
      {machine.name} still uses '{machine.manner}'.{" "}
      {view.missing.length
        ? "This one is not complete yet."
        : "Put this one in use under Prove, or Versions and files."}
    </p>
  );
}

function Foot({ line }: { line: string }) {
  const keys = useShownKeys();
  return (
    <footer className="hidden flex-wrap gap-x-5 border-t border-hairline py-1 text-sm text-graphite lg:flex">
      {keys.map((k) => (
        <span key={`${k.cap} ${k.does}`}>
          <kbd className="rounded-[3px] border border-graphite px-1 font-mono text-xs">{k.cap}</kbd> {k.does}
        </span>
      ))}
      <span className="ml-auto">{line}</span>
    </footer>
  );
}
