/** After a change: what must be done again, what a plate will need, and what the machine reports now and before. */
import { type FormEvent, useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { v4 as uuid } from "uuid";
import { useAfterChange, useCompared, useTakeSnapshot, type AfterChange as View } from "../api/changes";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Button, Field, Wrong } from "../ui/controls";
import { day } from "../ui/words";
import { PageHead } from "./PageHead";

export function AfterChange() {
  const { machineId = "" } = useParams();
  const { data: view, error } = useAfterChange(machineId);
  const [changed, setChanged] = useState<readonly string[]>([]);
  const navigate = useNavigate();
  useEffect(() => {
    if (view) document.title = `${view.machine_name} · after a change · Ivory Table`;
  }, [view]);
  if (!view) return <Waiting wrong={error} />;
  const toggle = (id: string) => setChanged(changed.includes(id) ? changed.filter((c) => c !== id) : [...changed, id]);
  return (
    <div className="mx-auto flex min-h-dvh max-w-7xl flex-col px-4 lg:px-6">
      <PageHead machine={view.machine_name} title="after a change" />
      <div className="grid flex-1 content-start gap-6 py-4 lg:grid-cols-[minmax(0,1fr)_392px]">
        <main className="order-2 flex flex-col gap-6 lg:order-1">
          <Snapshots key={view.machine_id} view={view} />
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 self-start rounded-[6px] border border-hairline bg-paper p-4 lg:order-2"
        >
          <h2 className="text-2xl leading-tight font-semibold">What was changed?</h2>
          <div>
            {view.changes.map((c) => (
              <label key={c.id} className="flex min-h-11 items-center gap-2">
                <input
                  type="checkbox"
                  className="size-5 shrink-0 accent-ink"
                  checked={changed.includes(c.id)}
                  onChange={() => toggle(c.id)}
                />
                {c.text}
              </label>
            ))}
          </div>
          <Again view={view} changed={changed} />
          <Button
            look="main"
            disabled={!changed.length}
            onClick={() => navigate(`/?machine=${machineId}&changes=${changed.join(",")}`)}
          >
            Begin a run with {changed.length > 1 ? "these" : "this"}
          </Button>
          {changed.includes("plate") && (
            <ul className="border-t border-hairline pt-2 text-sm">
              {view.plates.map((p) => (
                <li key={p.plate_id}>
                  <span className="font-semibold">{p.name}</span> {p.words}
                </li>
              ))}
            </ul>
          )}
          <p className="border-t border-hairline pt-2 text-sm text-graphite">
            A heater that was tuned, with its temperature and its swing, is kept in the{" "}
            <Link to={`/machines/${machineId}/logbook`} className="underline underline-offset-4">
              logbook
            </Link>
            .
          </p>
        </section>
      </div>
      <Finder />
    </div>
  );
}

function Again({ view, changed }: { view: View; changed: readonly string[] }) {
  if (!changed.length) return null;
  const picked = view.changes.filter((c) => changed.includes(c.id));
  const again = new Set(picked.flatMap((c) => c.again));
  const name = (s: string) => view.titles[s as keyof typeof view.titles];
  const stays = Object.keys(view.titles).filter((s) => s !== "sign_off" && !again.has(s as never));
  return (
    <div className="border-l-2 border-brass pl-3">
      <p>
        <span className="font-semibold">Again:</span> {[...again].map(name).join(", ")}
      </p>
      {stays.length > 0 && (
        <p>
          <span className="font-semibold">Stays:</span> {stays.map(name).join(", ")}
        </p>
      )}
      {picked.some((c) => c.forgets) && (
        <p className="text-sm text-graphite">What was learnt of its supports and knobs no longer counts.</p>
      )}
    </div>
  );
}

function Snapshots({ view }: { view: View }) {
  const take = useTakeSnapshot(view.machine_id);
  const [text, setText] = useState("");
  const [lines, setLines] = useState(view.asks.join("\n"));
  const [note, setNote] = useState("");
  const [by, setBy] = useState(localStorage.getItem("initials") ?? "");
  const [id, setId] = useState(() => uuid());
  const [missing, setMissing] = useState(false);
  const send = (how: "paste" | "ask") => (e?: FormEvent) => {
    e?.preventDefault();
    setMissing(!by);
    if (!by) return;
    localStorage.setItem("initials", by);
    take.mutate(
      {
        id,
        by,
        note,
        text: how === "paste" ? text : "",
        lines: how === "ask" ? lines.split("\n").filter((l) => l.trim()) : [],
      },
      {
        onSuccess: () => {
          setId(uuid());
          setText("");
          setNote("");
        },
      },
    );
  };
  return (
    <div className="flex flex-col gap-4">
      <Compare view={view} />
      <form onSubmit={send("paste")} className="flex flex-col gap-2 border-t border-hairline pt-3">
        <h2 className="text-graphite">Keep what the machine reports of its settings</h2>
        <div className="grid gap-2 sm:grid-cols-[1fr_6rem]">
          <Field
            label="What for"
            placeholder="before the new firmware"
            value={note}
            maxLength={200}
            onChange={(e) => setNote(e.target.value)}
          />
          <Field
            label="Initials"
            value={by}
            maxLength={12}
            onChange={(e) => setBy(e.target.value.trim())}
            wrong={missing ? "Who?" : null}
          />
        </div>
        <div className="grid gap-4 sm:grid-cols-2">
          <div className="flex flex-col gap-2">
            <Area label="Ask it, one line each; lines that only ask" value={lines} onChange={setLines} />
            <Button disabled={take.isPending || !view.on_line || !lines.trim()} onClick={() => send("ask")()}>
              {take.isPending ? "Asking" : "Ask on the line"}
            </Button>
            {!view.on_line && <p className="text-sm text-graphite">{view.machine_name} is not on the line now.</p>}
          </div>
          <div className="flex flex-col gap-2">
            <Area label="Or paste what it reports" value={text} onChange={setText} />
            <Button type="submit" disabled={take.isPending || !text.trim()}>
              Keep what is pasted
            </Button>
          </div>
        </div>
        <Wrong wrong={take.error} />
      </form>
    </div>
  );
}

function Area({ label, value, onChange }: { label: string; value: string; onChange: (text: string) => void }) {
  return (
    <label className="flex flex-col text-sm text-graphite">
      {label}
      <textarea
        rows={6}
        spellCheck={false}
        className="rounded-[4px] border border-graphite bg-paper p-2 font-mono text-sm text-ink"
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
    </label>
  );
}

/** Two reports, what differs; the newest against the one before unless others are picked. */
function Compare({ view }: { view: View }) {
  const [before, setBefore] = useState("");
  const [after, setAfter] = useState("");
  const newest = after || view.snapshots[0]?.id || "";
  const older = before || view.snapshots.find((s) => s.id !== newest)?.id || "";
  const { data, error } = useCompared(view.machine_id, older, newest);
  if (!view.snapshots.length)
    return <p>No report of its settings is kept yet. Keep one before a change, and one after it.</p>;
  const pick = (label: string, value: string, set: (id: string) => void) => (
    <label className="flex flex-col text-sm text-graphite">
      {label}
      <select
        className="min-h-11 rounded-[4px] border border-graphite bg-paper px-2 text-ink"
        value={value}
        onChange={(e) => set(e.target.value)}
      >
        {view.snapshots.map((s) => (
          <option key={s.id} value={s.id}>
            {day(s.at)} {s.by} {s.note && `· ${s.note}`} ({s.lines} lines)
          </option>
        ))}
      </select>
    </label>
  );
  return (
    <div className="flex flex-col gap-2">
      <h2 className="text-graphite">Settings, before and after</h2>
      {view.snapshots.length < 2 && <p>One report is kept. The next one is held against it.</p>}
      {view.snapshots.length > 1 && (
        <div className="grid gap-2 sm:grid-cols-2">
          {pick("Before", older, setBefore)}
          {pick("After", newest, setAfter)}
        </div>
      )}
      <Wrong wrong={error} />
      {data && (
        <>
          <p className="font-semibold" role="status">
            {data.words}
          </p>
          <table className="w-full table-fixed text-left text-sm">
            <tbody>
              {data.differences.map((d) => (
                <tr key={d.was + d.now} className="border-b border-hairline align-top">
                  <td className="w-20 py-1 text-graphite">{d.kind}</td>
                  <td className="py-1 font-mono break-words text-madder">{d.was}</td>
                  <td className="py-1 font-mono break-words text-verdigris">{d.now}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </div>
  );
}
