import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead, Zones } from "../../api/run";
import { Button, Choice, Eyebrow, Panel } from "../../ui/controls";
import { OtherFilament } from "./OtherFilament";
import { PrintingWords, ProofFiles } from "./ProofFiles";

const KINDS: Record<Schemas["ProofPlan"]["kind"], string> = {
  patches: "patches",
  skirt: "skirt",
  long_skirt: "long skirt",
  rim: "loop",
  whole: "strips",
  ladder: "ladder",
  three_heights: "patches",
  pair: "two temperatures",
  two_filaments: "two filaments",
};

/** The same proof with some of its zones alone; all of it where none is named. */
export const alone = (plan: Schemas["ProofPlan"], only: readonly number[]) =>
  only.length ? { ...plan, zones: plan.zones.filter((_, k) => only.includes(k)) } : plan;

/** The proof before it is printed: which kind, what it takes and tells, and its files. */
export function PrintSlip({
  view,
  offered,
  zones,
  setZones,
  only,
  setOnly,
  start,
  keep,
  busy,
  isNext,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  /** What it lays, takes and tells. */
  offered: Schemas["OtherProof"];
  zones: Zones;
  setZones: (z: Zones) => void;
  only: readonly number[];
  setOnly: (zones: readonly number[]) => void;
  start: () => void;
  keep: KeepEntry;
  busy: boolean;
  /** It is what the next step prints; else one that somebody would rather have. */
  isNext: boolean;
}) {
  const again = view.step === "print_again";
  const next = isNext && !view.unseen;
  const { plan, proposals, minutes } = offered;
  const chosen = proposals.find((p) => p.chosen);
  const advised = proposals.find((p) => p.advised);
  const told = (p: Schemas["Proposal"]) => `${p.minutes.toFixed(0)} min, leaves ±${p.leaves_mm.toFixed(3)} mm`;
  const some = only.length > 0 && only.length < plan.zones.length;
  const query = `zones=${zones}${some ? only.map((k) => `&only=${k}`).join("") : ""}`;
  return (
    <>
      <Eyebrow
        left={!isNext ? "Another proof" : next && !again ? "Proof 1" : "Something was changed since"}
        right={`${minutes.toFixed(0)} min`}
      />
      <h2 className={next ? "text-2xl leading-tight font-semibold" : "font-semibold"}>
        {plan.kind === "three_heights"
          ? "Print each zone at three heights."
          : again
            ? "Print the proof again."
            : plan.kind === "ladder"
              ? "Print a ladder first."
              : "Print the proof."}
      </h2>
      <Choice
        label="What is printed"
        value={String(zones === "advised" ? (chosen?.choice ?? "advised") : zones)}
        onChange={(v) => setZones(v === "5" ? 5 : v === "9" ? 9 : (v as Zones))}
        options={proposals.map((p) => ({
          value: String(p.choice),
          text: p.why_not
            ? `${p.name}: no room`
            : `${p.advised ? "advised: " : ""}${p.name}, ${p.minutes.toFixed(0)} min`,
        }))}
      />
      {advised && chosen && !chosen.advised && (
        <p className="text-sm text-graphite">
          Advised: {advised.name}, {told(advised)}.
        </p>
      )}
      {chosen && (
        <p className="text-sm">
          The height all zones share is known to <b className="font-mono">±{chosen.now_mm.toFixed(3)}</b> mm, after it
          to about <b className="font-mono">±{chosen.leaves_mm.toFixed(3)}</b>.
        </p>
      )}
      <p className="text-sm text-graphite">
        {plan.kind === "patches" ? `${plan.zones.length} patches of ${plan.patch_mm.toFixed(0)} mm` : chosen?.name},
        line {plan.line_mm.toFixed(2)}, layer {plan.layer_mm.toFixed(2)} mm; {(offered.filament_mm / 1000).toFixed(2)} m
        of filament. {offered.printing.begins}
      </p>
      {view.layer_words && <p className="text-sm">{view.layer_words}</p>}
      <PrintingWords printing={offered.printing} />
      {view.step !== "print" && (
        <OtherFilament view={view} keep={keep} chosen={() => setZones("two_filaments")} busy={busy} />
      )}
      {plan.kind === "patches" && (
        <details>
          <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
            some zones alone{some ? `: ${only.length} of ${plan.zones.length}` : ""}
          </summary>
          <div className="grid grid-cols-2">
            {plan.zones.map((z, k) => (
              <label key={z.name} className="flex min-h-11 items-center gap-2 text-sm">
                <input
                  type="checkbox"
                  className="size-5"
                  checked={only.length === 0 || only.includes(k)}
                  onChange={(e) => {
                    const now = only.length ? only : plan.zones.map((_, i) => i);
                    const left = e.target.checked ? [...now, k] : now.filter((i) => i !== k);
                    if (left.length) setOnly(left.sort((a, b) => a - b));
                  }}
                />
                {z.name}
              </label>
            ))}
          </div>
        </details>
      )}
      {view.head.readback_due && (
        <Panel tone="brass">
          <p className="text-sm">The new Z offset is not read back yet. Do that at Z offset before printing.</p>
        </Panel>
      )}
      <ProofFiles runId={view.head.id} printing={offered.printing} query={query} />
      <Button look={next ? "main" : "plain"} keyHint={next ? "Enter" : undefined} disabled={busy} onClick={start}>
        It is printed, judge the {KINDS[plan.kind]}
      </Button>
    </>
  );
}
