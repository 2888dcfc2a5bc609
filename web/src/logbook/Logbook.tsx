/** A machine's logbook: what drifts, what is due, what happened. */

import { type FormEvent, useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { v4 as uuid } from "uuid";
import { type LogbookView, useLogbook, useTellLog } from "../api/logbook";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Need } from "../network/Need";
import { Button, Choice, Field, Panel, Why, Wrong } from "../ui/controls";
import { day, signed, typedNumber } from "../ui/words";
import { Multiples } from "./Multiples";
import { PageHead } from "./PageHead";
import { PlatePick } from "./PlatePick";
import { ShortCheck } from "./ShortCheck";

export function Logbook() {
  const { machineId = "" } = useParams();
  const [at, setAt] = useSearchParams();
  const { data: view, error } = useLogbook(machineId, at.get("plate"));
  useEffect(() => {
    if (view) document.title = `${view.machine_name} · logbook · Ivory Table`;
  }, [view]);
  if (!view) return <Waiting wrong={error} />;
  return (
    <div className="flex min-h-dvh flex-col px-4 lg:h-dvh lg:px-6">
      <PageHead machine={view.machine_name} title="logbook">
        <PlatePick
          plates={view.plates as [string, string][]}
          value={view.plate_id}
          onChange={(plate) => setAt({ plate })}
        />
      </PageHead>
      <div className="grid flex-1 gap-3 py-3 lg:min-h-0 lg:grid-cols-[minmax(0,1fr)_392px] lg:gap-6">
        <main className="order-2 min-w-0 rounded-[6px] border border-hairline bg-paper p-3 lg:order-1 lg:min-h-0">
          <Multiples view={view} />
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 rounded-[6px] border border-hairline bg-paper p-4 lg:order-2 lg:overflow-y-auto"
        >
          <ToExpect view={view} />
          <Need to="work">
            <ShortCheck view={view} />
            <Tell view={view} />
          </Need>
          <Happened view={view} />
          <p className="flex flex-wrap gap-x-4 border-t border-hairline pt-2 text-sm">
            <Link
              className="flex min-h-11 items-center underline underline-offset-4"
              to={`/machines/${machineId}/gone-bad`}
            >
              a layer went bad
            </Link>
            <Link
              className="flex min-h-11 items-center underline underline-offset-4"
              to={`/machines/${machineId}/after-change`}
            >
              after a change
            </Link>
            <a
              className="flex min-h-11 items-center underline underline-offset-4"
              href={`/api/machines/${machineId}/logbook/csv?plate=${view.plate_id}`}
            >
              as a table (CSV)
            </a>
            <a className="flex min-h-11 items-center underline underline-offset-4" href="/api/due/calendar">
              due days (calendar)
            </a>
            <a
              className="flex min-h-11 items-center underline underline-offset-4"
              href={`/api/machines/${machineId}/card`}
            >
              card to hang up (PDF)
            </a>
          </p>
        </section>
      </div>
      <Finder />
    </div>
  );
}

function ToExpect({ view }: { view: LogbookView }) {
  const e = view.expected;
  if (!e)
    return (
      <>
        <h2 className="text-2xl leading-tight font-semibold">Nothing is known of this plate yet</h2>
        <p>The first run that measures it begins its history.</p>
      </>
    );
  const due = e.due_at !== null && new Date(e.due_at) <= new Date();
  return (
    <>
      <div>
        <p className="font-mono text-4xl">{Math.round(100 * e.p_today)} %</p>
        <h2 className="text-xl leading-tight font-semibold">{e.words}</h2>
        <p className="text-sm text-graphite">
          Left {day(e.left_at)}, {Math.round(e.since_days)} days ago
          {e.due_at && !due ? `; due ${day(e.due_at)}` : ""}
        </p>
      </div>
      {e.outlook.wanders && (
        <Panel tone="madder">
          <p>{e.why[0]}</p>
        </Panel>
      )}
      <Why lines={e.why} />
    </>
  );
}

function Tell({ view }: { view: LogbookView }) {
  const tell = useTellLog(view.machine_id);
  const [kind, setKind] = useState("failed_print");
  const [note, setNote] = useState("");
  const [count, setCount] = useState("");
  const [hours, setHours] = useState("");
  const [heater, setHeater] = useState(NO_HEATER);
  const [by, setBy] = useState(localStorage.getItem("initials") ?? "");
  const [id, setId] = useState(() => uuid());
  const [wrong, setWrong] = useState<string | null>(null);
  const counted = kind === "prints" || kind === "removals";
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const n = typedNumber(count);
    const long = typedNumber(hours);
    const whole = n !== null && n >= 1 && n === Math.round(n);
    if (kind === "prints" && long === null && !whole) return setWrong("Give a whole number, or hours.");
    if (kind === "removals" && !whole) return setWrong("Give a whole number.");
    const tuned = kind === "heater" ? heaterOf(heater) : null;
    if (kind === "heater" && !tuned) return setWrong("Give the temperature and how far it swings now, in °C.");
    setWrong(null);
    localStorage.setItem("initials", by);
    tell.mutate(
      {
        id,
        by,
        kind: kind as "note",
        note,
        count: counted ? n : null,
        hours: kind === "prints" ? long : null,
        heater: tuned,
        at: null,
      },
      {
        onSuccess: () => {
          setId(uuid());
          setNote("");
          setCount("");
          setHours("");
          setHeater(NO_HEATER);
        },
      },
    );
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-2 border-t border-hairline pt-2">
      <div className="grid grid-cols-[1fr_6rem] gap-2">
        <Choice
          label="Something happened"
          value={kind}
          onChange={setKind}
          options={Object.entries(view.kinds)
            .filter(([value]) => value !== "check" && value !== "correction")
            .map(([value, text]) => ({ value, text }))}
        />
        <Field label="Initials" value={by} maxLength={12} onChange={(e) => setBy(e.target.value.trim())} />
      </div>
      {counted && (
        <div className="grid grid-cols-2 gap-2">
          <Field
            label="How many"
            inputMode="numeric"
            value={count}
            onChange={(e) => setCount(e.target.value)}
            wrong={wrong}
          />
          {kind === "prints" && (
            <Field
              label="or how many hours"
              inputMode="decimal"
              value={hours}
              onChange={(e) => setHours(e.target.value)}
            />
          )}
        </div>
      )}
      {kind === "heater" && <HeaterFields of={heater} set={setHeater} wrong={wrong} />}
      {!counted && (
        <Field label="In your words" value={note} maxLength={400} onChange={(e) => setNote(e.target.value)} />
      )}
      <Button type="submit" disabled={!by || tell.isPending}>
        Put it in the logbook
      </Button>
      <Wrong wrong={tell.error} />
    </form>
  );
}

const heaterWords = (h: LogbookView["entries"][number]["heater"]) =>
  h
    ? `: ${h.which} at ${h.at_c} °C, ± ${h.swing_after_c} °C${h.swing_before_c != null ? `, before ± ${h.swing_before_c} °C` : ""}`
    : "";

const checkWords = (c: LogbookView["entries"][number]["check"]) =>
  c
    ? ` at ${c.place}: ${c.off_mm != null ? `${signed(c.off_mm, 3)} mm${c.put_right ? ", put right" : ""}` : HELD[c.verdict ?? "sound"]}`
    : "";
const HELD = { sound: "sound", loose: "too far", scraped: "too close" };

const NO_HEATER = { which: "tip", at: "", before: "", after: "" };

function heaterOf(of: typeof NO_HEATER) {
  const [at_c, swing_after_c] = [typedNumber(of.at), typedNumber(of.after)];
  if (at_c === null || swing_after_c === null) return null;
  return { which: of.which as "tip", at_c, swing_before_c: typedNumber(of.before), swing_after_c };
}

/** How far the temperature swings about its target, before and after. */
function HeaterFields({
  of,
  set,
  wrong,
}: {
  of: typeof NO_HEATER;
  set: (of: typeof NO_HEATER) => void;
  wrong: string | null;
}) {
  return (
    <div className="grid grid-cols-2 gap-2">
      <Choice
        label="Which"
        value={of.which}
        onChange={(which) => set({ ...of, which })}
        options={[
          { value: "tip", text: "tip" },
          { value: "plate", text: "plate" },
        ]}
      />
      <Field label="at °C" inputMode="decimal" value={of.at} onChange={(e) => set({ ...of, at: e.target.value })} />
      <Field
        label="swings before, ± °C"
        inputMode="decimal"
        value={of.before}
        onChange={(e) => set({ ...of, before: e.target.value })}
      />
      <Field
        label="and now, ± °C"
        inputMode="decimal"
        value={of.after}
        onChange={(e) => set({ ...of, after: e.target.value })}
        wrong={wrong}
      />
    </div>
  );
}

function Happened({ view }: { view: LogbookView }) {
  const [most, setMost] = useState(8);
  const all = [
    ...view.points.map((p) => ({
      id: p.run_id,
      at: p.at,
      by: p.by,
      to: `/runs/${p.run_id}/${p.signed_off ? "record" : "tram"}`,
      text: `run with ${p.filament}: ${p.words}${p.zones_sound ? `, ${p.zones_sound[0]} of ${p.zones_sound[1]} zones sound` : ""}`,
    })),
    ...view.entries.map((e) => ({
      id: e.id,
      at: e.at,
      by: e.by,
      to: "",
      text: `${view.kinds[e.kind]}${e.count ? `: ${e.count}` : ""}${e.hours ? `: ${e.hours} hours` : ""}${heaterWords(e.heater)}${checkWords(e.check)}${e.note ? `: ${e.note}` : ""}`,
    })),
  ].sort((a, b) => b.at.localeCompare(a.at));
  return (
    <ol aria-label="What happened, newest first" className="border-t border-hairline text-sm">
      {all.slice(0, most).map((one) => (
        <li key={one.id} className="flex gap-3 border-b border-hairline py-1.5">
          <span className="w-24 shrink-0 font-mono text-graphite">{day(one.at)}</span>
          {one.to ? (
            <Link className="min-w-0 flex-1 underline underline-offset-4" to={one.to}>
              {one.text}
            </Link>
          ) : (
            <span className="min-w-0 flex-1">{one.text}</span>
          )}
          <span className="font-mono text-graphite">{one.by}</span>
        </li>
      ))}
      {all.length > most && (
        <li>
          <Button look="quiet" onClick={() => setMost(all.length)}>
            all {all.length}
          </Button>
        </li>
      )}
    </ol>
  );
}
