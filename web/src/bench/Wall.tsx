/** The wall: every machine large enough to be read from across the workshop; it looks again by itself. */
import { useEffect, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { useBench } from "../api/run";
import { Waiting } from "../app/Waiting";
import { clock, day } from "../ui/words";
import { isDue } from "./MachinePlan";

const EVERY_MS = 10_000;

export function Wall() {
  const bench = useBench(EVERY_MS);
  const [now, setNow] = useState(() => new Date());
  useEffect(() => {
    document.title = "Wall · Ivory Table";
    const tick = setInterval(() => setNow(new Date()), 1000);
    return () => clearInterval(tick);
  }, []);
  if (!bench.data) return <Waiting wrong={bench.error} />;
  // What needs somebody stands first.
  const rank = (m: Schemas["MachineLine"]) =>
    m.on_line?.state === "waiting" ? 0 : ["lost", "halted"].includes(m.on_line?.state ?? "") ? 1 : isDue(m) ? 2 : 3;
  const machines = [...bench.data.machines].sort(
    (a, b) => rank(a) - rank(b) || (a.expected?.p_today ?? 2) - (b.expected?.p_today ?? 2),
  );
  const many = machines.length > 12;
  const due = machines.filter(isDue).length;
  const old = now.getTime() - bench.dataUpdatedAt > 3 * EVERY_MS;
  return (
    <main className="flex min-h-dvh flex-col p-4">
      <header className="mb-3 flex flex-wrap items-baseline gap-x-6 border-b border-hairline pb-2">
        <h1 className="text-2xl font-semibold">{due ? `${due} of ${machines.length} to look at` : "Nothing is due"}</h1>
        <Link to="/" className="flex min-h-11 items-center text-graphite underline underline-offset-4">
          to the bench
        </Link>
        <p className={`ml-auto font-mono text-xl ${old ? "font-semibold text-madder" : "text-graphite"}`}>
          {old
            ? `as of ${clock(new Date(bench.dataUpdatedAt).toISOString())}: no answer since`
            : clock(now.toISOString())}
        </p>
      </header>
      <ul
        className={`grid flex-1 content-start gap-3 ${many ? "grid-cols-[repeat(auto-fill,minmax(8.5rem,1fr))]" : "grid-cols-[repeat(auto-fill,minmax(18rem,1fr))]"}`}
      >
        {machines.map((m) => (
          <Tile key={m.machine.id} line={m} small={many} />
        ))}
      </ul>
    </main>
  );
}

function Tile({ line, small }: { line: Schemas["MachineLine"]; small: boolean }) {
  const due = isDue(line);
  const on = line.on_line;
  const calls = on && ["waiting", "lost", "halted"].includes(on.state);
  const edge = calls ? "border-madder border-2" : due ? "border-brass border-2" : "border-hairline";
  return (
    <li className={`flex flex-col rounded-[6px] bg-paper ${edge} border ${small ? "p-2" : "p-4"}`}>
      <span className={`truncate font-semibold ${small ? "text-xl" : "text-3xl"}`}>{line.machine.name}</span>
      <span className={`font-mono ${small ? "text-3xl" : "text-6xl"} ${due ? "font-semibold text-brass" : ""}`}>
        {line.expected ? `${Math.round(100 * line.expected.p_today)} %` : "–"}
      </span>
      <span className={due ? "font-semibold text-brass" : "text-graphite"}>
        {!line.expected
          ? "never measured"
          : due
            ? "look again"
            : line.expected.due_at
              ? `by ${day(line.expected.due_at).split(",")[0]}`
              : "not due"}
      </span>
      <span className={`mt-auto truncate ${calls ? "font-semibold text-madder" : ""}`}>
        {on ? (on.state === "waiting" ? `asks: ${on.words}` : on.words || on.state) : line.words}
      </span>
    </li>
  );
}
