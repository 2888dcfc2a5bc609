/** Mesh: choose, read the points that tell most, look at what is doubted, keep, and see that the machine has it. */
import { useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useActs, useStation } from "../../api/run";
import type { Key } from "../../app/keys";
import { Shell, useRunId, useSeenFrom } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { Sheet } from "../../sheet/Sheet";
import { Button, Eyebrow } from "../../ui/controls";
import { FEELS } from "../Feel";
import { CheckEarlier } from "./CheckEarlier";
import { ChooseMesh } from "./ChooseMesh";
import { Doubts } from "./Doubts";
import { EarlierMeshes } from "./EarlierMeshes";
import { KeptMesh } from "./KeptMesh";
import { Pasted } from "./Pasted";
import type { Preview } from "./PasteGrid";
import { ReadPoint } from "./ReadPoint";

export function MeshStation() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "mesh");
  const acts = useActs(runId, "mesh", view?.head.seq ?? 0);
  const [from] = useSeenFrom(view?.head);
  const navigate = useNavigate();
  const [preview, setPreview] = useState<Preview | null>(null);
  const [pastedText, setPastedText] = useState("");
  const [again, setAgain] = useState(false);
  const [readOn, setReadOn] = useState(false);
  const [against, setAgainst] = useState<Schemas["EarlierMesh"] | null>(null);
  const [picked, setPicked] = useState<{ column: number; row: number } | null>(null);
  if (!view) return <Waiting wrong={error} />;
  const { keep, busy } = acts;
  const go = () => navigate(`/runs/${runId}/offset`);
  const keepSurvey = (survey: Schemas["MeshSurvey"]) =>
    keep({ kind: "mesh_kept", survey }, () => {
      setPreview(null);
      setAgain(false);
      setReadOn(false);
    });
  const choosing = view.step === "choose" || (view.step === "kept" && again);
  const reading = view.step === "read" || (view.step === "keep" && readOn);
  const next = view.next;
  const point = picked ?? next;
  const felt = (k: number) => {
    const f = FEELS[k];
    if (f && next && next.try_mm != null && !busy)
      keep({ kind: "mesh_felt", column: next.column, row: next.row, z_mm: next.try_mm, feel: f.feel });
  };
  const keys: Key[] = [];
  if (reading && !picked && next?.try_mm != null)
    keys.push({ keys: ["1", "2", "3", "4", "5"], cap: "1–5", does: "feel", run: (k) => felt(Number(k) - 1) });
  if (view.step === "keep" && !readOn && view.draft) {
    const draft = view.draft;
    keys.push({ keys: ["Enter"], cap: "Enter", does: "keep this mesh", run: () => keepSurvey(draft) });
  }
  if (view.step === "kept" && !again) keys.push({ keys: ["Enter"], cap: "Enter", does: "go to Z offset", run: go });
  const spots = preview?.pasted.shown.spots ?? against?.against ?? view.sheet.spots;
  const sheet = { ...view.sheet, spots };
  const spotPicked = (spot: Schemas["Spot"]) => {
    const near = (p: Schemas["PointShown"]) => Math.hypot(p.x_mm - spot.x_mm, p.y_mm - spot.y_mm);
    const found = [...view.points].sort((a, b) => near(a) - near(b))[0];
    if (found?.able) setPicked({ column: found.column, row: found.row });
  };
  return (
    <Shell
      station="mesh"
      head={view.head}
      last={view.last}
      cautions={view.cautions}
      acts={acts}
      keys={keys}
      canPractise={view.step === "read" || view.step === "keep" || (view.check?.to_read.length ?? 0) > 0}
      facts={[
        ["Range", view.shown ? `${view.shown.fit.range_mm.toFixed(2)} mm` : "–"],
        ["Mesh", view.mesh_on ? "in use" : "off"],
        ["Constant", view.owns_zero === null ? "–" : view.owns_zero ? "in the mesh" : "in the offset"],
      ]}
      sheet={<Sheet sheet={sheet} from={from} title="Mesh" onSpot={reading ? spotPicked : undefined} />}
      slip={
        <>
          {preview && (
            <Pasted
              runId={runId}
              preview={preview}
              onPreview={setPreview}
              onKeep={() => keepSurvey(preview.pasted.shown.survey)}
              onBack={() => setPreview(null)}
              busy={busy}
            />
          )}
          {!preview && (view.step === "read" || view.step === "keep") && (
            <Doubts view={view} keep={keep} busy={busy} onPick={setPicked} />
          )}
          {!preview && reading && view.progress && (
            <ReadPoint
              key={point ? `${point.column},${point.row}` : "base"}
              view={view}
              picked={picked}
              onPicked={setPicked}
              onFeel={felt}
              keep={keep}
              busy={busy}
            />
          )}
          {!preview && view.step === "keep" && !readOn && view.draft && view.shown && (
            <>
              <Eyebrow
                left="Known well enough"
                right={`${view.progress?.read} of ${view.progress?.able} points read`}
              />
              <h2 className="text-2xl leading-tight font-semibold">Keep this mesh?</h2>
              <p>{view.shown.words}</p>
              <p className="text-sm text-graphite">
                {view.progress?.words}. Points that were not read get what the others say of them.
              </p>
              <Button look="main" keyHint="Enter" disabled={busy} onClick={() => view.draft && keepSurvey(view.draft)}>
                Keep this mesh
              </Button>
              {next && <Button onClick={() => setReadOn(true)}>Read another point</Button>}
            </>
          )}
          {!preview && view.step === "keep" && readOn && view.draft && (
            <Button disabled={busy} onClick={() => view.draft && keepSurvey(view.draft)}>
              Enough: keep this mesh
            </Button>
          )}
          {!preview && view.check && <CheckEarlier check={view.check} keep={keep} busy={busy} />}
          {!preview && view.step === "kept" && view.shown && !again && (
            <KeptMesh runId={runId} view={view} keep={keep} busy={busy} onGo={go} onAgain={() => setAgain(true)} />
          )}
          {!preview && choosing && (
            <ChooseMesh
              runId={runId}
              view={view}
              keep={keep}
              onPlanned={() => setAgain(false)}
              onPreview={(p) => {
                setPastedText(p.body.text);
                setPreview(p);
              }}
              pastedBefore={pastedText}
              onSkipped={go}
              busy={busy}
            />
          )}
          {!preview && (choosing || view.step === "kept") && (
            <EarlierMeshes
              runId={runId}
              seq={view.head.seq}
              meshOn={view.mesh_on}
              shown={against?.measured_at ?? null}
              onShow={setAgainst}
              keep={keep}
              busy={busy}
            />
          )}
        </>
      }
    />
  );
}
