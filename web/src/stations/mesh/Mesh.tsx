/** Mesh: point by point in mm, or a pasted grid; looked at on the sheet before it is kept. */

import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { type KeepEntry, useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Choice, Eyebrow, Field, FileField, Panel, Wrong } from "../../ui/controls";
import { signed, typedMm } from "../../ui/words";

type Owner = "hand" | "probe";
const OWNERS = [
  { value: "hand", text: "felt: owns the zero" },
  { value: "probe", text: "probed: shape only" },
] as const;

export function MeshStation() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "mesh");
  const acts = useActs(runId, "mesh", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [preview, setPreview] = useState<Schemas["Shown"] | null>(null);
  const [again, setAgain] = useState(false);
  if (!view) return <Waiting wrong={error} />;
  const { keep, busy } = acts;
  const go = () => navigate(`/runs/${runId}/offset`);
  const keepSurvey = (survey: Schemas["MeshSurvey"]) => {
    keep({ kind: "mesh_kept", survey }, () => {
      setPreview(null);
      setAgain(false);
    });
  };
  const choosing = view.step === "choose" || (view.step === "kept" && again);
  const keys: Key[] = [];
  if (view.step === "keep" && view.draft) {
    const draft = view.draft;
    keys.push({ keys: ["Enter"], cap: "Enter", does: "keep this mesh", run: () => keepSurvey(draft) });
  }
  if (view.step === "kept" && !again) keys.push({ keys: ["Enter"], cap: "Enter", does: "go to Z offset", run: go });
  const sheet = preview ? { ...view.sheet, spots: preview.spots } : view.sheet;
  return (
    <Shell
      station="mesh"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      canPractise={view.step === "read" || view.step === "keep"}
      facts={[
        ["Range", view.shown ? `${view.shown.fit.range_mm.toFixed(2)} mm` : "–"],
        ["Mesh", view.mesh_on ? "in use" : "off"],
        ["Constant", view.owns_zero === null ? "–" : view.owns_zero ? "in the mesh" : "in the offset"],
      ]}
      sheet={<Sheet sheet={sheet} from={from} title="Mesh" />}
      slip={
        <>
          {preview ? (
            <>
              <Eyebrow
                left="Looked at, not kept yet"
                right={`${preview.survey.grid.xs_mm.length} x ${preview.survey.grid.ys_mm.length}`}
              />
              <h2 className="text-2xl leading-tight font-semibold">Is this the plate, seen from above?</h2>
              <p>{preview.words}</p>
              <Button look="main" disabled={busy} onClick={() => keepSurvey(preview.survey)}>
                Keep this mesh
              </Button>
              <Button onClick={() => setPreview(null)}>Back to the numbers</Button>
            </>
          ) : view.step === "read" ? (
            <ReadPoint view={view} keep={keep} busy={busy} />
          ) : view.step === "keep" && view.draft && view.shown ? (
            <>
              <Eyebrow left="All points read" right="not kept yet" />
              <h2 className="text-2xl leading-tight font-semibold">Keep this mesh?</h2>
              <p>{view.shown.words}</p>
              <Button look="main" keyHint="Enter" disabled={busy} onClick={() => view.draft && keepSurvey(view.draft)}>
                Keep this mesh
              </Button>
            </>
          ) : view.step === "kept" && view.shown && !again ? (
            <>
              <Eyebrow left="Mesh kept" right={view.mesh_on ? "in use" : "off"} />
              <h2 className="text-2xl leading-tight font-semibold">Range {view.shown.fit.range_mm.toFixed(2)} mm</h2>
              <p>{view.shown.words}.</p>
              <p className="text-graphite">Left for the first layer: {view.after_tram}.</p>
              {view.mesh_words && <p className="text-sm text-brass">{view.mesh_words}</p>}
              <Panel tone="brass">
                <p className="text-sm">Homing may switch a mesh off. The proof switches it on again after homing.</p>
              </Panel>
              <Button look="main" keyHint="Enter" onClick={go}>
                Go to Z offset
              </Button>
              <div className="grid grid-cols-2 gap-2">
                <Button disabled={busy} onClick={() => keep({ kind: "mesh_used", on: !view.mesh_on })}>
                  {view.mesh_on ? "Machine runs without it" : "Machine uses it"}
                </Button>
                <Button onClick={() => setAgain(true)}>Measure another</Button>
              </div>
              <OnePointAgain view={view} keep={keep} busy={busy} />
            </>
          ) : null}
          {!preview && choosing && (
            <ChooseMesh
              runId={runId}
              view={view}
              plan={(columns, owns_zero) =>
                keep({ kind: "mesh_planned", columns, rows: columns, owns_zero }, () => setAgain(false))
              }
              onPreview={setPreview}
              skip={() => keep({ kind: "station_skipped", station: "mesh" }, go)}
              busy={busy}
            />
          )}
        </>
      }
    />
  );
}

/** One doubtful point of the kept mesh, measured again beside a neighbour: the mesh has a zero of its own day. */
function OnePointAgain({ view, keep, busy }: { view: WithHead<Schemas["MeshView"]>; keep: KeepEntry; busy: boolean }) {
  const columns = view.grid?.xs_mm.length ?? 0;
  const [point, setPoint] = useState("0");
  const [beside, setBeside] = useState("1");
  const [here, setHere] = useState("");
  const [there, setThere] = useState("");
  const [wrong, setWrong] = useState<[string | null, string | null]>([null, null]);
  const options = (view.shown?.spots ?? []).map((s, k) => ({
    value: String(k),
    text: `column ${(k % columns) + 1}, row ${Math.floor(k / columns) + 1}: ${signed(s.value_mm ?? 0)}`,
  }));
  const choose = (p: string) => {
    const at = Number(p);
    setPoint(p);
    setBeside(String(at % columns < columns - 1 ? at + 1 : at - 1));
  };
  return (
    <form
      className="grid grid-cols-[1fr_7rem] items-end gap-2 border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        const [a, b] = [typedMm(here, "0.04"), typedMm(there, "0.02")];
        if ("wrong" in a || "wrong" in b)
          return setWrong(["wrong" in a ? a.wrong : null, "wrong" in b ? b.wrong : null]);
        setWrong([null, null]);
        const [at, next] = [Number(point), Number(beside)];
        keep(
          {
            kind: "mesh_point_again",
            column: at % columns,
            row: Math.floor(at / columns),
            height_mm: a.mm,
            neighbour_column: next % columns,
            neighbour_row: Math.floor(next / columns),
            neighbour_height_mm: b.mm,
          },
          () => {
            setHere("");
            setThere("");
          },
        );
      }}
    >
      <p className="col-span-2 text-sm text-graphite">
        One point again: measure it and a neighbour in the same go. Only their difference counts, so today's zero and
        gauge do not matter.
      </p>
      <Choice label="This point" value={point} onChange={choose} options={options} />
      <Field
        label="Height, mm"
        inputMode="decimal"
        value={here}
        onChange={(e) => setHere(e.target.value)}
        wrong={wrong[0]}
      />
      <Choice label="Beside" value={beside} onChange={setBeside} options={options.filter((o) => o.value !== point)} />
      <Field
        label="Its height, mm"
        inputMode="decimal"
        value={there}
        onChange={(e) => setThere(e.target.value)}
        wrong={wrong[1]}
      />
      <Button type="submit" className="col-span-2" disabled={busy}>
        Keep this point
      </Button>
    </form>
  );
}

function ReadPoint({ view, keep, busy }: { view: WithHead<Schemas["MeshView"]>; keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  useEffect(() => setText(""), [view.next_column, view.next_row]);
  const done = view.points.filter((p) => p.kind === "measured").length;
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        const typed = typedMm(text, "0.04 or -0.02");
        if ("wrong" in typed) return setWrong(typed.wrong);
        setWrong(null);
        if (view.next_column !== null && view.next_row !== null)
          keep({ kind: "mesh_point", column: view.next_column, row: view.next_row, height_mm: typed.mm });
      }}
    >
      <Eyebrow
        left={`Column ${(view.next_column ?? 0) + 1} from the left, row ${(view.next_row ?? 0) + 1} from the front`}
        right={`${done + 1} of ${view.points.length}`}
      />
      <h2 className="text-3xl leading-tight font-semibold">
        {view.owns_zero ? "Step down to the drag." : "Read the height here."}
      </h2>
      <p className="text-graphite">
        {view.owns_zero ? "Type the height shown when the gauge drags." : "Plate high is positive."} Lift before the
        next point.
      </p>
      <Field
        label="Height"
        unit="mm"
        inputMode="decimal"
        autoFocus
        value={text}
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Button look="main" type="submit" keyHint="Enter" disabled={busy}>
        Keep, next point
      </Button>
    </form>
  );
}

function ChooseMesh({
  runId,
  view,
  plan,
  onPreview,
  skip,
  busy,
}: {
  runId: string;
  view: WithHead<Schemas["MeshView"]>;
  plan: (points: number, ownsZero: boolean) => void;
  onPreview: (shown: Schemas["Shown"]) => void;
  skip: () => void;
  busy: boolean;
}) {
  const [points, setPoints] = useState("3");
  const [owner, setOwner] = useState<Owner>(view.head.machine.probe ? "probe" : "hand");
  const [text, setText] = useState("");
  const [rows, setRows] = useState<"front_first" | "back_first">("back_first");
  const look = useMutation<Schemas["Shown"], Refusal, void>({
    mutationFn: () =>
      answer(
        api.POST("/api/runs/{run_id}/mesh/preview", {
          params: { path: { run_id: runId } },
          body: { text, rows, owns_zero: owner === "hand" },
        }),
      ),
    onSuccess: onPreview,
  });
  const [fileWrong, setFileWrong] = useState<string | null>(null);
  const upload = async (file: File | undefined) => {
    if (!file) return;
    if (file.size > 200_000)
      return setFileWrong("That file is larger than 200 kB; a mesh has a few hundred numbers. Is it the right one?");
    setFileWrong(null);
    setText(await file.text());
  };
  return (
    <>
      <Eyebrow left="The shape that is left" right="3 x 3 to 15 x 15" />
      <h2 className="text-2xl leading-tight font-semibold">Measure a grid, or bring one.</h2>
      <div className="grid grid-cols-2 gap-2">
        <Choice
          label="Points each way"
          value={points}
          onChange={setPoints}
          options={["3", "4", "5", "6", "7", "9", "11", "13", "15"].map((n) => ({ value: n, text: `${n} x ${n}` }))}
        />
        <Choice label="Whose zero" value={owner} onChange={setOwner} options={OWNERS} />
      </div>
      <Button look="main" disabled={busy} onClick={() => plan(Number(points), owner === "hand")}>
        Measure point by point
      </Button>
      <form
        className="flex flex-col gap-2 border-t border-hairline pt-3"
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate();
        }}
      >
        <label className="text-sm text-graphite" htmlFor="paste">
          Or paste a grid: one row per line, commas, tabs or spaces, with or without headings
        </label>
        <textarea
          id="paste"
          rows={4}
          className="rounded-[4px] border border-graphite bg-paper p-2 font-mono text-sm"
          value={text}
          onChange={(e) => setText(e.target.value)}
          spellCheck={false}
          aria-invalid={look.error ? true : undefined}
        />
        <Wrong wrong={look.error} />
        {fileWrong && (
          <p role="alert" className="text-sm text-madder">
            {fileWrong}
          </p>
        )}
        <FileField label="Grid from a file" accept=".csv,.txt,.tsv,text/*" onFile={upload} />
        <Choice
          label="First row of the text is"
          value={rows}
          onChange={setRows}
          options={[
            { value: "back_first", text: "the back of the plate" },
            { value: "front_first", text: "the front of the plate" },
          ]}
        />
        <Button type="submit" disabled={!text.trim() || look.isPending}>
          Show it on the sheet
        </Button>
      </form>
      <Button look="quiet" className="self-start" disabled={busy} onClick={skip}>
        no mesh this time, go to Z offset
      </Button>
    </>
  );
}
