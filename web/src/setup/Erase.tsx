/** Somebody's initials taken out of everything, asked for twice. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { Button, Panel, Wrong } from "../ui/controls";

export function Erase({ initials }: { initials: string }) {
  const cache = useQueryClient();
  const [sure, setSure] = useState(false);
  const erase = useMutation<Schemas["Erased"], Refusal, void>({
    mutationFn: () => answer(api.POST("/api/carried/erase", { body: { initials } })),
    onSuccess: () => cache.invalidateQueries(),
  });
  if (erase.data) return <p role="status">{erase.data.words}</p>;
  if (!sure)
    return (
      <Button look="quiet" className="self-start text-sm" onClick={() => setSure(true)}>
        erase {initials} everywhere
      </Button>
    );
  return (
    <Panel tone="madder">
      <p>
        {initials} goes from every run, logbook and list, and what is known of this person's feel and eye with it. What
        was measured stays. It cannot be taken back.
      </p>
      <div className="mt-2 grid grid-cols-2 gap-2">
        <Button disabled={erase.isPending} onClick={() => erase.mutate()}>
          Erase {initials}
        </Button>
        <Button onClick={() => setSure(false)}>Leave it</Button>
      </div>
      <Wrong wrong={erase.error} />
    </Panel>
  );
}
