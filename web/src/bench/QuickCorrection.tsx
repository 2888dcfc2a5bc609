/** "Bring it 0.02 closer": one number, one direction, no run; proved by what the machine reports. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { Button, Field, type Way, WayChoice, Wrong } from "../ui/controls";
import { Lines } from "../ui/Lines";
import { signed, typedNumber } from "../ui/words";

export function QuickCorrection({ machine, rule }: { machine: Schemas["Machine"]; rule: string }) {
  const cache = useQueryClient();
  const [text, setText] = useState("0.02");
  const [way, setWay] = useState<Way>("closer");
  const [reported, setReported] = useState("");
  const size = typedNumber(text);
  const usable = size !== null && size > 0 && size <= 1;
  const closer = usable ? (way === "closer" ? size : -size) : 0;
  const look = useQuery<Schemas["QuickChange"], Refusal>({
    queryKey: ["correction", machine.id, machine.stored_mm, closer],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/correction", {
          params: { path: { machine_id: machine.id }, query: { closer_mm: closer } },
        }),
      ),
    enabled: usable,
  });
  const keep = useMutation<unknown, Refusal, Schemas["Corrected"]>({
    mutationFn: (body) =>
      answer(api.POST("/api/machines/{machine_id}/correction", { params: { path: { machine_id: machine.id } }, body })),
    onSuccess: () => {
      setReported("");
      return cache.invalidateQueries();
    },
  });
  const stores = Boolean(look.data?.stores);
  const done = look.data?.change.lines.length ? "It is in the start code" : "It is set";
  const said = typedNumber(reported);
  return (
    <details className="mt-4 border-t border-hairline pt-2">
      <summary className="flex min-h-11 items-center underline underline-offset-4">a quick correction, no run</summary>
      <form
        className="flex flex-col gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (!usable || (stores && said === null)) return;
          keep.mutate({
            closer_mm: closer,
            reported_mm: stores ? said : null,
            confirmed: !stores,
            by: localStorage.getItem("initials") || "?",
            sure: keep.error?.problem.insist ?? false,
          });
        }}
      >
        <div className="grid grid-cols-2 gap-2">
          <Field
            label="Bring the tip"
            unit="mm"
            inputMode="decimal"
            value={text}
            onChange={(e) => setText(e.target.value)}
            wrong={usable ? null : "Give up to 1 mm, such as 0.02."}
          />
          <WayChoice value={way} onChange={setWay} />
        </div>
        {usable && look.data && (
          <>
            <p className="font-mono text-lg font-semibold">
              {signed(look.data.change.old_mm, 3)} → {signed(look.data.change.new_mm, 3)}
              <span className="ml-2 font-sans text-sm font-normal text-graphite">{rule}</span>
            </p>
            <Lines lines={look.data.change.lines} />
          </>
        )}
        <Wrong wrong={look.error} />
        {stores && (
          <Field
            label={
              look.data?.read_line ? `Sent? Ask ${look.data.read_line}: it reports` : "Stored? Its own screen shows"
            }
            unit="mm"
            inputMode="decimal"
            value={reported}
            onChange={(e) => setReported(e.target.value)}
          />
        )}
        <Wrong wrong={keep.error} />
        {keep.isSuccess && (
          <p role="status" className="text-sm text-verdigris">
            Kept: {signed(machine.stored_mm, 3)}.
          </p>
        )}
        <Button type="submit" disabled={!usable || keep.isPending || (stores && said === null)}>
          {keep.error?.problem.insist ? "I am sure" : stores ? "Compare and keep" : done}
        </Button>
      </form>
    </details>
  );
}
