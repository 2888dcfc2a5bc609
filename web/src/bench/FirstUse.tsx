/** An empty workshop: a few questions on the sheet itself, and the first run can begin. */

import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { v4 as uuid } from "uuid";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { BringSetup } from "../setup/BringSetup";
import { Button, Choice, Field, Wrong } from "../ui/controls";
import { typedNumber } from "../ui/words";

type Convention = NonNullable<Schemas["FirstMachine"]["convention"]>;
const UNKNOWN = "unknown" as const;
const COUNTS: readonly { value: Convention | typeof UNKNOWN; text: string }[] = [
  { value: UNKNOWN, text: "I do not know" },
  { value: "probe_offset", text: "more negative is closer" },
  { value: "home_offset", text: "more negative is further" },
  { value: "stop_position", text: "larger is closer" },
  { value: "live_only", text: "nothing is stored" },
];

const THREADS: readonly { value: "M3" | "M4" | "M5" | typeof UNKNOWN; text: string }[] = [
  { value: UNKNOWN, text: "not known" },
  { value: "M3", text: "M3, 0.5 mm" },
  { value: "M4", text: "M4, 0.7 mm" },
  { value: "M5", text: "M5, 0.8 mm" },
];

export function FirstUse({ usual }: { usual: readonly Schemas["KnobPlaces"][] }) {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [shape, setShape] = useState<"rectangle" | "round">("rectangle");
  const [width, setWidth] = useState("220");
  const [depth, setDepth] = useState("220");
  const [knobs, setKnobs] = useState<"4" | "3" | "0">("4");
  const [thread, setThread] = useState<"M3" | "M4" | "M5" | typeof UNKNOWN>(UNKNOWN);
  const [probe, setProbe] = useState<"none" | "touch" | "inductive">("none");
  const [beside, setBeside] = useState("0");
  const [behind, setBehind] = useState("0");
  const [counts, setCounts] = useState<Convention | typeof UNKNOWN>(UNKNOWN);
  const [tried, setTried] = useState(false);
  const make = useMutation<unknown, Refusal, Schemas["FirstMachine"]>({
    mutationFn: (body) => answer(api.POST("/api/setup/first", { body })),
    onSuccess: () => {
      cache.invalidateQueries({ queryKey: ["setup"] });
      return cache.invalidateQueries({ queryKey: ["bench"] });
    },
  });
  const practise = useMutation<unknown, Refusal, void>({
    mutationFn: () => answer(api.POST("/api/setup/practice", {})),
    onSuccess: () => cache.invalidateQueries(),
  });
  const off = (text: string) => {
    const mm = typedNumber(text);
    return mm !== null && Math.abs(mm) <= 100 ? mm : null;
  };
  const offWrong = "Type the distance in mm, −100 to 100.";
  const size = (text: string) => {
    const mm = typedNumber(text);
    return mm !== null && mm >= 50 && mm <= 1000 ? mm : null;
  };
  const [w, d] = [size(width), shape === "round" ? size(width) : size(depth)];
  const sizeWrong = (mm: number | null) => (mm === null ? "Type the size in mm, 50 to 1000." : null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setTried(true);
    const [dx, dy] = [off(beside), off(behind)];
    if (!name.trim() || w === null || d === null || (probe !== "none" && (dx === null || dy === null))) return;
    const count = Number(knobs) as 0 | 3 | 4;
    make.mutate({
      id: `machine-${uuid().slice(0, 8)}`,
      name: name.trim(),
      shape,
      width_mm: w,
      depth_mm: d,
      knobs: count,
      thread: thread === UNKNOWN ? null : thread,
      probe:
        probe === "none"
          ? null
          : {
              kind: probe,
              x_offset_mm: dx ?? 0,
              y_offset_mm: dy ?? 0,
              sd_mm: 0.005,
              heat_sensitive: probe === "inductive",
            },
      convention: counts === UNKNOWN ? null : counts,
    });
  };
  const [pw, pd] = [w ?? 220, d ?? 220];
  const scale = 300 / Math.max(pw, pd);
  const shown = usual.find((u) => u.shape === shape && u.knobs === Number(knobs))?.places ?? [];
  return (
    <main className="grid flex-1 content-start gap-6 py-4 lg:grid-cols-[minmax(0,1fr)_368px]">
      <section className="rounded-[6px] border border-hairline bg-paper p-4">
        <svg
          viewBox="-180 -180 360 360"
          className="mx-auto h-[28dvh] max-h-full w-full lg:h-[60dvh]"
          role="img"
          aria-label="Your plate"
        >
          {shape === "round" ? (
            <circle r={(pw * scale) / 2} fill="none" stroke="var(--ink)" strokeWidth="2" />
          ) : (
            <rect
              x={(-pw * scale) / 2}
              y={(-pd * scale) / 2}
              width={pw * scale}
              height={pd * scale}
              rx={6}
              fill="none"
              stroke="var(--ink)"
              strokeWidth="2"
            />
          )}
          {shown.map(({ across, up }) => (
            <circle
              key={`${across} ${up}`}
              cx={(across - 0.5) * pw * scale}
              cy={-(up - 0.5) * pd * scale}
              r={12}
              fill="var(--paper)"
              stroke="var(--ink)"
            />
          ))}
          <text y={174} textAnchor="middle" className="svg-words">
            {shape === "round" ? `${pw} mm across` : `${pw} x ${pd} mm`}, front at the bottom
          </text>
        </svg>
      </section>
      <form
        onSubmit={submit}
        className="flex flex-col gap-3 rounded-[6px] border border-hairline bg-paper p-4"
        noValidate
      >
        <h2 className="text-2xl leading-tight font-semibold">Which machine stands here?</h2>
        <p className="text-sm text-graphite">
          A few questions, then the first run. A sheet of paper as the gauge and the usual plastics are there to start
          from.
        </p>
        <Field
          label="What you call it"
          value={name}
          onChange={(e) => setName(e.target.value)}
          wrong={tried && !name.trim() ? "Give it a name, as you call it in the workshop." : null}
        />
        <Choice
          label="Its plate is"
          value={shape}
          options={[
            { value: "rectangle", text: "a rectangle" },
            { value: "round", text: "round" },
          ]}
          onChange={setShape}
        />
        <div className="grid grid-cols-2 gap-2">
          <Field
            label={shape === "round" ? "Across" : "Width"}
            unit="mm"
            inputMode="decimal"
            value={width}
            onChange={(e) => setWidth(e.target.value)}
            wrong={tried ? sizeWrong(w) : null}
          />
          {shape === "rectangle" && (
            <Field
              label="Depth"
              unit="mm"
              inputMode="decimal"
              value={depth}
              onChange={(e) => setDepth(e.target.value)}
              wrong={tried ? sizeWrong(d) : null}
            />
          )}
        </div>
        <div className="grid grid-cols-2 gap-2">
          <Choice
            label="Knobs under it"
            value={knobs}
            options={[
              { value: "4", text: "four" },
              { value: "3", text: "three" },
              { value: "0", text: "none" },
            ]}
            onChange={setKnobs}
          />
          {knobs !== "0" && <Choice label="Their thread" value={thread} options={THREADS} onChange={setThread} />}
        </div>
        <Choice
          label="A probe beside the tip"
          value={probe}
          options={[
            { value: "none", text: "none: it is felt by hand" },
            { value: "touch", text: "one that touches the plate" },
            { value: "inductive", text: "one that senses metal" },
          ]}
          onChange={setProbe}
        />
        {probe !== "none" && (
          <div className="grid grid-cols-2 gap-2">
            <Field
              label="To the right of the tip"
              unit="mm"
              inputMode="decimal"
              value={beside}
              onChange={(e) => setBeside(e.target.value)}
              wrong={tried && off(beside) === null ? offWrong : null}
            />
            <Field
              label="Behind the tip"
              unit="mm"
              inputMode="decimal"
              value={behind}
              onChange={(e) => setBehind(e.target.value)}
              wrong={tried && off(behind) === null ? offWrong : null}
            />
          </div>
        )}
        <Choice
          label="The stored height: which way does it count?"
          value={counts}
          options={COUNTS}
          onChange={setCounts}
        />
        {counts === UNKNOWN && (
          <p className="text-sm text-graphite">
            Then nothing is stored: the value goes into the start of each job, until you say which way it counts in the
            set-up.
          </p>
        )}
        <Wrong wrong={make.error} />
        <Button look="main" type="submit" disabled={make.isPending}>
          Put it on the bench
        </Button>
        <div className="flex flex-col gap-2 border-t border-hairline pt-3">
          <Button onClick={() => practise.mutate()} disabled={practise.isPending}>
            Try it on practice machines first
          </Button>
          <Wrong wrong={practise.error} />
          <BringSetup />
          <p className="text-sm text-graphite">
            More knobs, keep-outs and the rest are in the{" "}
            <Link to="/setup?shelf=machines&id=new" className="underline underline-offset-4">
              set-up
            </Link>
            .
          </p>
        </div>
      </form>
    </main>
  );
}
