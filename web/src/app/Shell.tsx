/** What stands around a station: head, stations, sheet, slip and foot. Stations fill it and nothing else. */
import { Dialog } from "radix-ui";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Link, NavLink, useNavigate, useParams } from "react-router";
import type { Schemas, Station } from "../api/client";
import { useLineStatus } from "../api/line";
import type { Acts, Head, KeepEntry, Zones } from "../api/run";
import { LineNow, LineRest, StopButton } from "../line/LinePanel";
import { lineKeys, lineWords, useLine } from "../line/useLine";
import { Need } from "../network/Need";
import { plasticOf } from "../sheet/Swatch";
import { HowFelt } from "../stations/Feel";
import { Button, Panel, Wrong } from "../ui/controls";
import { clock, type SeenFrom } from "../ui/words";
import { Finder } from "./Finder";
import { useFocusKept } from "./focus";
import { type Key, useKeys, useShownKeys } from "./keys";
import { useEars, useSound } from "./sound";
import { useTheme } from "./theme";
import { WhereLine } from "./WhereLine";

export function useRunId(): string {
  return useParams().runId ?? "";
}

/** From where the knobs are looked at; kept on this device, per machine. */
export function useSeenFrom(head: Head | undefined): [SeenFrom, () => void] {
  const key = `seen-from-${head?.machine.id}`;
  const [chosen, setChosen] = useState<SeenFrom | null>(null);
  const stored = head ? (localStorage.getItem(key) as SeenFrom | null) : null;
  const from = chosen ?? stored ?? head?.machine.seen_from ?? "above";
  const flip = () => {
    const other = from === "above" ? "below" : "above";
    localStorage.setItem(key, other);
    setChosen(other);
  };
  return [from, flip];
}

interface Props {
  station: Station;
  head: Head;
  /** The newest row, which is what taking back takes back, and when something was kept. */
  last: Schemas["KeptRow"] | null;
  cautions: Schemas["Caution"][];
  acts: Acts;
  sheet: ReactNode;
  slip: ReactNode;
  facts?: readonly (readonly [string, string])[];
  keys?: readonly Key[];
  /** The step at hand can be answered by the practice plate. */
  canPractise?: boolean;
  /** Zones of the next proof, for a machine that prints it. */
  zones?: Zones;
}

export function Shell({
  station,
  head,
  last,
  cautions,
  acts,
  sheet,
  slip,
  facts = [],
  keys = [],
  canPractise = false,
  zones = 5,
}: Props) {
  const status = useLineStatus(head.machine.id, head.id);
  const line = useLine(head.machine, head.id, station, head.seq, status);
  const navigate = useNavigate();
  const slipAt = useRef<HTMLElement>(null);
  useFocusKept(slipAt, head.seq, acts.busy);
  useEars(head.seq, acts.wrong !== null, status?.state === "waiting", slipAt);
  const practise = head.machine.practice && canPractise && !head.signed_off;
  const takeBack = () => {
    if (last) acts.keep({ kind: "taken_back", entry_id: last.id });
  };
  const step = (by: number) => {
    const at = head.stations.findIndex((s) => s.station === station);
    const next = head.stations[at + by];
    if (next) navigate(`/runs/${head.id}/${next.station}`);
  };
  useKeys([
    // While the machine asks or works, the keys are its own.
    ...(line.active ? lineKeys(line) : keys),
    ...(practise && !line.active ? [{ keys: ["p", "P"], cap: "P", does: "practice reads", run: acts.practise }] : []),
    ...(last ? [{ keys: ["Backspace", "z", "Z"], cap: "⌫", does: "take back", run: takeBack }] : []),
    { keys: ["]"], cap: "]", does: "next station", run: () => step(1) },
    { keys: ["["], cap: "[", does: "station before", run: () => step(-1) },
  ]);
  useEffect(() => {
    document.title = `${head.machine.name} · ${head.stations.find((s) => s.station === station)?.name} · Ivory Table`;
  }, [head, station]);
  return (
    <HowFelt value={head.gauge.method ?? "slide"}>
      <div className="flex min-h-dvh flex-col px-4 lg:h-dvh lg:px-6" style={plasticOf(head.filament.colour)}>
        <header className="flex min-h-12 items-center gap-x-3 border-b border-hairline py-1 lg:gap-x-6">
          <Link to="/" className="flex min-h-11 shrink-0 items-center font-semibold lg:w-52 lg:text-xl">
            Ivory Table
          </Link>
          <h1 className="min-w-0 truncate text-graphite">
            {head.machine.name} · {head.plate.name} · {head.filament.name} · {head.gauge.name}
          </h1>
          <p className="ml-auto hidden shrink-0 font-semibold sm:block">{head.heated || "heat not noted"}</p>
          <StopButton line={line} />
        </header>
        <StationsFolded head={head} station={station} />
        <div className="grid flex-1 gap-3 py-2 lg:gap-4 lg:py-3 lg:min-h-0 lg:grid-cols-[208px_minmax(0,1fr)_392px] lg:gap-6">
          <div className="order-3 lg:order-1 lg:overflow-y-auto">
            <div className="hidden lg:block">
              <Stations head={head} />
            </div>
            <Facts facts={facts} />
          </div>
          <main className="order-1 rounded-[6px] border border-hairline bg-paper p-2 lg:order-2 lg:min-h-0">
            {sheet}
          </main>
          <section
            ref={slipAt}
            aria-label="What to do now"
            aria-busy={acts.busy}
            data-station={station}
            className="order-2 flex flex-col gap-3 *:shrink-0 rounded-[6px] border border-hairline bg-paper p-4 lg:order-3 lg:overflow-y-auto"
          >
            {head.signed_off && station !== "sign_off" && (
              <p className="text-brass">This run is signed off. What is shown stays as it was.</p>
            )}
            <Need to="work" />
            <Cautions cautions={cautions.filter((c) => !c.seen)} note={acts.note} />
            {head.resume && <TakeUp key={head.seq} resume={head.resume} keep={acts.keep} busy={acts.busy} />}
            {!head.signed_off && <LineNow line={line} zones={zones} />}
            {!line.active && slip}
            <Refused acts={acts} />
            {!line.active && !head.signed_off && station !== "prepare" && station !== "sign_off" && (
              <WhereLine key={station} step={station} line={head.where[station] ?? ""} note={acts.note} />
            )}
            {practise && !line.active && (
              <Button onClick={acts.practise} disabled={acts.busy} keyHint="P">
                Practice: read for me
              </Button>
            )}
            {!head.signed_off && <LineRest line={line} />}
            {cautions
              .filter((c) => c.seen)
              .map((c) => (
                <p key={c.id} className="mt-auto border-t border-hairline pt-2 text-sm text-graphite">
                  {c.text}
                </p>
              ))}
          </section>
        </div>
        <Foot
          head={head}
          last={last}
          takeBack={takeBack}
          busy={acts.busy}
          line={lineWords(status, head.machine.practice)}
        />
      </div>
    </HowFelt>
  );
}

/** What was not kept, and why: brought into view, since whatever was pressed may be far above. */
function Refused({ acts }: { acts: Acts }) {
  const at = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (acts.wrong) at.current?.scrollIntoView({ block: "nearest" });
  }, [acts.wrong]);
  return (
    <div ref={at} className="flex scroll-mb-24 flex-col gap-3 empty:hidden lg:scroll-mb-4">
      <Wrong wrong={acts.wrong} />
      <KeepAnyway acts={acts} />
    </div>
  );
}

/** What was asked about is right all the same: kept as it was entered. */
function KeepAnyway({ acts }: { acts: Acts }) {
  if (!acts.refused) return null;
  const { what, problem } = acts.refused;
  if (!problem.insist || !("sure" in what)) return null;
  return (
    <Button disabled={acts.busy} onClick={() => acts.keep({ ...what, sure: true })}>
      It is right, keep it
    </Button>
  );
}

/** A run that lay still: what was changed meanwhile is asked before it goes on. */
function TakeUp({ resume, keep, busy }: { resume: Schemas["Resume"]; keep: KeepEntry; busy: boolean }) {
  const [changed, setChanged] = useState<readonly string[]>([]);
  return (
    <Panel tone="brass">
      <p className="font-semibold">{resume.words}</p>
      <div className="my-2 grid gap-x-3 sm:grid-cols-2">
        {resume.changes.map((c) => (
          <label key={c.id} className="flex min-h-11 items-center gap-2 text-sm">
            <input
              type="checkbox"
              className="size-5 shrink-0 accent-ink"
              checked={changed.includes(c.id)}
              onChange={() =>
                setChanged(changed.includes(c.id) ? changed.filter((x) => x !== c.id) : [...changed, c.id])
              }
            />
            {c.text}
          </label>
        ))}
      </div>
      <Button look="main" disabled={busy} onClick={() => keep({ kind: "resumed", changes: [...changed] })}>
        {changed.length ? "Go on with these changes" : "Nothing was changed, go on"}
      </Button>
    </Panel>
  );
}

/** On a phone: where one is, and every station behind one tap. */
function StationsFolded({ head, station }: { head: Head; station: Station }) {
  const at = head.stations.findIndex((s) => s.station === station);
  const here = head.stations[at];
  const [open, setOpen] = useState(false);
  return (
    <details
      className="border-b border-hairline lg:hidden"
      key={station}
      onToggle={(e) => setOpen(e.currentTarget.open)}
    >
      <summary className="flex min-h-11 cursor-pointer items-center gap-2">
        <span className="font-semibold">{here?.name}</span>
        <span className="min-w-0 truncate text-sm text-graphite">{here?.figure}</span>
        <span className="ml-auto shrink-0 text-sm text-graphite">
          {at + 1} of {head.stations.length} ▾
        </span>
      </summary>
      {open && (
        <div className="pb-2">
          <Stations head={head} />
        </div>
      )}
    </details>
  );
}

function Stations({ head }: { head: Head }) {
  const marks = { done: "✓", skipped: "–", begun: "", open: "" };
  return (
    <nav aria-label="Stations">
      <ol className="relative flex flex-col gap-1.5">
        {head.stations.map((s, k) => (
          <li key={s.station}>
            <NavLink
              to={`/runs/${head.id}/${s.station}`}
              className={({ isActive }) =>
                `flex min-h-14 items-center gap-3 rounded-[4px] border px-2.5 py-1.5 ${isActive ? "border-brass bg-paper" : "border-transparent hover:border-hairline"}`
              }
            >
              <span
                aria-hidden="true"
                className={`grid size-6 shrink-0 place-items-center rounded-full border font-mono text-xs ${s.state === "done" ? "border-ink bg-ink text-paper" : "border-graphite"}`}
              >
                {marks[s.state] || k + 1}
              </span>
              <span className="min-w-0">
                <span className="block font-medium leading-tight">
                  {s.name}
                  {s.state !== "open" && <span className="sr-only">, {s.state}</span>}
                </span>
                <span className="block truncate text-sm text-graphite">{s.figure}</span>
              </span>
            </NavLink>
          </li>
        ))}
      </ol>
    </nav>
  );
}

function Facts({ facts }: { facts: readonly (readonly [string, string])[] }) {
  if (!facts.length) return null;
  return (
    <div className="mt-5">
      <p className="border-b border-hairline pb-1 text-sm font-medium">This run</p>
      <dl>
        {facts.map(([name, value]) => (
          <div key={name} className="flex justify-between gap-2 py-0.5 text-sm">
            <dt className="text-graphite">{name}</dt>
            <dd className="text-right font-mono">{value}</dd>
          </div>
        ))}
      </dl>
    </div>
  );
}

/** One at a time: what is to be done now stays in sight. */
function Cautions({ cautions, note }: { cautions: Schemas["Caution"][]; note: KeepEntry }) {
  return cautions.slice(0, 1).map((c) => (
    <div key={c.id} className="flex items-center gap-3 border border-brass bg-brass/10 px-3 py-2 text-sm">
      <p className="flex-1">
        {c.text}
        {cautions.length > 1 && <span className="text-graphite"> ({cautions.length - 1} more)</span>}
      </p>
      <Button look="quiet" className="text-sm" onClick={() => note({ kind: "caution_seen", caution: c.id })}>
        understood
      </Button>
    </div>
  ));
}

function Foot({
  head,
  last,
  takeBack,
  busy,
  line,
}: {
  head: Head;
  last: Schemas["KeptRow"] | null;
  takeBack: () => void;
  busy: boolean;
  line: string;
}) {
  const keys = useShownKeys();
  const [open, setOpen] = useState(false);
  const [theme, setTheme] = useTheme();
  const [sound, nextSound] = useSound();
  useKeys([
    { keys: ["?"], cap: "?", does: "all keys", run: () => setOpen(true) },
    { keys: ["a", "A"], cap: "A", does: "aloud: tones, speech, off", run: nextSound },
  ]);
  return (
    <footer className="flex min-h-12 flex-wrap items-center gap-x-5 gap-y-1 border-t border-hairline py-1 text-sm text-graphite">
      <div className="hidden items-center gap-5 lg:flex">
        {keys
          .filter((k) => !["[", "]", "A"].includes(k.cap))
          .slice(-6)
          .map((k) => (
            <span key={k.cap + k.does}>
              <kbd className="mr-1.5 rounded-[3px] border border-hairline bg-paper px-1.5 py-0.5 font-mono text-ink">
                {k.cap}
              </kbd>
              {k.does}
            </span>
          ))}
      </div>
      <Button look="quiet" className="text-sm lg:hidden" onClick={takeBack} disabled={busy || !last}>
        take back the last
      </Button>
      <Button look="quiet" className="text-sm" onClick={() => setOpen(true)}>
        keys and kept rows
      </Button>
      <Button look="quiet" className="text-sm" onClick={setTheme}>
        {theme === "dark" ? "light" : "dark"}
      </Button>
      <Button look="quiet" className="text-sm" onClick={nextSound}>
        sound {sound}
      </Button>
      <span className="ml-auto" data-testid="kept" data-seq={head.seq}>
        {head.kept_at ? `kept ${clock(head.kept_at)}` : "nothing kept yet"} · {line}
      </span>
      <Finder />
      <Dialog.Root open={open} onOpenChange={setOpen}>
        <Dialog.Portal>
          <Dialog.Overlay className="behind-dialog" />
          <Dialog.Content
            aria-describedby={undefined}
            className="dialog top-1/2 grid max-h-[80dvh] w-[min(720px,92vw)] -translate-y-1/2 gap-6 p-6 sm:grid-cols-2"
          >
            <div>
              <Dialog.Title className="mb-2 text-xl font-semibold text-ink">Keys</Dialog.Title>
              {keys.map((k) => (
                <p key={k.cap + k.does} className="py-0.5">
                  <kbd className="mr-2 inline-block min-w-10 rounded-[3px] border border-hairline px-1.5 text-center font-mono">
                    {k.cap}
                  </kbd>
                  {k.does}
                </p>
              ))}
              <p className="py-0.5">
                <kbd className="mr-2 rounded-[3px] border border-hairline px-1.5 font-mono">Ctrl K</kbd> find any
                machine or run
              </p>
            </div>
            <div>
              <h2 className="mb-2 text-xl font-semibold text-ink">Kept, newest first</h2>
              <ol className="text-sm">
                {head.rows.map((r) => (
                  <li key={r.id} className="flex gap-2 py-0.5">
                    <span className="font-mono text-graphite">{clock(r.at)}</span> {r.words}
                    {r.source === "practice" && <span className="text-graphite">(practice)</span>}
                  </li>
                ))}
              </ol>
              {!head.rows.length && <p>Nothing yet.</p>}
            </div>
            <Dialog.Close className="min-h-11 rounded-[4px] border border-hairline px-3 sm:col-span-2">
              Close
            </Dialog.Close>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </footer>
  );
}
