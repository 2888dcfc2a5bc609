/** The record of a run on one printable page. */
import { Link } from "react-router";
import { useStation } from "../../api/run";
import { useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button } from "../../ui/controls";
import { clock, day } from "../../ui/words";
import { Found } from "./SignOff";

export function Record() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "sign_off");
  const [from] = useSeenFrom(view?.head);
  if (!view) return <Waiting wrong={error} />;
  const { head } = view;
  return (
    <main className="mx-auto max-w-3xl bg-paper p-6">
      <div className="no-print mb-4 flex gap-3">
        <Button onClick={() => window.print()}>Print this page</Button>
        <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/sign_off`}>
          Back to Sign off
        </Link>
      </div>
      <h1 className="text-2xl font-semibold">
        {head.machine.name}: {head.plate.name}, {head.filament.name}
      </h1>
      <p className="text-graphite">
        Begun {day(head.started_at)} by {head.initials}, gauge {head.gauge.name}.{" "}
        {head.signed_off ? "Signed off." : "Not signed off."} {head.machine.practice && "Practice machine."}
      </p>
      <div className="my-4 max-w-xl">
        <Sheet sheet={view.sheet} from={from} title="As left" />
      </div>
      <Found view={view} />
      {view.offset && (
        <p className="my-3">
          Z offset {view.offset.words}, {head.convention.name.toLowerCase()} ({head.convention.rule})
          {view.offset.lines.length > 0 && (
            <>
              : <code className="font-mono">{view.offset.lines.join("; ")}</code>
            </>
          )}
        </p>
      )}
      {view.missing.length > 0 && <p>Not done: {view.missing.join(", ")}.</p>}
      {view.note && <p className="my-2">Note: {view.note}</p>}
      <h2 className="mt-4 font-semibold">Kept rows, newest first</h2>
      <ol className="columns-2 text-sm">
        {head.rows.map((r) => (
          <li key={r.id}>
            <span className="font-mono text-graphite">{clock(r.at)}</span> {r.words}
          </li>
        ))}
      </ol>
    </main>
  );
}
