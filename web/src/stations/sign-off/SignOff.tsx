/** Sign off: what was found and left, the run as files, and the last word. */

import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { useActs, useStation } from "../../api/run";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Eyebrow, Panel } from "../../ui/controls";

export function SignOff() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "sign_off");
  const acts = useActs(runId, "sign_off", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const [note, setNote] = useState("");
  if (!view) return <Waiting wrong={error} />;
  const sign = () => {
    if (view.step === "open") acts.keep({ kind: "signed_off", note });
  };
  const link = "flex min-h-11 items-center justify-center rounded-[4px] border border-hairline px-3 hover:border-ink";
  return (
    <Shell
      station="sign_off"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={view.step === "open" ? [{ keys: ["Enter"], cap: "Enter", does: "sign off", run: sign }] : []}
      sheet={<Sheet sheet={view.sheet} from={from} title="As left" />}
      slip={
        <>
          <Eyebrow left={`Signed by ${view.head.initials}`} right={view.step === "signed" ? "done" : "open"} />
          <h2 className="text-2xl leading-tight font-semibold">
            {view.step === "signed" ? "Signed off." : "What was found and set"}
          </h2>
          <Found view={view} />
          {view.missing.length > 0 && view.step === "open" && (
            <Panel tone="brass">
              <p className="text-sm">Not done: {view.missing.join(", ")}. It is noted as it is.</p>
            </Panel>
          )}
          {view.step === "open" ? (
            <>
              <label className="text-sm text-graphite" htmlFor="note">
                Anything the next person should know
              </label>
              <textarea
                id="note"
                rows={2}
                maxLength={2000}
                className="rounded-[4px] border border-graphite bg-paper p-2"
                value={note}
                onChange={(e) => setNote(e.target.value)}
              />
              <Button look="main" keyHint="Enter" disabled={acts.busy} onClick={sign}>
                Sign off
              </Button>
            </>
          ) : (
            view.note && <p className="border-l-2 border-hairline pl-3">{view.note}</p>
          )}
          <p className="text-sm text-graphite">Look again {view.look_again}.</p>
          <div className="grid grid-cols-2 gap-2 text-sm">
            <Link className={link} to={`/runs/${runId}/record`}>
              Record to print
            </Link>
            <a className={link} href={`/api/runs/${runId}/record.pdf`} download>
              Record, PDF
            </a>
            <a className={link} href={`/api/runs/${runId}/file`} download>
              Whole run, JSON
            </a>
            <a className={link} href={`/api/runs/${runId}/readings.csv`} download>
              Readings, CSV
            </a>
            {view.head.stations.some((s) => s.station === "mesh" && s.state === "done") && (
              <a className={link} href={`/api/runs/${runId}/mesh.csv`} download>
                Mesh, CSV
              </a>
            )}
          </div>
        </>
      }
    />
  );
}

export function Found({ view }: { view: WithHead<Schemas["SignOffView"]> }) {
  if (!view.lines.length) return <p>Nothing was measured or set in this run yet.</p>;
  return (
    <table className="w-full text-sm">
      <thead>
        <tr className="border-b border-hairline text-left text-graphite">
          <th className="py-1 font-normal">what</th>
          <th className="font-normal">found</th>
          <th className="text-right font-normal">left</th>
        </tr>
      </thead>
      <tbody>
        {view.lines.map((l) => (
          <tr key={l.name} className="border-b border-hairline align-baseline">
            <td className="py-1 pr-3">{l.name}</td>
            {l.before && <td className="pr-3 font-mono text-graphite">{l.before}</td>}
            <td className="text-right font-mono" colSpan={l.before ? 1 : 2}>
              {l.after}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
