/** A job made elsewhere, checked before it is printed: what is wrong in it, and where its first layer will hold. */
import { type DragEvent, useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { type Finding, type JobReport, useCheckedJob, useCheckedJobs, useCheckJob } from "../api/jobs";
import { useBench } from "../api/run";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { PageHead } from "../logbook/PageHead";
import { Need } from "../network/Need";
import { Button, Choice, FileField, Panel, Wrong } from "../ui/controls";
import { day } from "../ui/words";
import { Compare } from "./Compare";
import { JobMap } from "./JobMap";
import { SaveCopy } from "./SaveCopy";

export function JobCheck() {
  const { machineId = "" } = useParams();
  const [at, setAt] = useSearchParams();
  const bench = useBench();
  const kept = useCheckedJobs(machineId);
  const check = useCheckJob(machineId);
  const chosen = at.get("job") ?? kept.data?.jobs[0]?.id ?? null;
  const report = useCheckedJob(machineId, chosen);
  const [over, setOver] = useState(false);
  // The file itself stays here: what is kept of it is its report.
  const [sent, setSent] = useState<{ job: string; file: File } | null>(null);
  const [plate, setPlate] = useState("");
  const [filament, setFilament] = useState("");
  const line = bench.data?.machines.find((m) => m.machine.id === machineId);
  useEffect(() => {
    if (line) document.title = `${line.machine.name} · check a job · Ivory Table`;
  }, [line]);
  if (!bench.data || !kept.data) return <Waiting wrong={bench.error ?? kept.error} />;
  if (!line) return <Waiting wrong={null} />;
  const send = (file: File | undefined) =>
    file &&
    check.mutate(
      { file, plate: plate || undefined, filament: filament || undefined },
      {
        onSuccess: (r) => {
          setSent({ job: r.id, file });
          setAt({ job: r.id });
        },
      },
    );
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    send(e.dataTransfer.files[0]);
  };
  return (
    <div className="flex min-h-dvh flex-col px-4 lg:h-dvh lg:px-6">
      <PageHead machine={line.machine.name} title="check a job before it is printed" />
      <div className="grid flex-1 gap-3 py-3 lg:min-h-0 lg:grid-cols-[minmax(0,1fr)_440px] lg:gap-6">
        <main className="order-2 flex min-h-96 flex-col rounded-[6px] border border-hairline bg-paper p-3 lg:order-1 lg:min-h-0">
          {report.data?.cells.length ? (
            <JobMap report={report.data} />
          ) : (
            <p className="m-auto max-w-md text-center text-graphite">
              {report.data
                ? report.data.rests_on[0]
                : "The plate with what the job lays on it, once one is checked: where it holds, parts or scrapes."}
            </p>
          )}
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 *:shrink-0 rounded-[6px] border border-hairline bg-paper p-4 lg:order-2 lg:overflow-y-auto"
        >
          <Need to="work">
            {/* biome-ignore lint/a11y/noStaticElementInteractions: a file may be dropped here; the button below does the same */}
            <div
              onDragOver={(e) => {
                e.preventDefault();
                setOver(true);
              }}
              onDragLeave={() => setOver(false)}
              onDrop={drop}
              className={`flex flex-col gap-2 rounded-[6px] border border-dashed p-3 ${over ? "border-brass bg-brass/10" : "border-graphite"}`}
            >
              <div className="grid grid-cols-2 gap-2">
                <Choice
                  label="Plate"
                  value={plate}
                  onChange={setPlate}
                  options={[
                    { value: "", text: "as last run" },
                    ...line.machine.plates.filter((p) => !p.retired).map((p) => ({ value: p.id, text: p.name })),
                  ]}
                />
                <Choice
                  label="Filament"
                  value={filament}
                  onChange={setFilament}
                  options={[
                    { value: "", text: "as last run" },
                    ...bench.data.filaments.map((f) => ({ value: f.id, text: f.name })),
                  ]}
                />
              </div>
              {check.isPending ? (
                <>
                  <p role="status">
                    {check.sent < 1
                      ? `Sending, ${Math.round(100 * check.sent)} %`
                      : `Reading it${check.read ? `, ${Math.round(100 * check.read)} %` : ""}`}
                  </p>
                  <div className="h-2 rounded-[2px] border border-ink">
                    <div
                      className="h-full bg-ink"
                      style={{ width: `${100 * (check.sent < 1 ? check.sent : check.read)}%` }}
                    />
                  </div>
                  <Button onClick={check.stop}>Stop</Button>
                </>
              ) : (
                <FileField label="Choose the program, or drop it here" accept="*" onFile={send} />
              )}
              <Wrong wrong={check.error} />
            </div>
          </Need>
          {report.data && <Report report={report.data} />}
          {report.data && (
            <SaveCopy
              key={report.data.id}
              report={report.data}
              file={sent?.job === report.data.id ? sent.file : null}
            />
          )}
          {report.data && <Compare key={report.data.id} report={report.data} jobs={kept.data.jobs} />}
          <Earlier jobs={kept.data.jobs} chosen={chosen} choose={(id) => setAt({ job: id })} />
        </section>
      </div>
      <Finder />
    </div>
  );
}

function Report({ report }: { report: JobReport }) {
  const stop = report.findings.some((f) => f.level === "stop");
  return (
    <>
      <div>
        <p className="text-sm text-graphite">
          {report.name} · {report.lines.toLocaleString("en")} lines
          {report.layer_mm != null && ` · layer ${report.layer_mm} mm, line ${report.line_mm?.toFixed(2)} mm as sent`}
        </p>
        <h2 className={`text-xl leading-tight font-semibold ${stop ? "text-madder" : ""}`} aria-live="polite">
          {report.words}
        </h2>
      </div>
      {report.better && (
        <Panel tone="brass">
          <p className="font-semibold">{report.better.words}</p>
          <p className="text-sm">
            All of it sound with {Math.round(100 * report.better.p_after)} % instead of{" "}
            {Math.round(100 * report.better.p_before)} %.{" "}
            <Link className="underline underline-offset-4" to={`/?machine=${report.machine_id}`}>
              To the bench
            </Link>
          </p>
        </Panel>
      )}
      {report.otherwise && (
        <p className="border-l-2 border-brass pl-3 text-sm">
          {report.otherwise.words} All of it sound with {Math.round(100 * report.otherwise.p_after)} % instead of{" "}
          {Math.round(100 * report.otherwise.p_before)} %.
        </p>
      )}
      {report.placed && (
        <p className="border-l-2 border-brass pl-3 text-sm">
          {report.placed.turn_deg ? `Turned by ${report.placed.turn_deg}°, moved` : "Moved"} by X{" "}
          {report.placed.dx_mm > 0 ? "+" : ""}
          {report.placed.dx_mm}, Y {report.placed.dy_mm > 0 ? "+" : ""}
          {report.placed.dy_mm} mm, {Math.round(100 * report.placed.share_after)} % of it would hold instead of{" "}
          {Math.round(100 * report.placed.share_before)} %.
        </p>
      )}
      {report.findings.length > 0 && (
        <ol aria-label="What was found">
          {report.findings.map((f) => (
            <FindingLine key={`${f.code} ${f.line} ${f.text}`} of={f} />
          ))}
        </ol>
      )}
      <div className="text-sm text-graphite">
        {report.rests_on.map((line) => (
          <p key={line}>{line}</p>
        ))}
      </div>
    </>
  );
}

const LEVELS = {
  stop: "border-madder text-madder",
  warning: "border-brass text-brass",
  note: "border-hairline text-graphite",
} as const;

function FindingLine({ of }: { of: Finding }) {
  return (
    <li className={`mb-2 border-l-2 pl-3 ${LEVELS[of.level]}`}>
      <p className="text-ink">
        {of.line != null && <span className="mr-2 font-mono text-sm text-graphite">line {of.line}</span>}
        {of.text}
      </p>
      {(of.instead ?? []).length > 0 && (
        <p className="font-mono text-sm text-graphite">
          <span className="font-sans">instead: </span>
          {of.instead?.join(" / ")}
        </p>
      )}
    </li>
  );
}

function Earlier({ jobs, chosen, choose }: { jobs: JobReport[]; chosen: string | null; choose: (id: string) => void }) {
  if (jobs.length < 2) return null;
  return (
    <div className="border-t border-hairline pt-2">
      <h2 className="text-sm text-graphite">Checked before</h2>
      {jobs.slice(0, 8).map((j) => (
        <button
          key={j.id}
          type="button"
          aria-pressed={j.id === chosen}
          onClick={() => choose(j.id)}
          className={`flex min-h-11 w-full items-center gap-3 border-b border-hairline text-left text-sm ${j.id === chosen ? "font-semibold" : ""}`}
        >
          <span className="min-w-0 flex-1 truncate">{j.name}</span>
          <span className="font-mono text-graphite">
            {j.share_sound != null ? `${Math.round(100 * j.share_sound)} %` : "–"} · {day(j.at)}
          </span>
        </button>
      ))}
    </div>
  );
}
