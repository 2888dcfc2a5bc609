/** A set-up saved elsewhere, brought here. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { FileField, Wrong } from "../ui/controls";

export function BringSetup() {
  const cache = useQueryClient();
  const [wrong, setWrong] = useState<string | null>(null);
  const bring = useMutation<Schemas["Brought"], Refusal, unknown>({
    mutationFn: (body) => answer(api.POST("/api/setup/import", { body: body as Schemas["SetupFile"] })),
    onSuccess: () => {
      cache.invalidateQueries({ queryKey: ["setup"] });
      cache.invalidateQueries({ queryKey: ["bench"] });
    },
  });
  const read = async (file: File | undefined) => {
    if (!file) return;
    setWrong(null);
    try {
      bring.mutate(JSON.parse(await file.text()));
    } catch {
      setWrong("This is not readable JSON. Choose a set-up saved here.");
    }
  };
  return (
    <div className="flex flex-col gap-1 text-sm">
      <FileField label="Bring one from elsewhere" accept=".json,application/json" onFile={read} />
      {wrong && (
        <p role="alert" className="text-madder">
          {wrong}
        </p>
      )}
      <Wrong wrong={bring.error} />
      {bring.data && (
        <p role="status">
          {bring.data.new.length} new, {bring.data.same.length} here already
          {bring.data.left_alone.length > 0 && `; left as they are here: ${bring.data.left_alone.join(", ")}`}.
        </p>
      )}
    </div>
  );
}
