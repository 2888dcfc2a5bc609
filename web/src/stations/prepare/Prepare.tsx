/** Prepare: one check after another, what changed, the heat and since when it is held, and how the plate moves as it warms. */

import { useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { type KeepEntry, useActs, useStation } from "../../api/run";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { WhereLine } from "../../app/WhereLine";
import { Sheet } from "../../sheet/Sheet";
import { Button, Choice, Eyebrow, Field, Panel } from "../../ui/controls";
import { clock, typedNumber } from "../../ui/words";
import { Thermal } from "./Thermal";

type View = WithHead<Schemas["PrepareView"]>;

const SCHOOLS = [
  { value: "hot", text: "Hot: at print temperature, held" },
  { value: "warm", text: "Warm: warm but touchable" },
  { value: "cold", text: "Cold: corrected by a thermal study" },
] as const;

export function Prepare() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "prepare");
  const acts = useActs(runId, "prepare", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [turns, setTurns] = useState("3");
  if (!view) return <Waiting wrong={error} />;
  const { keep, note, busy } = acts;
  const open = view.checks.find((c) => !c.outcome);
  const backing = open?.id === "rough_back_off";
  const by = typedNumber(turns);
  const turnsWrong = by === null || by < 0.5 || by > 12 ? "Give 0.5 to 12 turns." : null;
  const done = (outcome: "done" | "skipped") => {
    if (!open) return;
    // The turns backed off are what the travel left is counted from.
    if (backing && outcome === "done") {
      if (by !== null && !turnsWrong) keep({ kind: "backed_off", turns: by });
      return;
    }
    keep({ kind: "check_done", check: open.id, outcome });
  };
  const go = () => navigate(`/runs/${runId}/tram`);
  return (
    <Shell
      station="prepare"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={[
        {
          keys: ["Enter"],
          cap: "Enter",
          does: open ? "checked" : "go to Tram",
          run: () => (open ? done("done") : go()),
        },
        { keys: ["s", "S"], cap: "S", does: "skip this check", run: () => done("skipped") },
      ]}
      sheet={<Sheet sheet={view.sheet} from={from} title="The plate, not measured yet" />}
      slip={
        <>
          <Eyebrow
            left="Before measuring"
            right={`${view.checks.filter((c) => c.outcome).length} of ${view.checks.length}`}
          />
          {open ? (
            <>
              <h2 className="text-2xl leading-tight font-semibold">{open.text}</h2>
              <p className="text-graphite">
                {open.why}
                {open.because && <span className="block text-sm">On this list {open.because}.</span>}
              </p>
              {view.checks.every((c) => !c.outcome) && (
                <p className="text-sm text-graphite">Lay out: {view.tools.join("; ")}.</p>
              )}
              {open.right && (
                <p className="border-l-2 border-verdigris pl-3 text-sm">
                  <b>Right when:</b> {open.right}
                </p>
              )}
              <WhereLine key={open.id} step={open.id} line={open.where} note={note} />
              {backing && (
                <Field
                  label="Turns backed off, each knob"
                  inputMode="decimal"
                  value={turns}
                  onChange={(e) => setTurns(e.target.value)}
                  wrong={turnsWrong}
                />
              )}
              <Button look="main" keyHint="Enter" onClick={() => done("done")} disabled={busy}>
                Checked
              </Button>
              <Button look="quiet" className="self-start" onClick={() => done("skipped")} disabled={busy}>
                skip it, and note that
              </Button>
            </>
          ) : (
            <>
              <h2 className="text-2xl leading-tight font-semibold">
                {view.ready ? "Ready to tram." : "Checks are through."}
              </h2>
              {!view.ready && (
                <p className="text-graphite">
                  Hold the heat for {view.hold_wanted_minutes.toFixed(0)} minutes, or go on as it is.
                </p>
              )}
              <Button look="main" keyHint="Enter" onClick={go}>
                Go to Tram
              </Button>
            </>
          )}
          {view.foretold && (
            <Panel tone="brass">
              <p className="font-semibold">
                {view.foretold_why}: store {view.foretold.new_mm.toFixed(3)} before anything is printed.
              </p>
              <p className="text-sm">
                {view.foretold.words} than {view.foretold.old_mm.toFixed(3)}; set it at Z offset.
              </p>
            </Panel>
          )}
          <Heat view={view} note={note} />
          <Choice
            label="Tram the plate"
            value={view.school}
            options={SCHOOLS}
            onChange={(school) => note({ kind: "school_chosen", school })}
          />
          <Changes view={view} note={note} />
          <Thermal view={view} keep={keep} busy={busy} />
          <ul className="text-sm">
            {view.checks
              .filter((c) => c.outcome)
              .map((c) => (
                <li key={c.id} className="flex justify-between gap-3 py-0.5">
                  <span>{c.text}</span>
                  <span className={c.outcome === "done" ? "text-verdigris" : "text-brass"}>{c.outcome}</span>
                </li>
              ))}
          </ul>
        </>
      }
    />
  );
}

function Heat({ view, note }: { view: View; note: KeepEntry }) {
  const [bed, setBed] = useState<string | null>(null);
  const [tip, setTip] = useState<string | null>(null);
  const bedWrong = heatWrong(bed, 150);
  const tipWrong = heatWrong(tip, 350);
  return (
    <form
      className="grid grid-cols-2 gap-2 border-t border-hairline pt-3"
      onSubmit={(e) => {
        e.preventDefault();
        if (bedWrong || tipWrong) return;
        note({
          kind: "heated",
          sure: false,
          bed_c: typedNumber(bed ?? "") ?? view.bed_target_c,
          nozzle_c: typedNumber(tip ?? "") ?? view.nozzle_target_c,
          held_since: new Date().toISOString(),
        });
      }}
    >
      <Field
        label="Bed"
        unit="°C"
        inputMode="decimal"
        value={bed ?? String(view.bed_target_c)}
        onChange={(e) => setBed(e.target.value)}
        wrong={bedWrong}
      />
      <Field
        label="Tip, below oozing"
        unit="°C"
        inputMode="decimal"
        value={tip ?? String(view.nozzle_target_c)}
        onChange={(e) => setTip(e.target.value)}
        wrong={tipWrong}
      />
      <Button type="submit" className="col-span-2">
        {view.held_since
          ? `Held since ${clock(view.held_since)}, ${Math.max(view.held_minutes ?? 0, 0).toFixed(0)} min. Start over`
          : "At temperature now"}
      </Button>
      <p className="col-span-2 text-sm text-graphite">{view.hold_words}</p>
    </form>
  );
}

/** What changed since the last run: what was found by comparing, and what only a person knows. */
function Changes({ view, note }: { view: View; note: KeepEntry }) {
  const [told, setTold] = useState("");
  return (
    <div className="flex flex-col gap-1">
      {view.changes.map((c) => (
        <p key={c.id} className="text-sm">
          <span className="text-brass">Changed since the last run:</span> {c.text}
          {c.forgets && ", so what this machine had taught is set aside"}.
        </p>
      ))}
      <div className="flex items-end gap-2">
        <div className="flex-1">
          <Choice
            label="Something else was changed"
            value={told}
            onChange={setTold}
            options={[
              { value: "", text: "nothing else" },
              ...view.can_tell.map((c) => ({ value: c.id as string, text: c.text })),
            ]}
          />
        </div>
        <Button disabled={!told} onClick={() => note({ kind: "change_told", change: told }, () => setTold(""))}>
          Note it
        </Button>
      </div>
    </div>
  );
}

function heatWrong(text: string | null, most: number): string | null {
  if (text === null) return null;
  const value = typedNumber(text);
  return value !== null && value >= 0 && value <= most ? null : `Give 0 to ${most} °C.`;
}
