import type { Schemas } from "../../api/client";
import type { Acts, KeepEntry, WithHead } from "../../api/run";
import { Button, Eyebrow, Panel } from "../../ui/controls";
import { fraction, many, type SeenFrom, signed, turnWords, way } from "../../ui/words";
import { type FEELS, FeelKeys } from "../Feel";
import { BeamSlip } from "./BeamSlip";
import { type Count, CountSlip } from "./Count";
import { ReadSlip } from "./Read";
import { RunsOut, TurnMade } from "./Turned";

type View = WithHead<Schemas["TramView"]>;

interface SlipProps {
  view: View;
  from: SeenFrom;
  count: Count;
  setCount: (c: Count) => void;
  acts: Acts;
  keep: KeepEntry;
  go: () => void;
}

export function keepFeel(view: View, feel: (typeof FEELS)[number]["feel"] | undefined, keep: KeepEntry) {
  const at = view.sheet.spots[0];
  if (feel && at) keep({ kind: "centre_felt", z_mm: view.centre_z_mm, feel, sure: false });
}

export function keepFelt(view: View, feel: (typeof FEELS)[number]["feel"] | undefined, keep: KeepEntry) {
  const at = view.head.machine.screws.find((s) => s.name === view.screw);
  if (feel && at) keep({ kind: "screw_felt", screw: at.name, z_mm: 0, feel, sure: false });
}

export function StepSlip({ view, from, count, setCount, acts, keep, go }: SlipProps) {
  const seen = `seen from ${from}`;
  switch (view.step) {
    case "sense":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right="once per machine" />
          <h2 className="text-2xl leading-tight font-semibold">Which way does this knob work?</h2>
          <p>
            Lift the tip until the gauge slides freely, come down to a light drag. Then turn this knob{" "}
            <b>{turnWords(view.trial_marks ?? 1, view.per_turn ?? 16, from)}</b>, {seen}. The gauge now drags:
          </p>
          <div className="grid grid-cols-3 gap-2">
            {(["tighter", "looser", "same"] as const).map((felt, k) => (
              <Button
                key={felt}
                keyHint={String(k + 1)}
                disabled={acts.busy}
                onClick={() => view.screw && keep({ kind: "sense_tried", screw: view.screw, felt })}
              >
                {felt}
              </Button>
            ))}
          </div>
        </>
      );
    case "count":
      return <CountSlip view={view} from={from} count={count} setCount={setCount} keep={keep} busy={acts.busy} />;
    case "feel":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
          <h2 className="text-3xl leading-tight font-semibold">
            Slide the gauge.
            <br />
            Turn nothing.
          </h2>
          <p className="text-graphite">
            Tip at z 0, as for a count. It should be near the drag here: a feel tells enough, and moves no other corner.
          </p>
          <FeelKeys onFeel={(feel) => keepFelt(view, feel, keep)} disabled={acts.busy} />
        </>
      );
    case "mesh_off":
      return (
        <>
          <h2 className="text-2xl leading-tight font-semibold">Switch the mesh off first.</h2>
          <p>
            The machine follows a mesh: at z 0 the tip goes along the plate it was measured on, and knobs turned to that
            would never level it.
          </p>
          {view.mesh_off_line && <p className="font-mono">{view.mesh_off_line}</p>}
          <Button
            look="main"
            keyHint="Enter"
            disabled={acts.busy}
            onClick={() => keep({ kind: "mesh_used", on: false })}
          >
            It is off
          </Button>
          <p className="text-sm text-graphite">
            Mesh asks afterwards: measure it again, or switch it on where no knob was turned.
          </p>
        </>
      );
    case "beam":
      return <BeamSlip view={view} acts={acts} keep={keep} />;
    case "skirt":
      return (
        <>
          <Eyebrow left={view.screw ?? ""} right={`stop ${view.stop}`} />
          <h2 className="text-2xl leading-tight font-semibold">How does the skirt's line lie beside this screw?</h2>
          <p className="text-graphite">
            A hand near the stop. Turn between two loops, never while the tip is over the knob.
          </p>
          <div className="flex flex-col gap-1.5">
            {view.grades.map((g) => (
              <Button
                key={g.grade}
                disabled={acts.busy}
                className="flex items-center text-left"
                onClick={() => view.screw && keep({ kind: "skirt_seen", screw: view.screw, grade: g.grade })}
              >
                <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{g.key}</kbd>
                <span className="font-semibold">{g.word}</span>
                <span className="ml-auto text-sm text-graphite">{g.look}</span>
              </Button>
            ))}
          </div>
        </>
      );
    case "further": {
      const f = view.further;
      if (!f) return null;
      return (
        <>
          <Eyebrow left={f.screw} right={`stop ${view.stop}`} />
          {f.marks ? (
            <>
              <h2 className="text-3xl leading-tight font-semibold">Now {fraction(f.marks, f.per_turn)} further.</h2>
              <p className="text-xl font-medium">
                {way(f.marks, from)}, {seen}
              </p>
            </>
          ) : (
            <h2 className="text-3xl leading-tight font-semibold">Leave it there.</h2>
          )}
          <Panel>
            <p className="font-semibold text-verdigris">
              spread then {view.spread_after_mm?.toFixed(2)} ± {view.spread_after_sd_mm?.toFixed(2)} mm
              <span className="block">
                within ±{view.tol_mm.toFixed(2)} mm: {(100 * (view.p_after ?? 0)).toFixed(0)} % likely
              </span>
            </p>
            {view.gives_back && <p className="text-sm">{view.gives_back}</p>}
          </Panel>
          <TurnMade
            turn={f}
            says={f.marks ? "Turned, go on" : "Go on"}
            view={view}
            from={from}
            acts={acts}
            keep={keep}
          />
        </>
      );
    }
    case "prove": {
      const f = view.further;
      if (!f) return null;
      return (
        <>
          <Eyebrow left={f.screw} right="once per knob" />
          <h2 className="text-3xl leading-tight font-semibold">
            Now {fraction(f.marks, f.per_turn)}, then read it again.
          </h2>
          <p className="text-xl font-medium">
            {way(f.marks, from)}, {seen}
          </p>
          <p className="text-graphite">
            Lift the tip first; leave the instrument where it is. The turn goes where the plate wants it, as far as is
            known yet. The two readings tell which way this knob works and what the plate passes of it, so that the
            turns to come are right the first time.
          </p>
          <TurnMade turn={f} says="Turned, read again" view={view} from={from} acts={acts} keep={keep} />
          <Button
            look="quiet"
            className="self-start"
            disabled={acts.busy}
            onClick={() => keep({ kind: "turned", screw: f.screw, marks: 0 })}
          >
            leave this knob, go on
          </Button>
        </>
      );
    }
    case "read":
      return <ReadSlip view={view} acts={acts} keep={keep} />;
    case "turn_all":
      return (
        <>
          <Eyebrow left="All knobs" right={`round ${Math.max(view.rounds.length, 1)}`} />
          <h2 className="text-3xl leading-tight font-semibold">Turn each knob once.</h2>
          <ul className="text-lg">
            {view.turns.map((t) => (
              <li key={t.screw} className="flex justify-between border-b border-hairline py-1">
                <span>{t.screw}</span>
                <span className="font-medium">{turnWords(t.marks, t.per_turn, from)}</span>
              </li>
            ))}
          </ul>
          <p className="text-graphite">
            {seen}; spread then about {view.spread_after_mm?.toFixed(2)} mm, within ±{view.tol_mm.toFixed(2)} mm:{" "}
            {(100 * (view.p_after ?? 0)).toFixed(0)} % likely
          </p>
          <RunsOut view={view} from={from} />
          <Button
            look="main"
            keyHint="Enter"
            disabled={acts.busy}
            onClick={() => keep({ kind: "turned_all", marks: view.turns.map((t) => t.marks) })}
          >
            All turned
          </Button>
        </>
      );
    case "centre":
    case "no_knobs":
      return (
        <>
          <Eyebrow left="Centre" right={view.step === "centre" ? "the screws are done" : "no knobs"} />
          <h2 className="text-2xl leading-tight font-semibold">
            {view.step === "centre"
              ? "Within tolerance. Slide the gauge at the centre."
              : "This machine has no knobs. Slide the gauge at the centre."}
          </h2>
          {view.step === "no_knobs" && (
            <p className="text-graphite">What a plate without knobs needs is a mesh; a tilt stays in it.</p>
          )}
          {view.centre_z_mm > 0 && (
            <p className="text-graphite">
              With the tip at z {view.centre_z_mm.toFixed(2)}: lower is not known to be safe here yet.
            </p>
          )}
          <FeelKeys onFeel={(feel) => keepFeel(view, feel, keep)} disabled={acts.busy} />
          <Button look="quiet" className="self-start" onClick={go}>
            skip it, go to Mesh
          </Button>
        </>
      );
    case "beyond_knobs":
      return (
        <>
          <Eyebrow left="Tram" right={many(view.stops.length, "stop")} />
          <h2 className="text-3xl leading-tight font-semibold">The knobs can do no more.</h2>
          <p>
            Spread {view.spread_mm.toFixed(2)} ± {view.spread_sd_mm.toFixed(2)} mm is left, and it is a twist: this
            plate passes only {(100 * (view.passes_twist?.[0] ?? 0)).toFixed(0)} % of one.
          </p>
          <FormWords view={view} />
          <Button look="main" keyHint="Enter" onClick={go}>
            Go to Mesh
          </Button>
        </>
      );
    case "given_up":
      return (
        <>
          <Eyebrow left="Tram" right={many(view.stops.length, "stop")} />
          <h2 className="text-3xl leading-tight font-semibold">Turn nothing more.</h2>
          <Button look="main" keyHint="Enter" disabled={acts.busy} onClick={() => keep({ kind: "begun_anew" })}>
            It is put right: begin anew
          </Button>
          <p className="text-sm text-graphite">
            Every knob is proved again, and nothing that was counted so far counts.
          </p>
        </>
      );
    case "done":
      return (
        <>
          <Eyebrow left="Tram" right={many(view.stops.length, "stop")} />
          <h2 className="text-3xl leading-tight font-semibold">
            {view.head.machine.screws.length ? view.level_words : "Centre noted."}
          </h2>
          <p>
            Spread {view.spread_mm.toFixed(2)} ± {view.spread_sd_mm.toFixed(2)} mm
            {view.head.machine.screws.length
              ? `; ${(100 * view.p_within).toFixed(0)} % likely to be within ±${view.tol_mm.toFixed(2)} mm.`
              : "."}
          </p>
          {view.centre && <p>Centre: {view.centre}.</p>}
          <FormWords view={view} />
          <Button look="main" keyHint="Enter" onClick={go}>
            Go to Mesh
          </Button>
        </>
      );
  }
}

/** A form that no knob reaches, by its name, with what does reach it. */
export function FormWords({ view }: { view: View }) {
  if (!view.form) return null;
  return (
    <div className="border-l-2 border-brass pl-3 text-sm">
      <p>
        Form left: <b>{view.form.name}</b>, {signed(view.form.amount_mm)} ± {view.form.sd_mm.toFixed(2)} mm (
        {view.form.words}). It cannot be better by knobs.
      </p>
      <ul className="list-disc pl-4">
        {view.form.remedies.map((r) => (
          <li key={r}>{r}</li>
        ))}
      </ul>
    </div>
  );
}
