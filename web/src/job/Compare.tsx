/** Two jobs that were checked, held against each other: start, first layer, end. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import type { JobReport } from "../api/jobs";
import { Choice, Wrong } from "../ui/controls";
import { day } from "../ui/words";

export function Compare({ report, jobs }: { report: JobReport; jobs: JobReport[] }) {
  const others = jobs.filter((j) => j.id !== report.id);
  const [with_, setWith] = useState("");
  const found = useQuery<Schemas["JobsCompared"], Refusal>({
    queryKey: ["jobs-compared", report.machine_id, with_, report.id],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/jobs/compare", {
          params: { path: { machine_id: report.machine_id }, query: { before: with_, after: report.id } },
        }),
      ) as unknown as Promise<Schemas["JobsCompared"]>,
    enabled: Boolean(with_),
  });
  if (!others.length) return null;
  return (
    <div className="flex flex-col gap-2 border-t border-hairline pt-2">
      <Choice
        label="Hold it against another one"
        value={with_}
        onChange={setWith}
        options={[{ value: "", text: "–" }, ...others.map((j) => ({ value: j.id, text: `${j.name}, ${day(j.at)}` }))]}
      />
      <Wrong wrong={found.error} />
      {found.data && (
        <>
          <p className="font-semibold" role="status">
            {found.data.words}
          </p>
          <Lines name="Start" of={found.data.start} />
          {found.data.first_layer.map(([name, was, now]) => (
            <p key={name} className="text-sm">
              {name}: <span className="font-mono text-graphite">{was}</span> → <span className="font-mono">{now}</span>
            </p>
          ))}
          <Lines name="End" of={found.data.end} />
        </>
      )}
    </div>
  );
}

function Lines({ name, of }: { name: string; of: Schemas["LineDiffers"][] }) {
  if (!of.length) return null;
  return (
    <div className="text-sm">
      <p className="text-graphite">{name}</p>
      {of.map((d) => (
        <p key={d.was + d.now} className="font-mono break-words">
          {d.was && <span className="text-madder">− {d.was} </span>}
          {d.now && <span className="text-verdigris">+ {d.now}</span>}
        </p>
      ))}
    </div>
  );
}
