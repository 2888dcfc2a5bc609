/** Ctrl-K: any machine, any run, any station of the run at hand. */
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { useBench } from "../api/run";
import { day } from "../ui/words";

const STATIONS = [
  ["prepare", "Prepare"],
  ["tram", "Tram"],
  ["mesh", "Mesh"],
  ["offset", "Z offset"],
  ["first_layer", "First layer"],
  ["sign_off", "Sign off"],
  ["record", "Record to print"],
] as const;

export function Finder() {
  const [open, setOpen] = useState(false);
  const [asked, setAsked] = useState("");
  const navigate = useNavigate();
  const { runId } = useParams();
  const bench = useBench();
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setAsked("");
        setOpen((was) => !was);
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  const all = [
    ...(runId ? STATIONS.map(([s, name]) => ({ to: `/runs/${runId}/${s}`, text: name })) : []),
    { to: "/", text: "Bench" },
    { to: "/runs", text: "All runs" },
    { to: "/wall", text: "Wall: every machine at a glance" },
    { to: "/network", text: "Network: devices that are let in" },
    { to: "/setup", text: "Set-up: machines, gauges, nozzles, filaments, people" },
    ...(bench.data?.machines ?? []).map((m) => ({
      to: `/machines/${m.machine.id}/logbook`,
      text: `${m.machine.name}: logbook`,
    })),
    ...(bench.data?.machines ?? []).flatMap((m) => [
      { to: `/machines/${m.machine.id}/job`, text: `${m.machine.name}: check a job before it is printed` },
      { to: `/machines/${m.machine.id}/gone-bad`, text: `${m.machine.name}: what changed? a layer gone bad` },
      { to: `/machines/${m.machine.id}/after-change`, text: `${m.machine.name}: after a change, settings compared` },
    ]),
    ...(bench.data?.machines ?? []).map((m) => ({
      to: `/machines/${m.machine.id}/talk`,
      text: `${m.machine.name}: how it talks`,
    })),
    ...(bench.data?.runs ?? []).map((r) => ({
      to: `/runs/${r.id}/tram`,
      text: `${r.machine_name}, ${r.plate_name}, ${day(r.started_at)}`,
    })),
  ];
  const found = all.filter((c) => c.text.toLowerCase().includes(asked.toLowerCase().trim())).slice(0, 9);
  const go = (to: string | undefined) => {
    if (!to) return;
    setOpen(false);
    navigate(to);
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="behind-dialog" />
        <Dialog.Content aria-describedby={undefined} className="dialog top-24 w-[min(520px,92vw)] p-4">
          <Dialog.Title className="sr-only">Find a machine, a run or a station</Dialog.Title>
          <input
            autoFocus
            aria-label="Find a machine, a run or a station"
            placeholder="machine, run or station"
            className="min-h-11 w-full rounded-[4px] border border-graphite bg-paper px-3"
            value={asked}
            onChange={(e) => setAsked(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && go(found[0]?.to)}
          />
          <ul className="mt-2">
            {found.map((c) => (
              <li key={c.to}>
                <button
                  type="button"
                  className="min-h-11 w-full px-2 text-left hover:bg-ivory"
                  onClick={() => go(c.to)}
                >
                  {c.text}
                </button>
              </li>
            ))}
          </ul>
          {!found.length && <p className="p-2 text-graphite">Nothing of that name here.</p>}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
