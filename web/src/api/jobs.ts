/** The hooks of jobs made elsewhere: checked against a machine, and the last checks. */
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { v4 as newId } from "uuid";
import { answer, api, Refusal, type Schemas } from "./client";

export type JobReport = Schemas["JobReport"];
export type Finding = Schemas["Finding"];

export function useCheckedJobs(machine: string) {
  return useQuery<Schemas["CheckedJobs"], Refusal>({
    queryKey: ["jobs", machine],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/jobs", { params: { path: { machine_id: machine } } }),
      ) as unknown as Promise<Schemas["CheckedJobs"]>,
  });
}

export function useCheckedJob(machine: string, job: string | null) {
  return useQuery<JobReport, Refusal>({
    queryKey: ["job", machine, job],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/jobs/{job_id}", {
          params: { path: { machine_id: machine, job_id: job ?? "" } },
        }),
      ) as unknown as Promise<JobReport>,
    enabled: Boolean(job),
  });
}

/** Sending a job and waiting for its report; `sent` is the share that has left, `read` the share that is read after that. */
export function useCheckJob(machine: string) {
  const cache = useQueryClient();
  const [sent, setSent] = useState(0);
  const [running, setRunning] = useState<XMLHttpRequest | null>(null);
  const [reading, setReading] = useState("");
  const soFar = useQuery<Schemas["ReadSoFar"], Refusal>({
    queryKey: ["reading", machine, reading],
    queryFn: () =>
      answer(
        api.GET("/api/machines/{machine_id}/jobs/reading/{reading}", {
          params: { path: { machine_id: machine, reading } },
        }),
      ) as unknown as Promise<Schemas["ReadSoFar"]>,
    enabled: running !== null && sent >= 1,
    refetchInterval: 500,
  });
  const check = useMutation<JobReport, Refusal, { file: File; plate?: string; filament?: string }>({
    mutationFn: ({ file, plate, filament }) =>
      new Promise((resolve, reject) => {
        // The one call that tells how far a large file has come, which `fetch` does not.
        const request = new XMLHttpRequest();
        const name = newId();
        setReading(name);
        const query = new URLSearchParams({ name: file.name.slice(0, 200), reading: name });
        if (plate) query.set("plate", plate);
        if (filament) query.set("filament", filament);
        request.open("POST", `/api/machines/${machine}/jobs?${query}`);
        request.setRequestHeader("content-type", "text/plain");
        request.upload.onprogress = (e) => setSent(e.total ? e.loaded / e.total : 0);
        request.onload = () => {
          try {
            const body = JSON.parse(request.responseText);
            if (request.status < 400) resolve(body as JobReport);
            else reject(new Refusal(body as Schemas["Problem"]));
          } catch {
            reject(new Refusal({ code: "unexpected", message: "The server answered oddly.", insist: false }));
          }
        };
        request.onerror = () =>
          reject(new Refusal({ code: "cut", message: "The file did not arrive. Choose it again.", insist: false }));
        request.onabort = () =>
          reject(new Refusal({ code: "stopped", message: "Stopped. Nothing was kept.", insist: false }));
        setSent(0);
        setRunning(request);
        request.send(file);
      }),
    onSuccess: (report) => {
      cache.setQueryData(["job", machine, report.id], report);
      cache.invalidateQueries({ queryKey: ["jobs", machine] });
    },
    onSettled: () => setRunning(null),
  });
  const read = soFar.data?.whole ? soFar.data.bytes / soFar.data.whole : 0;
  return { ...check, sent, read, stop: () => running?.abort() };
}
