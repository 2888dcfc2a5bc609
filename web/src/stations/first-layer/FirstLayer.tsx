/** First layer: the proof to print, a grade per zone, and the best next step with its reason. */

import { useEffect, useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import type { Zones } from "../../api/run";
import { useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Section, type Side, sectionScale } from "../../sheet/Swatch";
import { Button, Panel } from "../../ui/controls";
import { signed } from "../../ui/words";
import { Causes } from "./Causes";
import { Feed } from "./Feed";
import { Judge, Verdicts } from "./Judge";
import { holding, LadderSlip, middleStep } from "./LadderSlip";
import { LiveChange } from "./LiveChange";
import { LookFirst, lookKeys } from "./LookFirst";
import { MeasurePatches } from "./MeasurePatches";
import { doStep, NextStep, PART_WORDS, shared } from "./NextStep";
import { OtherProof } from "./OtherProof";
import { alone, PrintSlip } from "./PrintSlip";
import { mmOf, NOTHING_TOLD, type Told, wasJudged, wrongMeasures } from "./told";
import { ZonesLayer } from "./ZonesLayer";

/** What is to be said once nothing more is asked of the newest proof. */
function judgedHeading(view: Schemas["FirstLayerView"]) {
  if (view.unseen) return "Enough is known.";
  if (view.left) return "No move betters it.";
  if (view.step === "done") return "Every zone is sound.";
  if (!view.zones.some(wasJudged)) return "Nothing of it was judged.";
  if (view.plan.kind !== "ladder") return "All zones judged.";
  return view.steps[0]?.action.kind === "ladder" ? "The height is not known yet." : "The ladder is read.";
}

export function FirstLayer() {
  const runId = useRunId();
  const [zones, setZones] = useState<Zones>("advised");
  const { data: view, error } = useStation(runId, "first_layer", zones);
  const acts = useActs(runId, "first_layer", view?.head.seq ?? 0, zones);
  const [from, flip] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [chosen, setChosen] = useState<number | null>(null);
  const [told, setTold] = useState<Told>(NOTHING_TOLD);
  const [only, setOnly] = useState<readonly number[]>([]);
  const [instead, setInstead] = useState<Zones | null>(null);
  const [other, setOther] = useState<{ seq: number; kind: string } | null>(null);
  const [side, setSide] = useState<Side>("top");
  const [stepwise, setStepwise] = useState(false);
  const turnOver = () => setSide(side === "top" ? "under" : "top");
  const next = view?.next_zone ?? null;
  const proofs = view?.proof_number;
  // The next zone comes up by itself once one is judged.
  useEffect(() => {
    setChosen(null);
    setTold(NOTHING_TOLD);
    setInstead(null);
  }, [next, proofs, view?.step]);
  // What was told belongs to one zone.
  useEffect(() => setTold(NOTHING_TOLD), [chosen]);
  const laid = view?.plan.zones;
  const places = useMemo(() => (laid ?? []).map((z) => [z.x_mm, z.y_mm] as const), [laid]);
  if (!view) return <Waiting wrong={error} />;
  const { keep, busy } = acts;
  const deciding = view.step === "decide" || view.step === "done";
  // Of a ladder it is asked first where it began to hold.
  const ladder =
    view.step === "judge" && view.plan.kind === "ladder" && !stepwise && view.zones.every((z) => !wasJudged(z));
  const at = chosen ?? (ladder ? middleStep(view) : next) ?? (view.plan.kind === "ladder" ? view.printed - 1 : 0);
  const judging = !ladder && (view.step === "judge" || (deciding && chosen !== null));
  const wrong = wrongMeasures(told);
  // Said once, that it is odd: the same number again is meant.
  const odd = acts.refused?.problem.code === "caliper_doubtful" ? acts.refused.what : null;
  const judge = (grade: Schemas["GradeCard"]["grade"] | null) => {
    if (wrong.caliper || wrong.short || wrong.foot) return;
    const measured = { caliper_mm: mmOf(told.caliper), short_mm: mmOf(told.short), foot_mm: mmOf(told.foot) };
    const sure = odd?.kind === "judged" && odd.zone === at && odd.caliper_mm === measured.caliper_mm;
    keep({ kind: "judged", zone: at, grade, greasy: false, signs: [...told.signs], sure, ...measured });
    setChosen(null);
  };
  const grade = (key: number) => {
    const card = view.cards.find((c) => c.key === key);
    if (card) judge(card.grade);
  };
  const toldMore = told.signs.length > 0 || [told.caliper, told.short, told.foot].some((t) => t.trim());
  const toggle = (sign: Told["signs"][number]) =>
    setTold({
      ...told,
      signs: told.signs.includes(sign) ? told.signs.filter((s) => s !== sign) : [...told.signs, sign],
    });
  const readLadder = (first: number | null, grade: Schemas["GradeCard"]["grade"] | null) =>
    keep({ kind: "ladder_read", first, grade });
  const skip = () => {
    keep({ kind: "zone_skipped", zone: at });
    setChosen(null);
  };
  const start = () => keep({ kind: "proof_started", proof: alone(view.plan, only) });
  const move = (key: string) => {
    const here = view.zones[at];
    if (!here) return;
    // Nothing is taken for chosen before a key was pressed.
    if (ladder && chosen === null) return setChosen(at);
    const d = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[key] ?? [0, 0];
    const [dx = 0, dy = 0] = d;
    const ahead = view.zones
      .slice(0, view.printed)
      .map((z, k) => {
        const [x, y] = [z.x_mm - here.x_mm, z.y_mm - here.y_mm];
        return { k, along: x * dx + y * dy, aside: Math.abs(x * dy - y * dx) };
      })
      .filter((z) => z.along > 1)
      .sort((p, q) => p.along + 2 * p.aside - (q.along + 2 * q.aside));
    if (ahead[0]) setChosen(ahead[0].k);
  };
  // Another step may be chosen than the best one, until something is kept.
  const best = view.steps.find((s) => other?.seq === view.seq && s.action.kind === other.kind) ?? view.steps[0];
  const following = view.steps[(view.steps.findIndex((s) => s === best) + 1) % Math.max(view.steps.length, 1)];
  const chooseStep = (step: Schemas["NextStep"] | undefined) =>
    step && setOther({ seq: view.seq, kind: step.action.kind });
  const doBest = () => best && doStep(best, keep, (to) => navigate(`/runs/${runId}/${to}`));
  // Measuring has a form of its own here; nothing else is pressed for it.
  const byForm = best && (best.action.kind === "caliper" || best.action.kind === "feed");
  const keys: Key[] = [];
  if (ladder || judging) keys.push({ keys: ["u", "U"], cap: "U", does: "turn it over", run: turnOver });
  if (judging) {
    keys.push({
      keys: view.signs.flatMap((s) => [s.key, s.key.toUpperCase()]),
      cap: "letters",
      does: "signs",
      run: (k) => {
        const sign = view.signs.find((s) => s.key === k.toLowerCase());
        if (sign) toggle(sign.id);
      },
    });
    keys.push({ keys: ["x", "X"], cap: "X", does: "not judged", run: skip });
    if (toldMore)
      keys.push({ keys: ["Enter"], cap: "Enter", does: "keep this", run: () => judge(view.zones[at]?.grade ?? null) });
  }
  if (ladder)
    keys.push({
      keys: holding(view).map((card) => String(card.key)),
      cap: "4–7",
      does: "look",
      run: (k) => {
        const card = view.cards.find((c) => c.key === Number(k));
        if (card && chosen !== null) readLadder(chosen, card.grade);
      },
    });
  if (judging)
    keys.push({ keys: ["1", "2", "3", "4", "5", "6", "7"], cap: "1–7", does: "look", run: (k) => grade(Number(k)) });
  if (view.step !== "print")
    keys.push({
      keys: ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"],
      cap: "arrows",
      does: ladder ? "step" : "zone",
      run: move,
    });
  if (view.step === "print" || view.step === "print_again")
    keys.push({ keys: ["Enter"], cap: "Enter", does: "printed", run: start });
  if (deciding && chosen === null && !byForm)
    keys.push({ keys: ["Enter"], cap: "Enter", does: "do this step", run: doBest });
  if (deciding && !view.unseen && view.steps.length > 1)
    keys.push({ keys: ["o", "O"], cap: "O", does: "another step", run: () => chooseStep(following) });
  if (!judging) keys.push(...lookKeys(view.look, keep));
  keys.push({ keys: ["v", "V"], cap: "V", does: from === "above" ? "seen from below" : "seen from above", run: flip });
  const saving = view.steps.slice(1).find((s) => s.action.kind === "caliper")?.action;
  const measurable = best && saving && saving.total_minutes < best.action.total_minutes - 1 ? saving : null;
  const feed = <Feed view={view} keep={keep} busy={busy} asked={!judging && best?.action.kind === "feed"} />;
  // Before anything is printed it comes first: what is printed by it tells nothing of another feed.
  const feedFirst = view.feed.unknown || (view.step === "print" && view.feed.times !== null);
  const printSlip = (
    <PrintSlip
      view={view}
      offered={view}
      isNext
      zones={zones}
      setZones={(z) => {
        setZones(z);
        setOnly([]);
      }}
      only={only}
      setOnly={setOnly}
      start={start}
      keep={keep}
      busy={busy}
    />
  );
  const zone = view.zones[at];
  // Both beads in section at one scale, below their words.
  const perMm = zone && sectionScale([zone.swatch, view.target_swatch], 24);
  const judgedCount = view.zones.filter(wasJudged).length;
  return (
    <Shell
      station="first_layer"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      zones={instead ?? zones}
      canPractise={
        (view.step !== "done" && view.step !== "decide") || Boolean(view.look) || best?.action.kind === "feed"
      }
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
            zone &&
            !ladder && (
              <>
                <text className="svg-words" x={0} y={8}>
                  in section, {zone.name}
                </text>
                <Section
                  swatch={zone.swatch}
                  x={0}
                  y={36}
                  label={zone.known ? "as it is" : "not known yet"}
                  unknown={!zone.known}
                  perMm={perMm}
                />
                <Section swatch={view.target_swatch} x={210} y={36} label="as wanted" perMm={perMm} />
              </>
            )
          }
        >
          {(frame) => (
            <ZonesLayer
              view={view}
              frame={frame}
              at={judging || (ladder && chosen !== null) ? at : null}
              only={only}
              pick={(k) => k < view.printed && setChosen(k)}
            />
          )}
        </Sheet>
      }
      slip={
        <>
          {ladder ? (
            <LadderSlip
              view={view}
              chosen={chosen}
              choose={setChosen}
              read={readLadder}
              stepwise={() => {
                setStepwise(true);
                // What is asked then stands where the page begins, on a phone above what was tapped.
                window.scrollTo(0, 0);
              }}
              side={side}
              turnOver={turnOver}
              busy={busy}
            />
          ) : judging && zone ? (
            <Judge
              view={view}
              zone={zone}
              number={at + 1}
              grade={grade}
              busy={busy}
              told={told}
              tell={setTold}
              toggle={toggle}
              wrong={wrong}
              keepTold={toldMore ? () => judge(zone.grade) : null}
              side={side}
              turnOver={turnOver}
              greasy={() => keep({ kind: "judged", zone: at, grade: "loose", greasy: true, signs: [], sure: false })}
              skip={skip}
              ended={(laid) => keep({ kind: "proof_ended", outcome: "cancelled", zones: laid })}
            />
          ) : view.step === "print" || view.step === "print_again" ? (
            <>
              {feedFirst && feed}
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
              {printSlip}
            </>
          ) : (
            <h2 className="text-2xl leading-tight font-semibold">{judgedHeading(view)}</h2>
          )}
          {!judging && view.look && <LookFirst look={view.look} keep={keep} busy={busy} />}
          {view.steps.length > 0 && best && (
            <NextStep
              runId={runId}
              step={best}
              from={from}
              isBest={best === view.steps[0]}
              others={view.unseen ? [] : view.steps.filter((s) => s !== best)}
              choose={chooseStep}
              act={deciding && !byForm ? doBest : null}
              busy={busy}
              rule={view.head.convention.rule}
              soFar={view.step === "judge"}
            />
          )}
          {!judging && view.whole_plate && <p className="text-sm text-graphite">{view.whole_plate}</p>}
          {!judging && best?.action.kind === "caliper" && (
            <MeasurePatches view={view} zones={best.action.measure} keep={keep} busy={busy} />
          )}
          {!judging && best?.action.kind === "mesh" && (
            <Button
              look="quiet"
              className="self-start text-sm"
              disabled={busy}
              onClick={() => keep({ kind: "tool_told", tool: "mesh", here: false })}
            >
              no mesh this time
            </Button>
          )}
          {!judging && view.caliper === null && best && measurable && (
            <p className="flex flex-wrap items-center gap-x-4 text-sm">
              A caliper on the patches would save about{" "}
              {(best.action.total_minutes - measurable.total_minutes).toFixed(0)} minutes.
              <Button
                look="quiet"
                disabled={busy}
                onClick={() => keep({ kind: "tool_told", tool: "caliper", here: true })}
              >
                there is one
              </Button>
              <Button
                look="quiet"
                disabled={busy}
                onClick={() => keep({ kind: "tool_told", tool: "caliper", here: false })}
              >
                there is none
              </Button>
            </p>
          )}
          {view.unseen && (
            <details>
              <summary className="min-h-11 cursor-pointer py-2 text-sm text-graphite underline underline-offset-4">
                print once more, to see it
              </summary>
              {printSlip}
            </details>
          )}
          {deciding && !judging && !view.unseen && (
            <OtherProof view={view} chosen={instead} choose={setInstead} keep={keep} busy={busy} />
          )}
          {!feedFirst && feed}
          {!judging && view.beside && (
            <Panel tone="brass">
              <p className="text-sm font-medium">Side by side</p>
              <p className="text-sm">{view.beside}</p>
            </Panel>
          )}
          {!judging && view.stuck && (
            <Panel tone="brass">
              <p className="text-sm font-medium">It would not come off</p>
              <p className="text-sm">{view.stuck}</p>
            </Panel>
          )}
          {!judging && <Causes view={view} keep={keep} busy={busy} />}
          <LiveChange view={view} keep={keep} busy={busy} />
          {!judging && judgedCount > 0 && <Verdicts view={view} />}
          {!judging && (
            <p className="flex flex-wrap gap-x-5 text-sm">
              <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/recipe`}>
                settings that forgive more
              </Link>
              <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/placing`}>
                where on this plate
              </Link>
              <Link
                className="flex min-h-11 items-center underline underline-offset-4"
                to={`/machines/${view.head.machine.id}/job`}
              >
                check a job
              </Link>
            </p>
          )}
        </>
      }
    />
  );
}
