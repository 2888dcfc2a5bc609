/** First layer: the proof to print, a grade per zone, and the best next step with its reason. */

import { useEffect, useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import type { WithHead, Zones } from "../../api/run";
import { useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import type { Frame } from "../../sheet/frame";
import { Sheet } from "../../sheet/Sheet";
import { Section, type Side, Swatch } from "../../sheet/Swatch";
import { Button, Choice, Eyebrow, Panel } from "../../ui/controls";
import { signed, typedNumber } from "../../ui/words";
import { Judge, Verdicts } from "./Judge";
import { LiveChange } from "./LiveChange";
import { doStep, NextStep, PART_WORDS, shared } from "./NextStep";

type View = WithHead<Schemas["FirstLayerView"]>;

export function FirstLayer() {
  const runId = useRunId();
  const [zones, setZones] = useState<Zones>(5);
  const { data: view, error } = useStation(runId, "first_layer", zones);
  const acts = useActs(runId, "first_layer", view?.head.seq ?? 0, zones);
  const [from, flip] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<number | null>(null);
  const [caliper, setCaliper] = useState("");
  const [side, setSide] = useState<Side>("top");
  const turnOver = () => setSide(side === "top" ? "under" : "top");
  const next = view?.next_zone ?? null;
  const proofs = view?.proof_number;
  // The next zone comes up by itself once one is judged.
  useEffect(() => {
    setChosen(null);
    setCaliper("");
  }, [next, proofs, view?.step]);
  const laid = view?.plan.zones;
  const places = useMemo(() => (laid ?? []).map((z) => [z.x_mm, z.y_mm] as const), [laid]);
  if (!view) return <Waiting wrong={error} />;
  const { keep, busy } = acts;
  const at = chosen ?? next ?? 0;
  const judging = view.step === "judge" || ((view.step === "decide" || view.step === "done") && chosen !== null);
  const thick = typedNumber(caliper) ?? 0;
  const caliperWrong = caliper.trim() && !(thick > 0 && thick <= 20) ? "Give the thickness in mm, such as 0.21." : null;
  // Said once, that it is odd: the same number again is meant.
  const odd = acts.refused?.problem.code === "caliper_doubtful" ? acts.refused.what : null;
  const grade = (key: number) => {
    const card = view.cards.find((c) => c.key === key);
    if (!card || caliperWrong) return;
    const caliper_mm = caliper.trim() ? thick : null;
    const sure = odd?.kind === "judged" && odd.zone === at && odd.caliper_mm === caliper_mm;
    keep({ kind: "judged", zone: at, grade: card.grade, caliper_mm, greasy: false, sure });
    setChosen(null);
  };
  const start = () => keep({ kind: "proof_started", proof: view.plan });
  const move = (key: string) => {
    const here = view.zones[at];
    if (!here) return;
    const d = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[key] ?? [0, 0];
    const [dx = 0, dy = 0] = d;
    const ahead = view.zones
      .map((z, k) => {
        const [x, y] = [z.x_mm - here.x_mm, z.y_mm - here.y_mm];
        return { k, along: x * dx + y * dy, aside: Math.abs(x * dy - y * dx) };
      })
      .filter((z) => z.along > 1)
      .sort((p, q) => p.along + 2 * p.aside - (q.along + 2 * q.aside));
    if (ahead[0]) setChosen(ahead[0].k);
  };
  const best = view.steps[0];
  const doBest = () => best && doStep(best, keep, (to) => navigate(`/runs/${runId}/${to}`));
  const keys: Key[] = [];
  if (judging)
    keys.push({ keys: ["1", "2", "3", "4", "5", "6", "7"], cap: "1–7", does: "look", run: (k) => grade(Number(k)) });
  if (judging) keys.push({ keys: ["u", "U"], cap: "U", does: "turn it over", run: turnOver });
  if (view.step !== "print")
    keys.push({ keys: ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"], cap: "arrows", does: "zone", run: move });
  if (view.step === "print" || view.step === "print_again")
    keys.push({ keys: ["Enter"], cap: "Enter", does: "printed", run: start });
  if ((view.step === "decide" || view.step === "done") && chosen === null)
    keys.push({ keys: ["Enter"], cap: "Enter", does: "do the best step", run: doBest });
  keys.push({ keys: ["v", "V"], cap: "V", does: from === "above" ? "seen from below" : "seen from above", run: flip });
  const zone = view.zones[at];
  const judgedCount = view.zones.filter((z) => z.grade || z.caliper_mm).length;
  return (
    <Shell
      station="first_layer"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      zones={zones}
      canPractise={view.step !== "done" && view.step !== "decide"}
      facts={[
        ["Layer", `${view.plan.layer_mm.toFixed(2)} mm`],
        ["Line", `${view.plan.line_mm.toFixed(2)} mm`],
        ["Sound from", `${view.sound_from_mm.toFixed(3)}`],
        ["Sound to", `${view.sound_to_mm.toFixed(3)}`],
        ["Aimed at", `${view.target_mm.toFixed(3)}`],
        ...view.parts
          .filter((p) => judgedCount > 0 && p.name !== "local")
          .map((p) =>
            p.name === "offset"
              ? ([shared(p.amount_mm), `${Math.abs(p.amount_mm).toFixed(2)} ±${p.sd_mm.toFixed(2)}`] as const)
              : ([PART_WORDS[p.name], `${signed(p.amount_mm)} ±${p.sd_mm.toFixed(2)}`] as const),
          ),
      ]}
      sheet={
        <Sheet
          sheet={view.sheet}
          from={from}
          title={`Proof ${view.proof_number}`}
          writes={places}
          below={
            zone && (
              <>
                <text className="svg-words" x={0} y={8}>
                  in section, {zone.name}
                </text>
                <Section
                  swatch={zone.swatch}
                  x={0}
                  y={26}
                  label={zone.known ? "as it is" : "not known yet"}
                  unknown={!zone.known}
                />
                <Section swatch={view.target_swatch} x={210} y={26} label="as wanted" />
              </>
            )
          }
        >
          {(frame) => <ZonesLayer view={view} frame={frame} at={judging ? at : null} pick={setChosen} />}
        </Sheet>
      }
      slip={
        <>
          {judging && zone ? (
            <Judge
              view={view}
              zone={zone}
              number={at + 1}
              grade={grade}
              busy={busy}
              caliper={caliper}
              setCaliper={setCaliper}
              caliperWrong={caliperWrong}
              side={side}
              turnOver={turnOver}
              greasy={() => keep({ kind: "judged", zone: at, grade: "loose", greasy: true, sure: false })}
            />
          ) : view.step === "print" || view.step === "print_again" ? (
            <>
              {view.mesh_unseen && (
                <Panel tone="brass">
                  <p className="text-sm">
                    {view.mesh_unseen}{" "}
                    <Link className="underline underline-offset-4" to={`/runs/${view.head.id}/mesh`}>
                      Go to Mesh
                    </Link>
                  </p>
                </Panel>
              )}
              <PrintSlip view={view} zones={zones} setZones={setZones} start={start} busy={busy} />
            </>
          ) : (
            <h2 className="text-2xl leading-tight font-semibold">
              {view.step === "done" ? "Every zone is sound." : "All zones judged."}
            </h2>
          )}
          {view.steps.length > 0 && best && (
            <NextStep
              step={best}
              from={from}
              others={view.steps.slice(1)}
              act={view.step === "decide" || view.step === "done" ? doBest : null}
              busy={busy}
              rule={view.head.convention.rule}
              soFar={view.step === "judge"}
            />
          )}
          <LiveChange view={view} keep={keep} busy={busy} />
          {!judging && judgedCount > 0 && <Verdicts view={view} />}
        </>
      }
    />
  );
}

function ZonesLayer({
  view,
  frame,
  at,
  pick,
}: {
  view: View;
  frame: Frame;
  at: number | null;
  pick: (k: number) => void;
}) {
  const size = Math.abs(frame.px(view.patch_mm) - frame.px(0));
  return (
    <g>
      {view.zones.map((z, k) => {
        const [x, y] = [frame.px(z.x_mm), frame.py(z.y_mm)];
        const judged = z.grade !== null || z.caliper_mm !== null;
        // Its number stands on the side of the plate's middle, so that it reaches past no rim.
        const below = y < frame.plan.y + frame.plan.h / 2;
        const colour = z.sound ? "var(--verdigris)" : z.error_mm > 0 ? "var(--slate)" : "var(--madder)";
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the arrow keys move over the zones
          <g key={z.name} onClick={() => pick(k)} style={{ cursor: "pointer" }}>
            <title>{`${z.name}: ${z.verdict}`}</title>
            <rect x={x - 24} y={y - 24} width={48} height={48} fill="transparent" />
            {judged && <Swatch swatch={z.swatch} width={size} height={size} x={x - size / 2} y={y - size / 2} />}
            <rect
              x={x - size / 2}
              y={y - size / 2}
              width={size}
              height={size}
              rx={2}
              fill={judged ? "none" : "var(--paper)"}
              stroke={at === k ? "var(--brass)" : "var(--ink)"}
              strokeWidth={at === k ? 3 : 1.2}
              strokeDasharray={judged ? "" : "3 3"}
            />
            <text
              className="svg-number halo"
              x={x}
              y={below ? y + size / 2 + 15 : y - size / 2 - 6}
              textAnchor="middle"
              style={{ fill: z.known ? colour : "var(--graphite)", fontSize: 12 }}
            >
              {z.known ? `${signed(z.error_mm)}${judged ? "" : " ?"}` : "?"}
            </text>
          </g>
        );
      })}
    </g>
  );
}

function PrintSlip({
  view,
  zones,
  setZones,
  start,
  busy,
}: {
  view: View;
  zones: Zones;
  setZones: (z: Zones) => void;
  start: () => void;
  busy: boolean;
}) {
  const again = view.step === "print_again";
  return (
    <>
      <Eyebrow left={again ? "Something was changed since" : "Proof 1"} right={`${view.minutes.toFixed(0)} min`} />
      <h2 className="text-2xl leading-tight font-semibold">{again ? "Print the proof again." : "Print the proof."}</h2>
      <p>
        {view.zones.length} patches of {view.patch_mm.toFixed(0)} mm, line {view.plan.line_mm.toFixed(2)}, layer{" "}
        {view.plan.layer_mm.toFixed(2)} mm; {(view.filament_mm / 1000).toFixed(2)} m of filament. Heats, homes,{" "}
        {view.head.stations[2]?.state === "done" ? "switches the mesh on, " : ""}primes, lays a skirt first.
      </p>
      {!again && (
        <Choice
          label="Zones"
          value={String(zones) as "5" | "9" | "mesh"}
          onChange={(v) => setZones(v === "mesh" ? v : v === "9" ? 9 : 5)}
          options={[
            { value: "5", text: "five: corners and centre" },
            { value: "9", text: "nine" },
            ...(view.head.stations[2]?.state === "done"
              ? [{ value: "mesh" as const, text: "at points of the mesh" }]
              : []),
          ]}
        />
      )}
      {view.head.readback_due && (
        <Panel tone="brass">
          <p className="text-sm">The new Z offset is not read back yet. Do that at Z offset before printing.</p>
        </Panel>
      )}
      <a
        className="flex min-h-11 items-center justify-center rounded-[4px] border border-ink px-3 font-semibold"
        href={`/api/runs/${view.head.id}/proof.gcode?zones=${zones}`}
        download
      >
        Download the program
      </a>
      <Button look="main" keyHint="Enter" disabled={busy} onClick={start}>
        It is printed, judge it
      </Button>
    </>
  );
}
