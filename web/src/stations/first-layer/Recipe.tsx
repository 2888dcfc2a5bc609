/** First-layer settings to copy, each with what it buys; computed for this nozzle, filament and plate. */
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import { useActs, useStation } from "../../api/run";
import { useRunId } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Button, Wrong } from "../../ui/controls";

type Row = Schemas["Recipe"];

const VALUES: readonly (readonly [string, (r: Row) => string])[] = [
  ["layer", (r) => `${r.layer_mm.toFixed(2)} mm`],
  ["line", (r) => `${r.line_mm.toFixed(2)} mm`],
  ["flow", (r) => `${(100 * r.flow).toFixed(0)} %`],
  ["speed", (r) => `${r.speed_mm_s.toFixed(0)} mm/s`],
  ["acceleration", (r) => `${r.acceleration_mm_s2.toFixed(0)} mm/s²`],
  ["tip", (r) => `${r.nozzle_c.toFixed(0)} °C`],
  ["plate", (r) => `${r.bed_c.toFixed(0)} °C`],
  ["part fan", (r) => (r.fan ? `${(100 * r.fan).toFixed(0)} %` : "off")],
  ["melted", (r) => `${r.melts_mm3_s.toFixed(1)} mm³/s, ${(100 * r.melt_share).toFixed(0)} %`],
];

/** Whether layer or line differ and nothing else: heat belongs to the filament, and is changed there. */
const isOtherLayer = (r: Row, now: Row) =>
  (r.layer_mm !== now.layer_mm || r.line_mm !== now.line_mm) && r.nozzle_c === now.nozzle_c;

/** Proofs and parts with this first layer from here on. */
function PrintSo({ recipe }: { recipe: Row }) {
  const runId = useRunId();
  const go = useNavigate();
  const { data: view } = useStation(runId, "first_layer");
  const acts = useActs(runId, "first_layer", view?.seq ?? 0);
  return (
    <>
      <Button
        className="mt-3 w-full"
        disabled={!view || acts.busy}
        onClick={() =>
          acts.keep({ kind: "layer_chosen", layer_mm: recipe.layer_mm, line_mm: recipe.line_mm }, () =>
            go(`/runs/${runId}/first_layer`),
          )
        }
      >
        Print so from here on
      </Button>
      <Wrong wrong={acts.wrong} />
    </>
  );
}

export function Recipe() {
  const runId = useRunId();
  const { data: view, error } = useQuery<Schemas["RecipeView"], Refusal>({
    queryKey: ["run", runId, "recipe"],
    queryFn: () => answer(api.GET("/api/runs/{run_id}/recipe", { params: { path: { run_id: runId } } })),
  });
  if (!view) return <Waiting wrong={error} />;
  const [now] = view.recipes;
  const most = Math.max(...view.recipes.map((r) => r.forgives_mm));
  return (
    <main className="mx-auto w-full max-w-5xl p-4">
      <div className="no-print mb-3 flex flex-wrap gap-3">
        <Button onClick={() => window.print()}>Print this page</Button>
        <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/first_layer`}>
          Back to First layer
        </Link>
      </div>
      <h1 className="text-2xl font-semibold">First-layer settings</h1>
      <p className="max-w-prose">
        What is left between the zones, and not known of them, is ±{view.uneven_mm.toFixed(3)} mm. Each column says by
        how much the gap may be off and the layer be sound still.
      </p>
      <div className="mt-4 grid gap-3 sm:grid-cols-2 lg:grid-cols-4">
        {view.recipes.map((r) => (
          <section key={r.name} className="rounded-[4px] border border-hairline bg-paper p-3" aria-label={r.name}>
            <h2 className="min-h-12 leading-tight font-semibold">{r.name}</h2>
            <p className="font-mono text-2xl">±{r.forgives_mm.toFixed(3)} mm</p>
            <div className="my-1 h-2 bg-hairline" aria-hidden="true">
              <div className="h-full bg-verdigris" style={{ width: `${(100 * r.forgives_mm) / most}%` }} />
            </div>
            <p className="text-sm">
              around a gap of {r.gap_mm.toFixed(3)}; all {view.zones} zones sound with{" "}
              <b>{(100 * r.p_all_sound).toFixed(0)} %</b>
            </p>
            <table className="mt-2 w-full text-sm">
              <tbody>
                {VALUES.map(([name, say]) => (
                  <tr key={name} className="border-b border-hairline">
                    <td className="py-1 text-graphite">{name}</td>
                    <td className="text-right font-mono">{say(r)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {r.why && <p className="mt-2 text-sm text-graphite">{r.why}.</p>}
            {now && isOtherLayer(r, now) && <PrintSo recipe={r} />}
          </section>
        ))}
      </div>
      <ul className="mt-4 max-w-prose text-sm text-graphite">
        {view.cautions.map((c) => (
          <li key={c}>{c}</li>
        ))}
      </ul>
      <p className="mt-2 max-w-prose text-sm text-graphite">
        A hot end of this kind is taken to melt {view.melts_mm3_s.toFixed(0)} mm³ a second; a weaker one needs a slower
        layer. A different layer height moves the gap with it: the Z offset stays.
      </p>
    </main>
  );
}
