/** Set-up: machines on the sheet, gauges, nozzles, filaments, people; copied, retired, shared as JSON. */
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { useSetup } from "../api/setup";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Need } from "../network/Need";
import { Button } from "../ui/controls";
import { BringSetup } from "./BringSetup";
import { Carried } from "./Carried";
import { MachineSlip } from "./MachineSlip";
import { FilamentForm, GaugeForm, NozzleForm, PersonForm } from "./Stock";

type View = Schemas["SetupView"];
const SHELVES = ["machines", "gauges", "nozzles", "filaments", "people"] as const;
type Shelf = (typeof SHELVES)[number];

export function Setup() {
  const { data: view, error } = useSetup();
  const [at, setAt] = useSearchParams();
  const shelf = (SHELVES.find((s) => s === at.get("shelf")) ?? "machines") as Shelf;
  const chosen = at.get("id");
  if (!view) return <Waiting wrong={error} />;
  const lists: Record<Shelf, { id: string; name: string; retired: boolean }[]> = {
    machines: view.machines.map((k) => k.machine),
    gauges: view.gauges,
    nozzles: view.nozzles,
    filaments: view.filaments,
    people: view.people.map((p) => p.person),
  };
  const go = (to: Shelf, id?: string) => setAt(id ? { shelf: to, id } : { shelf: to });
  const list = lists[shelf];
  const id = chosen ?? list.find((x) => !x.retired)?.id ?? "new";
  return (
    <div className="mx-auto flex min-h-dvh max-w-7xl flex-col px-4 lg:px-6">
      <header className="flex min-h-12 flex-wrap items-center gap-x-6 border-b border-hairline">
        <Link to="/" className="flex min-h-11 items-center text-xl font-semibold">
          Ivory Table
        </Link>
        <h1 className="text-graphite">Set-up</h1>
        <nav aria-label="Shelves" className="ml-auto flex flex-wrap gap-1">
          {SHELVES.map((s) => (
            <button
              key={s}
              type="button"
              aria-pressed={s === shelf}
              onClick={() => go(s)}
              className={`min-h-11 border-b-2 px-3 first-letter:uppercase ${s === shelf ? "border-brass font-semibold" : "border-transparent text-graphite"}`}
            >
              {s}
            </button>
          ))}
        </nav>
      </header>
      <main className="grid flex-1 content-start gap-4 py-3 lg:grid-cols-[180px_minmax(0,1fr)]">
        <nav aria-label={`Kept ${shelf}`} className="flex flex-col gap-1">
          {list.map((x) => (
            <button
              key={x.id}
              type="button"
              aria-current={x.id === id}
              onClick={() => go(shelf, x.id)}
              className={`min-h-11 rounded-[4px] border px-2 text-left ${x.id === id ? "border-brass bg-paper" : "border-transparent hover:border-hairline"} ${x.retired ? "text-graphite line-through" : ""}`}
            >
              {x.name}
            </button>
          ))}
          <Button look={id === "new" ? "chosen" : "plain"} onClick={() => go(shelf, "new")}>
            Make a new one
          </Button>
          <Share />
        </nav>
        <div>
          <Need to="move" />
          <Chosen key={`${shelf} ${id}`} shelf={shelf} id={id} view={view} go={(to) => go(shelf, to)} />
        </div>
      </main>
      <Finder />
    </div>
  );
}

function Chosen({ shelf, id, view, go }: { shelf: Shelf; id: string; view: View; go: (id: string) => void }) {
  switch (shelf) {
    case "machines":
      return <MachineSlip view={view} kept={view.machines.find((k) => k.machine.id === id)} go={go} />;
    case "gauges":
      return <GaugeForm gauge={view.gauges.find((g) => g.id === id)} go={go} />;
    case "nozzles":
      return <NozzleForm nozzle={view.nozzles.find((n) => n.id === id)} go={go} />;
    case "filaments":
      return <FilamentForm filament={view.filaments.find((f) => f.id === id)} go={go} />;
    case "people":
      return <PersonForm line={view.people.find((p) => p.person.id === id)} go={go} />;
  }
}

/** All of the set-up as one file, out and in. */
function Share() {
  return (
    <div className="mt-4 flex flex-col gap-1 border-t border-hairline pt-2 text-sm">
      <a className="flex min-h-11 items-center underline underline-offset-4" href="/api/setup/file">
        save the set-up (JSON)
      </a>
      <BringSetup />
      <a className="flex min-h-11 items-center underline underline-offset-4" href="/api/setup/backup">
        save everything, runs too (backup)
      </a>
      <Carried />
      <p className="text-graphite">A copy is also made each day, beside the database.</p>
    </div>
  );
}
