/** What the tram offers beside its steps: a shim plan to cut, a walk for nobody on the line, a skirt to turn beside. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { Acts, WithHead } from "../../api/run";
import { Choice, Field, Wrong } from "../../ui/controls";
import { type SeenFrom, signed, typedNumber } from "../../ui/words";
import { Noted } from "./Noted";

const BUTTON = "min-h-11 rounded-[4px] px-0 text-sm text-graphite underline underline-offset-4 hover:text-ink";
const LINK = "flex min-h-11 items-center rounded-[4px] border border-hairline px-3 hover:border-ink";

interface Props {
  runId: string;
  view: WithHead<Schemas["TramView"]>;
  from: SeenFrom;
  acts: Acts;
}

export function BesideTram({ runId, view, from, acts }: Props) {
  const seq = view.head.seq;
  return (
    <div className="flex flex-wrap gap-x-5 border-t border-hairline">
      <Sheet title="Shim plan" trigger="shim plan">
        {() => <Shim runId={runId} seq={seq} sheet={view.sheet} />}
      </Sheet>
      {view.head.machine.screws.length > 0 && (
        <Sheet title="A walk for nobody on the line" trigger="walk file">
          {(close) => <Walk runId={runId} seq={seq} from={from} acts={acts} close={close} />}
        </Sheet>
      )}
      {view.way === "skirt" && (
        <Sheet title="A skirt to turn the knobs beside" trigger="skirt program">
          {() => <Skirt runId={runId} seq={seq} />}
        </Sheet>
      )}
    </div>
  );
}

function Sheet({
  title,
  trigger,
  children,
}: {
  title: string;
  trigger: string;
  children: (close: () => void) => React.ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className={BUTTON}>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="behind-dialog" />
        <Dialog.Content
          aria-describedby={undefined}
          className="dialog top-1/2 flex max-h-[90dvh] w-[min(680px,94vw)] -translate-y-1/2 flex-col gap-3 p-6"
        >
          <Dialog.Title className="text-xl font-semibold">{title}</Dialog.Title>
          {children(() => setOpen(false))}
          <Dialog.Close className="min-h-11 rounded-[4px] border border-hairline px-3">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Shim({ runId, seq, sheet }: { runId: string; seq: number; sheet: Schemas["Sheet"] }) {
  const [text, setText] = useState("0.1");
  const mm = typedNumber(text);
  const plan = useQuery<Schemas["ShimView"], Refusal>({
    queryKey: ["run", runId, "shim", mm, seq],
    enabled: mm !== null,
    queryFn: async () => {
      const asked = { params: { path: { run_id: runId }, query: { sheet_mm: mm ?? 0 } } };
      // The client's types read pairs back as lists.
      return (await answer(api.GET("/api/runs/{run_id}/shim", asked))) as Schemas["ShimView"];
    },
  });
  const [x0, y0, x1, y1] = sheet.bounds_mm;
  return (
    <>
      <Field
        label="One sheet is, measured on a folded stack"
        unit="mm"
        inputMode="decimal"
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={mm === null ? "Give the thickness of one sheet in mm, such as 0.1." : null}
      />
      <Wrong wrong={plan.error} />
      {plan.data && (
        <>
          <p className="font-semibold">{plan.data.plan.sentence}</p>
          <svg
            viewBox={`${x0 - 4} ${-y1 - 4} ${x1 - x0 + 8} ${y1 - y0 + 8}`}
            className="max-h-72 w-full"
            role="img"
            aria-label={`Shim plan, ${plan.data.plan.layers.length} layers`}
          >
            {sheet.shape === "round" ? (
              <circle r={(x1 - x0) / 2} fill="none" stroke="var(--ink)" />
            ) : (
              <rect x={x0} y={-y1} width={x1 - x0} height={y1 - y0} fill="none" stroke="var(--ink)" />
            )}
            {plan.data.plan.layers.map((layer) => (
              <path
                key={layer.number}
                d={layer.outlines.map((o) => `M${o.points_mm.map(([x, y]) => `${x} ${-y}`).join("L")}Z`).join("")}
                fill="var(--brass)"
                fillOpacity={0.22}
                fillRule="evenodd"
                stroke="var(--brass)"
              />
            ))}
          </svg>
          <p className="border-l-2 border-brass pl-3 text-sm">{plan.data.caution}</p>
          <div className="flex gap-3">
            <a className={LINK} href={`/api/runs/${runId}/shim.svg?sheet_mm=${mm}`}>
              1:1 as SVG
            </a>
            <a className={LINK} href={`/api/runs/${runId}/shim.pdf?sheet_mm=${mm}`}>
              1:1 as PDF
            </a>
          </div>
        </>
      )}
    </>
  );
}

function Skirt({ runId, seq }: { runId: string; seq: number }) {
  const skirt = useQuery<Schemas["SkirtView"], Refusal>({
    queryKey: ["run", runId, "skirt", seq],
    queryFn: () => answer(api.GET("/api/runs/{run_id}/skirt", { params: { path: { run_id: runId } } })),
  });
  return (
    <>
      <p className="text-graphite">
        A program that heats, homes, switches the mesh off and lays loops round the plate, past every outer screw. The
        first loop primes and is not graded, nor is what is laid within a second of a turn.
      </p>
      <Wrong wrong={skirt.error} />
      {skirt.data && (
        <>
          <p>
            {skirt.data.loops} loops in {skirt.data.minutes.toFixed(0)} min,{" "}
            {(skirt.data.filament_mm / 1000).toFixed(2)} m of filament, heating not counted. It ends lifted and stays
            warm.
          </p>
          <p className="border-l-2 border-brass pl-3 text-sm">
            Hot tip, moving axes: a hand near the stop. Turn a knob only while the tip is elsewhere, from outside the
            machine's reach.
          </p>
          <a className={LINK} href={`/api/runs/${runId}/skirt.gcode`}>
            Save the file
          </a>
        </>
      )}
    </>
  );
}

type Way = "ring" | "diagonal" | "pairs";

interface WalkProps {
  runId: string;
  seq: number;
  from: SeenFrom;
  acts: Acts;
  close: () => void;
}

function Walk({ runId, seq, from, acts, close }: WalkProps) {
  const [rounds, setRounds] = useState("2");
  const [way, setWay] = useState<Way>("ring");
  const [after, setAfter] = useState<"counts" | "proof">("counts");
  const print_after = after === "proof";
  const walk = useQuery<Schemas["Walk"], Refusal>({
    queryKey: ["run", runId, "walk", rounds, way, after, seq],
    queryFn: () =>
      // The client's types read pairs back as lists.
      answer(
        api.GET("/api/runs/{run_id}/walk", {
          params: { path: { run_id: runId }, query: { rounds: Number(rounds), way, print_after } },
        }),
      ) as unknown as Promise<Schemas["Walk"]>,
    // What is typed below stays while its rows are kept one by one.
    placeholderData: keepPreviousData,
  });
  return (
    <>
      <p className="text-graphite">
        A file that heats, homes, visits every screw and the centre, and waits at each for you to turn until it drags.
        Note the marks, then type them in below.
      </p>
      <div className="grid grid-cols-2 gap-2">
        <Choice
          label="Rounds"
          value={rounds}
          onChange={setRounds}
          options={["1", "2", "3", "4", "5", "6"].map((n) => ({ value: n, text: n }))}
        />
        <Choice
          label="Order"
          value={way}
          onChange={setWay}
          options={[
            { value: "ring", text: "round the ring" },
            { value: "diagonal", text: "across the diagonal" },
            { value: "pairs", text: "in pairs" },
          ]}
        />
      </div>
      <Choice
        label="After the last visit"
        value={after}
        onChange={setAfter}
        options={[
          { value: "counts", text: "it ends, lifted" },
          { value: "proof", text: "it goes on and prints patches in five zones" },
        ]}
      />
      <Wrong wrong={walk.error} />
      {walk.data && (
        <>
          <p>
            {walk.data.visits.length} visits; it calls by {walk.data.calls.join(", ")}.{" "}
            {walk.data.sink_turns > 0 &&
              `Where the plate stands is not known yet: it first asks to turn every knob ${walk.data.sink_turns} turns so that the plate sinks.`}
          </p>
          {walk.data.then_proof && (
            <p>
              Then it sets {signed(walk.data.then_proof.stored.new_mm, 3)}, {walk.data.then_proof.stored.words}: by the
              gauge that the screws were brought to. It is not stored. Five patches follow,{" "}
              {walk.data.then_proof.minutes.toFixed(0)} min and heating.
            </p>
          )}
          <p className="border-l-2 border-brass pl-3 text-sm">
            Stay beside it: hot tip, moving axes, a hand near the stop.
          </p>
          <a
            className={LINK}
            href={`/api/runs/${runId}/walk.gcode?rounds=${rounds}&way=${way}&print_after=${print_after}`}
          >
            Save the file
          </a>
          <Noted key={`${rounds} ${way} ${after}`} walk={walk.data} from={from} acts={acts} close={close} />
        </>
      )}
    </>
  );
}
