/** A first layer went bad: how it looks, what is likeliest, the shortest way back, and the value that worked. */
import { useEffect } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { type Look, useWhatChanged, type WhatChanged } from "../api/changes";
import { Finder } from "../app/Finder";
import { useKeys } from "../app/keys";
import { Waiting } from "../app/Waiting";
import { Button, Panel } from "../ui/controls";
import { day, signed } from "../ui/words";
import { PageHead } from "./PageHead";
import { PlatePick } from "./PlatePick";

export function GoneBad() {
  const { machineId = "" } = useParams();
  const [at, setAt] = useSearchParams();
  const look = at.get("look") as Look | null;
  const { data: view, error } = useWhatChanged(machineId, at.get("plate"), look);
  const set = (name: string, value: string | null) => {
    const next = new URLSearchParams(at);
    if (value) next.set(name, value);
    else next.delete(name);
    setAt(next, { replace: true });
  };
  const looks = Object.entries(view?.looks ?? {}) as [Look, string][];
  const choose = (k: number) => {
    const one = looks[k]?.[0];
    if (one) set("look", one === look ? null : one);
  };
  useKeys([
    {
      keys: looks.map((_, k) => String(k + 1)),
      cap: `1–${looks.length}`,
      does: "how it looks",
      run: (key) => choose(Number(key) - 1),
    },
  ]);
  useEffect(() => {
    if (view) document.title = `${view.machine_name} · what changed? · Ivory Table`;
  }, [view]);
  if (!view) return <Waiting wrong={error} />;
  return (
    <div className="mx-auto flex min-h-dvh max-w-7xl flex-col px-4 lg:px-6">
      <PageHead machine={view.machine_name} title="what changed?">
        <PlatePick
          plates={view.plates as [string, string][]}
          value={view.plate_id}
          onChange={(plate) => set("plate", plate)}
        />
      </PageHead>
      <div className="grid flex-1 content-start gap-6 py-4 lg:grid-cols-[minmax(0,1fr)_392px]">
        <main className="order-2 flex flex-col gap-5 lg:order-1">
          <Suspects view={view} />
          <Worked view={view} />
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 self-start rounded-[6px] border border-hairline bg-paper p-4 lg:order-2"
        >
          <h2 className="text-2xl leading-tight font-semibold">How does it look?</h2>
          <div className="flex flex-col gap-1.5">
            {looks.map(([id, text], k) => (
              <Button
                key={id}
                aria-pressed={id === look}
                look={id === look ? "chosen" : "plain"}
                className="flex items-center text-left"
                onClick={() => choose(k)}
              >
                <kbd className="mr-3 rounded-[3px] border border-current px-1.5 font-mono text-sm font-normal">
                  {k + 1}
                </kbd>
                {text}
              </Button>
            ))}
          </div>
          <div className="border-t border-hairline pt-2 text-sm">
            <p className="font-medium">{view.good}</p>
            {view.since.map((line) => (
              <p key={line} className="text-graphite">
                {line}
              </p>
            ))}
          </div>
          <Link
            to={`/machines/${machineId}/logbook`}
            className="flex min-h-11 items-center self-start text-sm underline underline-offset-4"
          >
            something happened that is not written down: to the logbook
          </Link>
        </section>
      </div>
      <Finder />
    </div>
  );
}

/** What is less likely than this is named in one line. */
const LEAST = 0.04;

function Suspects({ view }: { view: WhatChanged }) {
  const shown = view.suspects.filter((s, k) => k < 3 || s.p >= LEAST);
  const rest = view.suspects.slice(shown.length);
  return (
    <div>
      <h2 className="mb-1 text-graphite">Likeliest first, with the shortest way back</h2>
      <ol>
        {shown.map((s, k) => (
          <li key={s.cause} className="grid grid-cols-[4.5rem_1fr] gap-x-4 border-b border-hairline py-2">
            <span className={`text-right font-mono ${k === 0 ? "text-3xl" : "text-xl"}`}>
              {Math.round(100 * s.p)} %
            </span>
            <span>
              <span className={`block leading-tight font-semibold first-letter:uppercase ${k === 0 ? "text-2xl" : ""}`}>
                {s.text}
              </span>
              <span className="block">
                {s.way} <span className="text-graphite">About {s.minutes} min.</span>
              </span>
            </span>
          </li>
        ))}
      </ol>
      {rest.length > 0 && (
        <p className="mt-2 text-sm text-graphite">Less likely: {rest.map((s) => s.text).join("; ")}.</p>
      )}
      <p className="mt-2 text-sm text-graphite">
        Weighed by what the logbook knows and by how it looks, one cause at a time. What nobody wrote down is not in it.
      </p>
    </div>
  );
}

function Worked({ view }: { view: WhatChanged }) {
  if (!view.worked.length) return null;
  const [first, ...others] = view.worked;
  return (
    <div>
      <h2 className="mb-1 text-graphite">The value that worked on this plate</h2>
      {first && (
        <Panel tone="brass">
          <p>
            <span className="font-mono text-3xl">{signed(first.stored_mm, 3)}</span> mm
          </p>
          <Under one={first} />
        </Panel>
      )}
      <ul className="mt-1">
        {others.map((w) => (
          <li key={w.run_id} className="flex flex-wrap items-baseline gap-x-4 border-b border-hairline py-1">
            <span className="w-20 text-right font-mono">{signed(w.stored_mm, 3)}</span>
            <Under one={w} />
          </li>
        ))}
      </ul>
    </div>
  );
}

function Under({ one }: { one: WhatChanged["worked"][number] }) {
  return (
    <p className="text-sm text-graphite">
      {one.filament}, {one.nozzle_mm} mm nozzle, plate {one.bed_c} °C, tip {one.tip_c} °C;{" "}
      {one.zones_sound ? `${one.zones_sound[0]} of ${one.zones_sound[1]} zones sound, ` : ""}
      {day(one.at)} {one.by}{" "}
      <Link to={`/runs/${one.run_id}/sign_off`} className="underline underline-offset-4">
        the run
      </Link>
    </p>
  );
}
