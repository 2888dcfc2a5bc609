/** Everything as one file, out and in: to another installation, or two workshops made one. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { FileField, Wrong } from "../ui/controls";
import { many } from "../ui/words";

export function Carried() {
  const cache = useQueryClient();
  const bring = useMutation<Schemas["BroughtAll"], Refusal, File>({
    mutationFn: (file) =>
      answer(
        api.POST("/api/carried", {
          params: { query: { by: localStorage.getItem("initials") ?? "–" } },
          body: file as unknown as string,
          bodySerializer: (body) => body,
          headers: { "content-type": "application/octet-stream" },
        }),
      ) as unknown as Promise<Schemas["BroughtAll"]>,
    onSuccess: () => cache.invalidateQueries(),
  });
  const done = bring.data;
  return (
    <>
      <a className="flex min-h-11 items-center underline underline-offset-4" href="/api/carried">
        carry everything away (JSON)
      </a>
      <FileField
        label="Bring another workshop in"
        accept=".zip,application/zip"
        onFile={(file) => file && bring.mutate(file)}
      />
      {bring.isPending && <p role="status">Bringing it; a run takes about a second.</p>}
      <Wrong wrong={bring.error} />
      {done && (
        <div role="status" className="flex flex-col gap-1">
          <p>
            {many(done.runs_new, "new run")}, {done.runs_same} here already; {done.setup.new.length} new in the set-up,{" "}
            {done.log_new} in logbooks.
          </p>
          {done.setup.left_alone.length > 0 && <p>Left as they are here: {done.setup.left_alone.join(", ")}.</p>}
          {done.left_out.map((why) => (
            <p key={why} className="text-madder">
              {why}
            </p>
          ))}
        </div>
      )}
    </>
  );
}
