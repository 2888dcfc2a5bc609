/** Z offset: the next height to try, the feel there; then the value, the line to send, and reading it back. */

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, type Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { type KeepEntry, useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Eyebrow, Field, Panel, Why } from "../../ui/controls";
import { Lines } from "../../ui/Lines";
import { signed, typedNumber } from "../../ui/words";
import { FEELS, FeelKeys } from "../Feel";
import { ByThickness } from "./ByThickness";
import { FeelCheck, useFeelCheck } from "./FeelCheck";
import { ProbeCheck } from "./ProbeCheck";
import { SecondTip } from "./SecondTip";
import { OwnDisplay, ShowSign } from "./Shown";
import { SoftLimit, WhatIsKnown } from "./StartHere";
import { TipHeat } from "./TipHeat";
import { ZStepsForm } from "./ZStepsForm";

/** What can be done beside the offset itself, one at a time. */
type Beside = "tip" | "second" | "probe" | "feel";

type View = WithHead<Schemas["OffsetView"]>;

export function Offset() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "offset");
  const acts = useActs(runId, "offset", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [again, setAgain] = useState(false);
  const [beside, setBeside] = useState<Beside | null>(null);
  const { data: check } = useFeelCheck(runId, view?.head.seq ?? 0);
  if (!view) return <Waiting wrong={error} />;
  const { keep, busy } = acts;
  const stores = view.head.convention.stores;
  const feel = (k: number) => {
    const f = FEELS[k];
    if (f && view.next_z_mm !== null)
      keep({
        kind: "felt",
        x_mm: view.place_mm[0],
        y_mm: view.place_mm[1],
        z_mm: view.next_z_mm,
        feel: f.feel,
        sure: false,
      });
  };
  const set = () => keep({ kind: "offset_set", stored_mm: view.wanted.new_mm, sure: false });
  const go = () => navigate(`/runs/${runId}/first_layer`);
  // Something beside the offset itself is at hand: its own keys, its own answers.
  const checking = beside === "feel";
  const besides = beside !== null && (!checking || check !== undefined);
  const opener = (it: Beside, open: string, close: string) =>
    (beside ?? it) === it && (
      <Button look="quiet" className="self-start text-sm" onClick={() => setBeside(beside ? null : it)}>
        {beside ? close : open}
      </Button>
    );
  const feeling = !besides && (view.step === "feel" || (view.step === "done" && again));
  const keys: Key[] = [];
  if (checking && check && check.next_above_mm != null) {
    const above = check.next_above_mm;
    keys.push({
      keys: ["1", "2", "3", "4", "5"],
      cap: "1–5",
      does: "feel",
      run: (k) => {
        const f = FEELS[Number(k) - 1];
        if (f) keep({ kind: "feel_tried", feel_try: { above_mm: above, feel: f.feel } });
      },
    });
  }
  if (feeling)
    keys.push({ keys: ["1", "2", "3", "4", "5"], cap: "1–5", does: "feel", run: (k) => feel(Number(k) - 1) });
  if (view.step === "set" && !besides) keys.push({ keys: ["Enter"], cap: "Enter", does: "set", run: set });
  if (view.step === "read_back" && !stores && !besides)
    keys.push({
      keys: ["Enter"],
      cap: "Enter",
      does: "it is in the start code",
      run: () => keep({ kind: "readback", confirmed: true }),
    });
  if (view.step === "done" && !again && !besides)
    keys.push({ keys: ["Enter"], cap: "Enter", does: "go to First layer", run: go });
  const facts: [string, string][] = [
    ["Convention", view.head.convention.name],
    ["Stored", `${signed(view.stored_mm, 3)} mm`],
    ["Moves so far", String(view.moves_made)],
  ];
  return (
    <Shell
      station="offset"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      facts={facts}
      canPractise={view.step !== "done"}
      sheet={<Sheet sheet={view.sheet} from={from} title="Z offset" />}
      slip={
        <>
          {checking && check && (
            <FeelCheck
              runId={runId}
              seq={view.head.seq}
              check={check}
              practice={view.head.machine.practice}
              keep={keep}
              busy={busy}
            />
          )}
          {feeling && view.next_z_mm !== null && (
            <>
              <Eyebrow left="Centre, gauge under the tip" right={`move ${view.moves_made + (view.stays ? 0 : 1)}`} />
              <h2 className="text-2xl leading-tight font-semibold">
                {view.stays ? "Slide it once more, do not move" : "Lift, then come down to"}
              </h2>
              <p className="font-mono text-5xl font-semibold" data-testid="next-z">
                {signed(view.next_z_mm, view.head.machine.z_step_mm < 0.01 ? 3 : 2)}
                <span className="text-xl font-normal text-graphite"> mm</span>
              </p>
              {view.next_shown_mm !== view.next_z_mm && view.next_shown_mm !== null && (
                <p className="text-sm">
                  The machine's display then shows <b className="font-mono">{signed(view.next_shown_mm, 2)}</b>.
                </p>
              )}
              {view.presses.length > 0 && (
                <p className="font-mono" data-testid="presses">
                  {view.presses.map((p) => `${p.times} × ${p.mm} ${p.up ? "up" : "down"}`).join(", then ")}
                </p>
              )}
              <FeelKeys disabled={busy} onFeel={(f) => feel(FEELS.findIndex((x) => x.feel === f))} />
              {view.look_helps && <ByEye z={view.next_z_mm} keep={keep} busy={busy} />}
              {view.thick_helps && (
                <ByThickness
                  z={view.next_z_mm}
                  sizes={view.thick_sizes}
                  words={view.thick_words}
                  far={view.look_helps}
                  keep={keep}
                  busy={busy}
                  asked={acts.refused?.problem.code === "so_thick"}
                />
              )}
              {view.tip_words && <p className="text-sm text-graphite">{view.tip_words}</p>}
              <SoftLimit limit={view.limit} keep={keep} busy={busy} />
              {view.moves.length === 0 && <WhatIsKnown keep={keep} busy={busy} />}
              {view.moves.length === 0 && <OwnDisplay keep={keep} busy={busy} />}
            </>
          )}
          {!feeling && view.limit.open_mm > 0 && <SoftLimit limit={view.limit} keep={keep} busy={busy} />}
          {!besides && view.step === "set" && (
            <>
              <Eyebrow left="Drag found" right={`±${view.drag_sd_mm.toFixed(3)} mm`} />
              <h2 className="text-3xl leading-tight font-semibold">
                {view.wanted.words === "no change" ? "It is right as stored." : `Bring it ${view.wanted.words}.`}
              </h2>
              <ChangeBox change={view.wanted} rule={view.head.convention.rule} />
              <p className="text-sm text-graphite">
                {view.gauge_words}. {view.gives_way} {view.tip_words} With drag as zero it would be{" "}
                {signed(view.drag_is_zero.new_mm, 3)}.
              </p>
              <Button look="main" keyHint="Enter" disabled={busy} onClick={set}>
                {view.wanted.lines.length ? "Sent, set to" : "Set to"} {signed(view.wanted.new_mm, 3)}
              </Button>
            </>
          )}
          {!besides && view.step === "read_back" && view.last_change && (
            <ReadBack view={view} stores={stores} keep={keep} busy={busy} />
          )}
          {!besides && view.step === "done" && !again && (
            <>
              <Eyebrow left="Z offset" right={stores ? "stored and read back" : "in the start code"} />
              <h2 className="font-mono text-4xl font-semibold">{signed(view.stored_mm, 3)} mm</h2>
              {view.last_change && <p>{view.last_change.words} than before.</p>}
              <Button look="main" keyHint="Enter" onClick={go}>
                Go to First layer
              </Button>
              <Button onClick={() => setAgain(true)}>Feel it again</Button>
            </>
          )}
          {!besides && (feeling || view.step === "done") && (
            <OwnNumber runId={view.head.id} view={view} keep={keep} refused={acts.refused?.problem.code} busy={busy} />
          )}
          {!view.sign.proved && !besides && view.step !== "read_back" && (
            <ShowSign
              sign={view.sign}
              rule={view.head.convention.rule}
              keep={keep}
              busy={busy}
              refused={acts.refused}
            />
          )}
          {beside === "probe" && <ProbeCheck runId={runId} seq={view.head.seq} keep={keep} busy={busy} />}
          {beside === "second" && (
            <SecondTip
              runId={runId}
              seq={view.head.seq}
              keep={keep}
              busy={busy}
              insist={acts.refused?.problem.code === "pads_out_of_order"}
              practice={view.head.machine.practice}
            />
          )}
          {beside === "tip" && <TipHeat runId={runId} seq={view.head.seq} keep={keep} busy={busy} />}
          {opener("tip", "the tip: is it longer when it is hot?", "close the tip's heat")}
          {opener("second", "a second tip beside the first", "close the second tip")}
          {view.head.machine.probe &&
            opener("probe", "the probe: does it repeat, does it sit right?", "close the probe's check")}
          {beside === null && <ZStepsForm runId={runId} />}
          {check &&
            (!check.why_not || checking) &&
            opener("feel", "feel check: how finely do you tell gaps apart?", "back to the Z offset")}
          {view.moves.length > 0 && (
            <ol className="text-sm" aria-label="Moves so far">
              {[...view.moves]
                .map((m, k) => ({ ...m, number: k + 1 }))
                .reverse()
                .slice(0, 5)
                .map((m) => (
                  <li key={m.number} className="flex justify-between py-0.5">
                    <span className="font-mono">{signed(m.z_mm, 3)}</span>
                    <span>{m.feel ?? (m.thick || `looks like ${m.gap_mm} mm`)}</span>
                  </li>
                ))}
            </ol>
          )}
          <Why lines={view.reasons} />
        </>
      }
    />
  );
}

/** Far from the plate the eye is quicker than the gauge. */
function ByEye({ z, keep, busy }: { z: number; keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const gap = typedNumber(text);
  const wrong = text.trim() && !(gap !== null && gap > 0 && gap <= 30) ? "Give the gap in mm, such as 2 or 0.5." : null;
  const seen = (mm: number) => keep({ kind: "gap_seen", z_mm: z, gap_mm: mm }, () => setText(""));
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (gap !== null && !wrong) seen(gap);
      }}
    >
      <p className="text-sm text-graphite">Plainly far off? Tap the gap that looks like it, or type it.</p>
      <div className="grid grid-cols-4 gap-1" role="group" aria-label="Gaps drawn to scale">
        {GAPS_MM.map((mm) => (
          <Button key={mm} disabled={busy} aria-label={`the gap looks about ${mm} mm`} onClick={() => seen(mm)}>
            <span className="flex w-full items-end justify-center gap-1">
              <GapDrawn mm={mm} />
              <span className="font-mono text-sm">{mm}</span>
            </span>
          </Button>
        ))}
      </div>
      <p className="text-sm text-graphite">A fingernail is about 0.4 mm thick, a plastic card 0.8, a coin 2.</p>
      <div className="flex items-end gap-2">
        <Field
          className="flex-1"
          label="The gap looks about"
          unit="mm"
          inputMode="decimal"
          value={text}
          onChange={(e) => setText(e.target.value)}
          wrong={wrong}
        />
        <Button type="submit" disabled={busy || gap === null || Boolean(wrong)}>
          By eye
        </Button>
      </div>
    </form>
  );
}

/** Each about half as much again as the one before: an eye tells no finer. */
const GAPS_MM = [0.4, 0.6, 0.9, 1.4, 2, 3, 4.5, 6] as const;

/** A tip over the plate, drawn so that the gaps compare: 4 px for each mm. */
function GapDrawn({ mm }: { mm: number }) {
  const plate = 36;
  const tip = plate - 4 * mm;
  return (
    <svg viewBox="0 0 20 40" className="h-10 w-5 shrink-0" aria-hidden="true">
      <path d={`M3 ${tip - 10}H17L12 ${tip}H8Z`} fill="none" stroke="var(--ink)" />
      <path d={`M1 ${plate}H19`} stroke="var(--ink)" strokeWidth={2} />
    </svg>
  );
}

function ChangeBox({ change, rule }: { change: Schemas["StoredChange"]; rule: string }) {
  return (
    <Panel>
      <p className="font-mono text-xl font-semibold">
        {signed(change.old_mm, 3)} → {signed(change.new_mm, 3)}
      </p>
      <p className="text-sm">
        {change.words} ({rule})
      </p>
      <Lines className="mt-1 border-t border-hairline pt-1" lines={change.lines} />
    </Panel>
  );
}

function ReadBack({ view, stores, keep, busy }: { view: View; stores: boolean; keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  if (!view.last_change) return null;
  if (!stores) {
    return (
      <>
        <Eyebrow left="This machine stores nothing" right="start code" />
        <h2 className="text-2xl leading-tight font-semibold">
          {view.last_change.lines.length
            ? "Write this line into the job's start code."
            : "Set it anew before each job."}
        </h2>
        <ChangeBox change={view.last_change} rule={view.head.convention.rule} />
        <Button look="main" keyHint="Enter" disabled={busy} onClick={() => keep({ kind: "readback", confirmed: true })}>
          {view.last_change.lines.length ? "It is in the start code" : "It is set"}
        </Button>
      </>
    );
  }
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        const value = typedNumber(text);
        if (value === null) return setWrong("Type the number that the machine reports.");
        setWrong(null);
        keep({ kind: "readback", reported_mm: value, confirmed: false });
      }}
    >
      <Eyebrow left="Stored?" right="read it back" />
      <h2 className="text-2xl leading-tight font-semibold">
        {view.read_line ? "Send the lines, then ask the machine." : "Store it, then look at what the machine shows."}
      </h2>
      <ChangeBox change={view.last_change} rule={view.head.convention.rule} />
      {view.read_line && (
        <p>
          It answers to <code className="font-mono">{view.read_line}</code>. What does it report?
        </p>
      )}
      <Field
        label={view.read_line ? "Reported" : "Its own screen shows"}
        unit="mm"
        inputMode="decimal"
        autoFocus
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Button look="main" type="submit" keyHint="Enter" disabled={busy}>
        Compare
      </Button>
    </form>
  );
}

function OwnNumber({
  runId,
  view,
  keep,
  refused,
  busy,
}: {
  runId: string;
  view: View;
  keep: KeepEntry;
  refused: string | undefined;
  busy: boolean;
}) {
  const [text, setText] = useState("");
  const value = typedNumber(text);
  const usable = value !== null && Math.abs(value) <= 1000;
  const preview = useQuery({
    queryKey: ["offset preview", runId, view.head.seq, value],
    queryFn: () =>
      answer(
        api.POST("/api/runs/{run_id}/offset/preview", {
          params: { path: { run_id: runId } },
          body: { stored_mm: value ?? 0 },
        }),
      ),
    enabled: usable,
  });
  const asks = refused === "closer_than_proven";
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (usable) keep({ kind: "offset_set", stored_mm: value ?? 0, sure: asks });
      }}
    >
      <div className="flex items-end gap-2">
        <Field
          className="flex-1"
          label={`Or a number of your own (${view.head.convention.rule})`}
          unit="mm"
          inputMode="decimal"
          value={text}
          onChange={(e) => setText(e.target.value)}
          wrong={text.trim() && !usable ? `Give a number of mm, such as ${view.wanted.new_mm}.` : null}
        />
        <Button type="submit" disabled={!usable || busy}>
          {asks ? "I am sure" : "Set"}
        </Button>
      </div>
      {usable && preview.data && <p className="text-sm text-graphite">That is {preview.data.words} than now.</p>}
    </form>
  );
}
