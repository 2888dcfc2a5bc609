/** A grid from elsewhere, as text or file, looked at before anything is kept. */
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../../api/client";
import { Button, Choice, FileField, Wrong } from "../../ui/controls";

const UNITS = [
  { value: "mm", text: "mm" },
  { value: "micron", text: "micrometres" },
  { value: "inch", text: "inches" },
] as const;
type Unit = (typeof UNITS)[number]["value"];
/** A text that is looked at, and how it turned out. */
export interface Preview {
  body: Schemas["MeshPaste"];
  pasted: Schemas["Pasted"];
}

export function usePaste(runId: string, onPreview: (preview: Preview) => void) {
  return useMutation<Schemas["Pasted"], Refusal, Schemas["MeshPaste"]>({
    mutationFn: (body) =>
      answer(api.POST("/api/runs/{run_id}/mesh/preview", { params: { path: { run_id: runId } }, body })),
    onSuccess: (pasted, body) => onPreview({ body, pasted }),
  });
}

export function PasteGrid({
  runId,
  ownsZero,
  onPreview,
  before,
}: {
  runId: string;
  ownsZero: boolean;
  onPreview: (preview: Preview) => void;
  /** The text that was looked at last, and come back from. */
  before: string;
}) {
  const [text, setText] = useState(before);
  const [unit, setUnit] = useState<Unit>("mm");
  const [fileWrong, setFileWrong] = useState<string | null>(null);
  const look = usePaste(runId, onPreview);
  const upload = async (file: File | undefined) => {
    if (!file) return;
    if (file.size > 200_000)
      return setFileWrong("That file is larger than 200 kB; a mesh has a few hundred numbers. Is it the right one?");
    setFileWrong(null);
    setText(await file.text());
  };
  return (
    <form
      className="flex flex-col gap-2 border-t border-hairline pt-3"
      onSubmit={(e) => {
        e.preventDefault();
        look.mutate({ text, owns_zero: ownsZero, unit, known: [], without_lean: false });
      }}
    >
      <label className="text-sm text-graphite" htmlFor="paste">
        Or paste a grid as some machine or program prints it: rows, a table, lists in brackets, or x y z lines
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
      <div className="grid grid-cols-2 items-end gap-2">
        <Choice label="In" value={unit} onChange={setUnit} options={UNITS} />
        <FileField label="Grid from a file" accept=".csv,.txt,.tsv,.json,text/*,application/json" onFile={upload} />
      </div>
      <Button type="submit" disabled={!text.trim() || look.isPending}>
        Show it on the sheet
      </Button>
    </form>
  );
}
