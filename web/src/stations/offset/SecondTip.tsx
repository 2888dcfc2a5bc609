/** A second tip beside the first: gauged, passed over graded pads, turned, until it hangs where it should. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry } from "../../api/run";
import { Button, Choice, Eyebrow, Field, Wrong } from "../../ui/controls";
import { signed, typedNumber } from "../../ui/words";

type View = Schemas["SecondView"];

export function SecondTip({
  runId,
  seq,
  keep,
  busy: keeping,
  insist,
  practice,
}: {
  runId: string;
  seq: number;
  keep: KeepEntry;
  busy: boolean;
  /** The last answer was asked about: the same again is meant. */
  insist: boolean;
  practice: boolean;
}) {
  const cache = useQueryClient();
  const ask = useMutation<View, Refusal>({
    mutationFn: () =>
      answer(
        api.POST("/api/runs/{run_id}/second/practice", {
          params: { path: { run_id: runId } },
          body: { id: uuid(), seen_seq: seq },
        }),
      ) as unknown as Promise<View>,
    onSettled: () => cache.invalidateQueries({ queryKey: ["run", runId] }),
  });
  const {
    data: view,
    error,
    isPlaceholderData: stale,
  } = useQuery<View, Refusal>({
    queryKey: ["run", runId, "second", seq],
    queryFn: () =>
      answer(api.GET("/api/runs/{run_id}/second", { params: { path: { run_id: runId } } })) as unknown as Promise<View>,
    placeholderData: keepPreviousData,
  });
  if (!view) return <Wrong wrong={error} />;
  // While the next step is on its way the last one still stands here: it must not be answered twice.
  const busy = keeping || stale || ask.isPending;
  return (
    <div className="flex flex-col gap-3" aria-busy={busy}>
      <Eyebrow left="Second tip" right={view.p_right == null ? "" : `right with ${Math.round(100 * view.p_right)} %`} />
      {view.begun && <TwoTips view={view} />}
      {view.next && <h2 className="text-xl leading-tight font-semibold">{view.next.words}</h2>}
      {view.why_not && <p className="text-madder">{view.why_not}</p>}
      {!view.begun && <Begin keep={keep} busy={busy} />}
      {view.next?.step === "gauge" && <Gauged keep={keep} busy={busy} />}
      {view.next?.step === "turn" && (
        <Button
          look="main"
          disabled={busy}
          onClick={() => view.next && keep({ kind: "second_turned", turns: view.next.turns })}
        >
          Turned
        </Button>
      )}
      {view.next?.step === "print" && view.next.pads && (
        <>
          <p className="text-sm text-graphite">
            Hand near the stop. Tops from {view.next.pads.tops_mm[0]} to {view.next.pads.tops_mm.at(-1)} mm, low to high
            from left to right.
          </p>
          <a
            className="flex min-h-11 items-center justify-center rounded-[4px] border border-ink px-3 font-semibold"
            href={`/api/runs/${runId}/second/pads.gcode`}
            download
          >
            Download the pads
          </a>
          <Button
            look="main"
            disabled={busy}
            onClick={() => view.next?.pads && keep({ kind: "pads_laid", tops_mm: view.next.pads.tops_mm })}
          >
            They are laid
          </Button>
        </>
      )}
      {view.next?.step === "pass" && <Passed key={seq} view={view} keep={keep} busy={busy} insist={insist} />}
      {practice && view.next && view.next.step !== "done" && (
        <Button disabled={busy} onClick={() => ask.mutate()}>
          Practice: do it for me
        </Button>
      )}
      <Wrong wrong={ask.error} />
      {view.next?.step === "done" && (
        <Button disabled={busy} onClick={() => keep(BEGUN(view.wanted_mm, 0.5, true))}>
          Begin anew
        </Button>
      )}
    </div>
  );
}

const BEGUN = (wanted_mm: number, pitch_mm: number, clockwise_raises: boolean) =>
  ({ kind: "second_begun", wanted_mm, pitch_mm, clockwise_raises }) as const;

/** From the side: the first tip on its zero, the second where it is believed, with what is not known of it. */
function TwoTips({ view }: { view: View }) {
  const [low, high] = view.between_mm ?? [0, 0];
  const most = Math.max(0.1, Math.abs(low), Math.abs(high), Math.abs(view.wanted_mm)) * 1.2;
  const y = (mm: number) => 60 - (mm / most) * 44;
  const tip = (x: number, at: number, dashed = false) => (
    <path
      d={`M${x - 16} ${at - 26}L${x - 5} ${at}H${x + 5}L${x + 16} ${at - 26}`}
      fill={dashed ? "none" : "var(--paper)"}
      stroke="var(--ink)"
      strokeDasharray={dashed ? "3 3" : undefined}
      strokeWidth="1.5"
    />
  );
  return (
    <svg
      viewBox="0 0 300 120"
      className="w-full"
      role="img"
      aria-label={`The second tip hangs ${signed(view.above_mm ?? 0, 2)} mm against the first, between ${signed(low, 2)} and ${signed(high, 2)}; wanted ${signed(view.wanted_mm, 2)}.`}
    >
      <path d="M10 60H290" stroke="var(--graphite)" strokeDasharray="2 4" />
      <rect x={180} y={y(high)} width={70} height={Math.max(y(low) - y(high), 1)} fill="var(--hairline)" />
      <path d={`M170 ${y(view.wanted_mm)}H262`} stroke="var(--verdigris)" strokeWidth="1.5" />
      {tip(80, 60)}
      {tip(215, y(view.above_mm ?? 0))}
      <text className="svg-words" x={80} y={84} textAnchor="middle">
        first
      </text>
      <text className="svg-words halo" x={298} y={y(view.wanted_mm) - 6} textAnchor="end">
        wanted
      </text>
      <text className="svg-number halo" x={215} y={114} textAnchor="middle">
        {signed(view.above_mm ?? 0, 2)} ±{(view.sd_mm ?? 0).toFixed(2)}
      </text>
    </svg>
  );
}

function Begin({ keep, busy }: { keep: KeepEntry; busy: boolean }) {
  const [wanted, setWanted] = useState("0");
  const [pitch, setPitch] = useState("0.5");
  const [way, setWay] = useState<"raises" | "lowers">("raises");
  const above = typedNumber(wanted);
  const thread = typedNumber(pitch);
  const wrong = above === null || above < -1 || above > 5 ? "Give −1 to 5 mm; 0 where both print at one height." : null;
  const threadWrong = thread === null || thread <= 0 || thread > 5 ? "Give mm per turn, such as 0.5." : null;
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (above !== null && !wrong && thread !== null && !threadWrong) keep(BEGUN(above, thread, way === "raises"));
      }}
    >
      <Field
        label="It should hang above the first by"
        unit="mm"
        inputMode="decimal"
        value={wanted}
        onChange={(e) => setWanted(e.target.value)}
        wrong={wrong}
      />
      <Field
        label="Its height screw"
        unit="mm/turn"
        inputMode="decimal"
        value={pitch}
        onChange={(e) => setPitch(e.target.value)}
        wrong={threadWrong}
      />
      <Choice
        label="Clockwise, seen from above,"
        value={way}
        onChange={setWay}
        options={[
          { value: "raises", text: "raises it" },
          { value: "lowers", text: "lowers it" },
        ]}
      />
      <Button look="main" type="submit" disabled={busy}>
        Begin
      </Button>
    </form>
  );
}

function Gauged({ keep, busy }: { keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const above = typedNumber(text);
  const wrong = text.trim() && (above === null || Math.abs(above) > 2.5) ? "Give −2.5 to 2.5 mm." : null;
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (above !== null && !wrong) keep({ kind: "second_gauged", above_mm: above });
      }}
    >
      <Field
        label="The second drags so much lower (−: higher) than the first"
        unit="mm"
        inputMode="decimal"
        autoFocus
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <p className="text-sm text-graphite">
        Step each down to the drag at the same place; z of the first less z of the second. A tip that hangs higher drags
        at a lower z.
      </p>
      <Button look="main" type="submit" disabled={busy || above === null}>
        Keep
      </Button>
    </form>
  );
}

/** One press for each pad that the second tip left a mark on. */
function Passed({ view, keep, busy, insist }: { view: View; keep: KeepEntry; busy: boolean; insist: boolean }) {
  const [touched, setTouched] = useState<readonly number[]>([]);
  const middle = view.fresh.reduce((a, b) => a + b, 0) / view.fresh.length;
  const z = view.next?.pass_z_mm ?? Math.round(100 * (middle - (view.above_mm ?? 0))) / 100;
  return (
    <div className="flex flex-col gap-2 border-t border-hairline pt-2">
      <p>
        Switch to the second tip, bring it to <b className="font-mono">z {signed(z, 2)}</b> and pass over the pads.
        Which did it touch?
      </p>
      <div className="grid grid-cols-3 gap-1">
        {view.fresh.map((top, k) => (
          <Button
            key={top}
            look={touched.includes(k) ? "chosen" : "plain"}
            aria-pressed={touched.includes(k)}
            onClick={() => setTouched(touched.includes(k) ? touched.filter((x) => x !== k) : [...touched, k])}
          >
            {top.toFixed(2)}
          </Button>
        ))}
      </div>
      <Button
        look="main"
        disabled={busy}
        onClick={() =>
          keep({ kind: "second_passed", z_mm: z, touched: view.fresh.map((_, k) => touched.includes(k)), sure: insist })
        }
      >
        {insist ? "It is so, keep it" : touched.length ? `It touched ${touched.length}` : "It touched none"}
      </Button>
    </div>
  );
}
