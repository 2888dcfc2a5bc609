import type { Schemas } from "../../api/client";
import type { WithHead, Zones } from "../../api/run";
import { Button, Choice, Eyebrow, Panel } from "../../ui/controls";
import { signed } from "../../ui/words";

const KINDS: Record<Schemas["ProofPlan"]["kind"], string> = {
  patches: "patches",
  skirt: "skirt",
  long_skirt: "long skirt",
  rim: "loop",
  whole: "strips",
  ladder: "ladder",
  two_heights: "halves",
  pair: "two temperatures",
};

/** The proof before it is printed: which kind, what it takes and tells, and its files. */
export function PrintSlip({
  view,
  zones,
  setZones,
  only,
  setOnly,
  start,
  busy,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  zones: Zones;
  setZones: (z: Zones) => void;
  only: readonly number[];
  setOnly: (zones: readonly number[]) => void;
  start: () => void;
  busy: boolean;
}) {
  const again = view.step === "print_again";
  const { plan, proposals } = view;
  const chosen = proposals.find((p) => p.chosen);
  const advised = proposals.find((p) => p.advised);
  const told = (p: Schemas["Proposal"]) => `${p.minutes.toFixed(0)} min, leaves ±${p.leaves_mm.toFixed(3)} mm`;
  const some = only.length > 0 && only.length < plan.zones.length;
  const query = `zones=${zones}${some ? only.map((k) => `&only=${k}`).join("") : ""}`;
  const file = (ending: string) => `/api/runs/${view.head.id}/proof.${ending}?${query}`;
  const lowest = plan.layer_mm + Math.min(...plan.zones.map((z) => z.away_mm));
  return (
    <>
      <Eyebrow
        left={again || view.unseen ? "Something was changed since" : "Proof 1"}
        right={`${view.minutes.toFixed(0)} min`}
      />
      <h2 className={view.unseen ? "font-semibold" : "text-2xl leading-tight font-semibold"}>
        {plan.kind === "two_heights"
          ? "Print each zone at two heights."
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
        {plan.kind === "patches" ? `${plan.zones.length} patches of ${view.patch_mm.toFixed(0)} mm` : chosen?.name},
        line {plan.line_mm.toFixed(2)}, layer {plan.layer_mm.toFixed(2)} mm; {(view.filament_mm / 1000).toFixed(2)} m of
        filament. Heats, homes, {view.head.stations[2]?.state === "done" ? "switches the mesh on, " : ""}primes.
      </p>
      {view.layer_words && <p className="text-sm">{view.layer_words}</p>}
      {plan.kind === "ladder" && (
        <Panel tone="brass">
          <p className="text-sm">
            Each step is laid nearer to the plate than the one before, down to z {signed(lowest)}. Stay beside it, a
            hand at the stop: end it at the first step that holds and closes, and tell which that was.
            {lowest < 0 && " A machine that refuses heights below 0 needs its soft limit opened first, at Z offset."}
          </p>
        </Panel>
      )}
      {plan.kind === "two_heights" && (
        <p className="text-sm">
          Each zone in two halves: the left one {Math.abs(lowest - plan.layer_mm).toFixed(3)} mm closer than the nozzle
          runs now, the right one as much further. Where the left half is rough and the right one is not, the zone lies
          too close; where only the right one parts, too far. Judge each half by itself, as it looks.
        </p>
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
      <a
        className="flex min-h-11 items-center justify-center rounded-[4px] border border-ink px-3 font-semibold"
        href={file("gcode")}
        download
      >
        Download the program
      </a>
      {view.is_shape && (
        <p className="text-sm text-graphite">
          Its shapes, for jobs prepared elsewhere:{" "}
          {["stl", "3mf"].map((ending) => (
            <a key={ending} className="mr-3 underline underline-offset-4" href={file(ending)} download>
              {ending.toUpperCase()}
            </a>
          ))}
        </p>
      )}
      <Button
        look={view.unseen ? "plain" : "main"}
        keyHint={view.unseen ? undefined : "Enter"}
        disabled={busy}
        onClick={start}
      >
        It is printed, judge the {KINDS[plan.kind]}
      </Button>
    </>
  );
}
