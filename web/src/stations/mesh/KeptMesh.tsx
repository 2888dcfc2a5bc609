/** The kept mesh: measured, sent, stored and in use are four things, each shown; and what proves them. */
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { Button, Eyebrow, Panel, Why, Wrong } from "../../ui/controls";
import { OnePointAgain } from "./OnePointAgain";

type View = WithHead<Schemas["MeshView"]>;

export function KeptMesh({
  runId,
  view,
  keep,
  busy,
  onGo,
  onAgain,
}: {
  runId: string;
  view: View;
  keep: KeepEntry;
  busy: boolean;
  onGo: () => void;
  onAgain: () => void;
}) {
  const use = view.use;
  if (!view.shown || !use) return null;
  const missing = use.states.some((s) => s.seen !== "yes");
  return (
    <>
      <Eyebrow left="Mesh kept" right={view.mesh_on ? "in use" : "off"} />
      <h2 className="text-2xl leading-tight font-semibold">Range {view.shown.fit.range_mm.toFixed(2)} mm</h2>
      <p>{view.shown.words}.</p>
      <p className="text-graphite">Left for the first layer: {view.after_tram}.</p>
      {view.mesh_words && <p className="text-sm text-brass">{view.mesh_words}</p>}
      <ul className="flex flex-col border-t border-hairline" aria-label="What the machine has of it">
        {use.states.map((s) => (
          <li key={s.name} className="flex items-baseline gap-3 border-b border-hairline py-1.5">
            <span
              aria-hidden
              className={`w-4 shrink-0 ${s.seen === "yes" ? "text-verdigris" : s.seen === "no" ? "text-madder" : "text-brass"}`}
            >
              {s.seen === "yes" ? "✓" : s.seen === "no" ? "✗" : "?"}
            </span>
            <span className="w-20 shrink-0 font-semibold">{s.name}</span>
            <span className="text-sm text-graphite">
              <span className="sr-only">{s.seen}: </span>
              {s.words}
            </span>
          </li>
        ))}
      </ul>
      {missing && (
        <Panel tone="brass">
          <p className="text-sm">
            A mesh that is not sent, stored and on does nothing. Go through these before the proof.
          </p>
        </Panel>
      )}
      <Button look="main" keyHint="Enter" onClick={onGo}>
        Go to Z offset
      </Button>
      <div className="grid grid-cols-2 gap-2">
        <Button disabled={busy} onClick={() => keep({ kind: "mesh_sent" })}>
          I sent it
        </Button>
        <Button disabled={busy} onClick={() => keep({ kind: "mesh_stored" })}>
          I stored it
        </Button>
        <Button
          disabled={busy}
          onClick={() => {
            const next = use.states[3]?.seen !== "yes";
            keep({ kind: "mesh_used", on: next });
          }}
        >
          {use.states[3]?.seen === "yes" ? "Machine runs without it" : "I switched it on"}
        </Button>
        <Button disabled={busy} onClick={() => keep({ kind: "machine_restarted" })}>
          It was switched off
        </Button>
      </div>
      <Readback runId={runId} keep={keep} busy={busy} />
      {use.send.length > 0 && (
        <Why label="the lines to send" lines={[...use.send.slice(0, 40), use.store, use.on].filter(Boolean)} />
      )}
      <Why label="what the machine makes of it" lines={[use.law_words, use.fade_words]} />
      <p className="flex flex-wrap gap-x-4 text-sm">
        {["csv", "json", ...(use.send.length ? ["gcode"] : [])].map((kind) => (
          <a
            key={kind}
            className="min-h-11 py-2 text-graphite underline underline-offset-4 hover:text-ink"
            href={`/api/runs/${runId}/mesh.${kind}`}
            download
          >
            as {kind === "gcode" ? "lines" : kind.toUpperCase()}
          </a>
        ))}
      </p>
      <Button onClick={onAgain}>Measure another</Button>
      <OnePointAgain view={view} keep={keep} busy={busy} />
    </>
  );
}

/** What the machine itself lists, pasted: compared point by point, whichever way round it is written. */
function Readback({ runId, keep, busy }: { runId: string; keep: KeepEntry; busy: boolean }) {
  const [text, setText] = useState("");
  const look = useMutation<Schemas["ReadBack"], Refusal, void>({
    mutationFn: () =>
      answer(
        api.POST("/api/runs/{run_id}/mesh/readback", { params: { path: { run_id: runId } }, body: { text } }),
      ) as unknown as Promise<Schemas["ReadBack"]>,
    onSuccess: (found) => keep({ kind: "mesh_read_back", heights_mm: found.heights_mm }),
  });
  return (
    <details>
      <summary className="min-h-11 cursor-pointer py-2 text-graphite underline underline-offset-4">
        compare with what the machine lists
      </summary>
      <form
        className="flex flex-col gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          look.mutate();
        }}
      >
        <label htmlFor="readback" className="text-sm text-graphite">
          Paste the mesh as the machine shows it, in whatever layout
        </label>
        <textarea
          id="readback"
          rows={4}
          className="rounded-[4px] border border-graphite bg-paper p-2 font-mono text-sm"
          value={text}
          onChange={(e) => setText(e.target.value)}
          spellCheck={false}
        />
        <Wrong wrong={look.error} />
        {look.data && (
          <p className={look.data.same ? "text-verdigris" : "text-madder"} role="status">
            {look.data.words}
          </p>
        )}
        <Button type="submit" disabled={busy || !text.trim() || look.isPending}>
          Compare
        </Button>
      </form>
    </details>
  );
}
