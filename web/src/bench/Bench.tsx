/** The bench: every machine as its plate, its state in one line, and the way into a run. */

import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { v4 as uuid } from "uuid";
import type { Schemas } from "../api/client";
import { useBench, useImportRun, useStartRun } from "../api/run";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Need } from "../network/Need";
import { Button, Choice, Field, FileField, Wrong } from "../ui/controls";
import { FirstUse } from "./FirstUse";
import { Machines } from "./Machines";
import { QuickCorrection } from "./QuickCorrection";
import { RunRow } from "./RunRow";

export function Bench() {
  const { data: bench, error } = useBench();
  const [at, setAt] = useSearchParams();
  const chosen = at.get("machine");
  const setChosen = (id: string) => {
    const next = new URLSearchParams(at);
    next.set("machine", id);
    // What was changed was said of the machine before.
    next.delete("changes");
    setAt(next, { replace: true });
  };
  if (!bench) return <Waiting wrong={error} />;
  const line =
    bench.machines.find((m) => m.machine.id === chosen) ?? bench.machines.find((m) => m.open_run) ?? bench.machines[0];
  return (
    <div className="mx-auto flex min-h-dvh max-w-7xl flex-col px-4 lg:px-6">
      <header className="flex min-h-12 items-center border-b border-hairline">
        <h1 className="text-xl font-semibold">Ivory Table</h1>
        <nav className="ml-auto flex gap-5">
          <Link to="/wall" className="flex min-h-11 items-center underline underline-offset-4">
            Wall
          </Link>
          <Link to="/network" className="flex min-h-11 items-center underline underline-offset-4">
            Network
          </Link>
          <Link to="/setup" className="flex min-h-11 items-center underline underline-offset-4">
            Set-up
          </Link>
        </nav>
      </header>
      {line ? (
        <div className="grid flex-1 content-start gap-6 py-4 lg:grid-cols-[minmax(0,1fr)_368px]">
          <main>
            <Machines machines={bench.machines} chosen={line} choose={setChosen} />
            <h2 className="mt-6 mb-1 flex items-baseline gap-4 text-graphite">
              Runs, newest first
              <Link to="/runs" className="ml-auto flex min-h-11 items-center underline underline-offset-4">
                all runs
              </Link>
            </h2>
            {bench.runs.length ? (
              <ul>
                {bench.runs.slice(0, 5).map((r) => (
                  <RunRow key={r.id} run={r} />
                ))}
              </ul>
            ) : (
              <p>No run yet. Choose a machine and start one.</p>
            )}
          </main>
          <StartSlip
            key={line.machine.id}
            line={line}
            bench={bench}
            changes={at.get("changes")?.split(",").filter(Boolean) ?? []}
          />
        </div>
      ) : (
        <FirstUse usual={bench.usual_knobs} />
      )}
      <Finder />
    </div>
  );
}

function StartSlip({
  line,
  bench,
  changes,
}: {
  line: Schemas["MachineLine"];
  bench: Schemas["BenchView"];
  changes: string[];
}) {
  const { machine } = line;
  const navigate = useNavigate();
  const start = useStartRun();
  const [id] = useState(() => uuid());
  const [plate, setPlate] = useState(line.begin_with.plate_id);
  const [filament, setFilament] = useState(line.begin_with.filament_id);
  const [gauge, setGauge] = useState(line.begin_with.gauge_id);
  const [initials, setInitials] = useState(localStorage.getItem("initials") ?? "");
  const [wrong, setWrong] = useState<string | null>(null);
  const open = line.open_run;
  return (
    <section aria-label="Start a run" className="rounded-[6px] border border-hairline bg-paper p-4">
      <div className="flex items-baseline justify-between">
        <h2 className="text-2xl font-semibold">{machine.name}</h2>
        <Link
          to={`/machines/${machine.id}/logbook`}
          className="flex min-h-11 items-center underline underline-offset-4"
        >
          logbook
        </Link>
      </div>
      <p className="flex flex-wrap gap-x-5 text-sm">
        <Link to={`/machines/${machine.id}/job`} className="flex min-h-11 items-center underline underline-offset-4">
          check a job
        </Link>
        <Link
          to={`/machines/${machine.id}/gone-bad`}
          className="flex min-h-11 items-center underline underline-offset-4"
        >
          a layer went bad
        </Link>
        <Link
          to={`/machines/${machine.id}/after-change`}
          className="flex min-h-11 items-center underline underline-offset-4"
        >
          after a change
        </Link>
      </p>
      {line.expected && <p className="text-sm text-graphite">{line.expected.words}</p>}
      {open && (
        <Link
          to={`/runs/${open.id}/tram`}
          className="mt-3 flex min-h-14 flex-col justify-center rounded-[4px] bg-ink px-4 py-2 text-paper"
        >
          <span className="font-semibold">Continue the open run</span>
          <span className="text-sm">
            {open.plate_name}, {open.words}
          </span>
        </Link>
      )}
      <Need to="work">
        <form
          className="mt-3 flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            const by = initials.trim();
            if (!by || by.length > 12)
              return setWrong("Give your initials, 1 to 12 letters, so that the record says who.");
            setWrong(null);
            localStorage.setItem("initials", by);
            start.mutate(
              {
                id,
                machine_id: machine.id,
                plate_id: plate,
                filament_id: filament,
                gauge_id: gauge,
                initials: by,
                changes,
              },
              { onSuccess: (run) => navigate(`/runs/${run.id}/prepare`) },
            );
          }}
        >
          <Choice
            label="Plate"
            value={plate}
            onChange={setPlate}
            options={machine.plates.filter((p) => !p.retired).map((p) => ({ value: p.id, text: p.name }))}
          />
          <Choice
            label="Filament"
            value={filament}
            onChange={setFilament}
            options={bench.filaments.map((f) => ({ value: f.id, text: f.name }))}
          />
          <Choice
            label="Gauge"
            value={gauge}
            onChange={setGauge}
            options={bench.gauges.map((g) => ({
              value: g.id,
              text: `${g.name}, ${g.measured ? `${g.thickness_mm.toFixed(2)} mm measured` : "not measured"}`,
            }))}
          />
          <Field
            label="Your initials"
            value={initials}
            onChange={(e) => setInitials(e.target.value)}
            wrong={wrong}
            maxLength={40}
            list="who"
          />
          <datalist id="who">
            {bench.people.map((p) => (
              <option key={p.initials} value={p.initials}>
                {p.name}
              </option>
            ))}
          </datalist>
          {(!bench.filaments.length || !bench.gauges.length) && (
            <p className="text-sm text-brass">
              A run needs a filament and a gauge:{" "}
              <Link to="/setup?shelf=gauges" className="underline underline-offset-4">
                enter them in the set-up
              </Link>
              .
            </p>
          )}
          {changes.length > 0 && (
            <p className="border-l-2 border-brass pl-3 text-sm">
              It begins with {changes.length === 1 ? "the change" : `${changes.length} changes`} you named; what follows
              from {changes.length === 1 ? "it" : "them"} stands at Prepare.
            </p>
          )}
          <Wrong wrong={start.error} />
          <Button look="main" type="submit" disabled={start.isPending}>
            Start a new run
          </Button>
        </form>
        {!open && <QuickCorrection machine={machine} rule={line.convention_rule} />}
        <ImportRun />
      </Need>
    </section>
  );
}

function ImportRun() {
  const bring = useImportRun();
  const [wrong, setWrong] = useState<string | null>(null);
  const read = async (file: File | undefined) => {
    if (!file) return;
    setWrong(null);
    if (file.size > 4_000_000)
      return setWrong("That file is larger than 4 MB; a run has a few hundred kB. Is it the right one?");
    try {
      bring.mutate(JSON.parse(await file.text()));
    } catch {
      setWrong("This is not readable JSON. Choose a run exported at Sign off.");
    }
  };
  return (
    <div className="mt-5 border-t border-hairline pt-3">
      <FileField label="Bring a run from another installation" accept=".json,application/json" onFile={read} />
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      <Wrong wrong={bring.error} />
      {bring.data && (
        <p className="text-sm">
          {bring.data.new ? "Kept. " : "It was here already. "}
          <Link className="underline underline-offset-4" to={`/runs/${bring.data.id}/sign_off`}>
            Open it
          </Link>
        </p>
      )}
    </div>
  );
}
