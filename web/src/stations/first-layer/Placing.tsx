/** Where parts hold best on this plate: their footprint in, places and turns out, on the sheet. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import { useRunId } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Tick } from "../../setup/fields";
import type { Frame } from "../../sheet/frame";
import { Sheet } from "../../sheet/Sheet";
import { Button, Field, Wrong } from "../../ui/controls";
import { typedNumber } from "../../ui/words";

type View = Schemas["PlacingView"];

export function Placing() {
  const runId = useRunId();
  const [asked, setAsked] = useState({ width_mm: 60, depth_mm: 40, count: 1, height_mm: 20, enclosed: false });
  const [texts, setTexts] = useState({ width: "60", depth: "40", count: "1", height: "20" });
  const [enclosed, setEnclosed] = useState(false);
  const { data: view, error } = useQuery<View, Refusal>({
    queryKey: ["run", runId, "placing", asked],
    queryFn: () =>
      answer(
        api.GET("/api/runs/{run_id}/placing", { params: { path: { run_id: runId }, query: asked } }),
      ) as unknown as Promise<View>,
    placeholderData: keepPreviousData,
    retry: 0,
  });
  const side = (text: string) => {
    const mm = typedNumber(text);
    return mm !== null && mm > 0 && mm <= 1000 ? null : "Give mm, more than 0 and at most 1000.";
  };
  const many = typedNumber(texts.count);
  const wrong = {
    width: side(texts.width),
    depth: side(texts.depth),
    height: side(texts.height),
    count: many !== null && Number.isInteger(many) && many >= 1 && many <= 36 ? null : "Give 1 to 36 parts.",
  };
  if (!view) return <Waiting wrong={error} />;
  const found = view.placing;
  return (
    <main className="mx-auto grid w-full max-w-6xl gap-4 p-4 lg:grid-cols-[1fr_22rem]">
      <Sheet sheet={view.sheet} from="above" title="Where parts hold">
        {(frame) => <Chances view={view} frame={frame} />}
      </Sheet>
      <section className="flex flex-col gap-3">
        <h1 className="text-2xl font-semibold">Where on this plate</h1>
        <form
          className="flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (Object.values(wrong).some(Boolean)) return;
            setAsked({
              width_mm: typedNumber(texts.width) ?? 1,
              depth_mm: typedNumber(texts.depth) ?? 1,
              count: many ?? 1,
              height_mm: typedNumber(texts.height) ?? 1,
              enclosed,
            });
          }}
        >
          <div className="grid grid-cols-2 gap-2">
            <Field
              label="Footprint, one side"
              unit="mm"
              inputMode="decimal"
              value={texts.width}
              onChange={(e) => setTexts({ ...texts, width: e.target.value })}
              wrong={wrong.width}
            />
            <Field
              label="the other"
              unit="mm"
              inputMode="decimal"
              value={texts.depth}
              onChange={(e) => setTexts({ ...texts, depth: e.target.value })}
              wrong={wrong.depth}
            />
          </div>
          <div className="grid grid-cols-2 gap-2">
            <Field
              label="Its height"
              unit="mm"
              inputMode="decimal"
              value={texts.height}
              onChange={(e) => setTexts({ ...texts, height: e.target.value })}
              wrong={wrong.height}
            />
            <Field
              label="How many"
              inputMode="numeric"
              value={texts.count}
              onChange={(e) => setTexts({ ...texts, count: e.target.value })}
              wrong={wrong.count}
            />
          </div>
          <Tick label="in a warm enclosure" on={enclosed} onChange={setEnclosed} />
          <Button type="submit" look="main">
            Find the places
          </Button>
        </form>
        <Wrong wrong={error} />
        {found.places.length > 0 ? (
          <p className="text-lg">
            All of {found.places.length === 1 ? "it" : `them`} sound with{" "}
            <b className="font-mono">{(100 * found.p_all).toFixed(0)} %</b>
          </p>
        ) : (
          <p>There is no room for such a part, even turned.</p>
        )}
        {found.left_over > 0 && found.places.length > 0 && <p>{found.left_over} more found no room.</p>}
        <ol className="text-sm">
          {found.places.map((p, k) => (
            <li key={`${p.x_mm} ${p.y_mm}`} className="border-b border-hairline py-1">
              <b>{k + 1}</b> middle at x {p.x_mm.toFixed(0)}, y {p.y_mm.toFixed(0)}
              {p.turned ? ", turned by a quarter" : ""}:{" "}
              <span className="font-mono">{(100 * p.p_sound).toFixed(0)} %</span>
            </li>
          ))}
        </ol>
        <div className="border-l-2 border-brass pl-3">
          <p>{view.held.words}</p>
          <p className="text-sm text-graphite">
            By rough numbers of the trade, right to a factor of two, on a clean and warm plate. A sharp corner lifts
            sooner.
          </p>
          {view.raft && <p className="mt-1">{view.raft}</p>}
        </div>
        <p className="text-sm text-graphite">
          The darker a place, the likelier it is sound there. {view.words} A first layer that forgives more makes every
          place better:{" "}
          <Link className="underline underline-offset-4" to={`/runs/${runId}/recipe`}>
            settings
          </Link>
          .
        </p>
        <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/first_layer`}>
          Back to First layer
        </Link>
      </section>
    </main>
  );
}

function Chances({ view, frame }: { view: View; frame: Frame }) {
  const { xs_mm: xs, ys_mm: ys, p_sound, places } = view.placing;
  const [dx, dy] = [(xs[1] ?? 1) - (xs[0] ?? 0), (ys[1] ?? 1) - (ys[0] ?? 0)];
  const { width_mm: w, depth_mm: d } = view.footprint;
  const wide = (mm: number) => Math.abs(frame.px(mm) - frame.px(0));
  return (
    <g>
      {p_sound.flatMap((row, j) =>
        row.map((p, i) =>
          p > 0 ? (
            <rect
              key={`${j} ${i}`}
              x={frame.px((xs[i] ?? 0) - dx / 2)}
              y={frame.py((ys[j] ?? 0) + dy / 2)}
              width={wide(dx) + 0.3}
              height={wide(dy) + 0.3}
              fill="var(--verdigris)"
              fillOpacity={0.6 * p * p}
            />
          ) : null,
        ),
      )}
      {places.map((p, k) => {
        const [a, b] = p.turned ? [d, w] : [w, d];
        return (
          <g key={`${p.x_mm} ${p.y_mm}`}>
            <rect
              x={frame.px(p.x_mm - a / 2)}
              y={frame.py(p.y_mm + b / 2)}
              width={wide(a)}
              height={wide(b)}
              fill="var(--paper)"
              fillOpacity={0.75}
              stroke="var(--ink)"
              strokeWidth={1.6}
            />
            <text className="svg-number halo" x={frame.px(p.x_mm)} y={frame.py(p.y_mm) + 4} textAnchor="middle">
              {k + 1}: {(100 * p.p_sound).toFixed(0)} %
            </text>
          </g>
        );
      })}
    </g>
  );
}
