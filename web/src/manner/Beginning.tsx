/** A manner of one's own, begun from nothing or from another one. */
import { type FormEvent, useState } from "react";
import type { Schemas } from "../api/client";
import { type MannerView, UNTAUGHT, useManners, useTalk } from "../api/manner";
import { Button, Choice, Field, Wrong } from "../ui/controls";

const idOf = (name: string) =>
  name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "")
    .slice(0, 40);

export function Beginning({
  view,
  machine,
  by,
  begun,
}: {
  view: MannerView;
  machine: Schemas["Machine"];
  by: string;
  begun: (id: string) => void;
}) {
  const manners = useManners();
  const { begin } = useTalk(view.id, machine.id);
  const [name, setName] = useState(`${machine.name}'s own`);
  // What most machines understand need not be typed again.
  const [from, setFrom] = useState(machine.manner === UNTAUGHT ? UNTAUGHT : "");
  const [wrong, setWrong] = useState<string | null>(null);
  const own = (manners.data ?? []).filter((m) => m.source === "taught");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const id = idOf(name);
    if (!id) return setWrong("Give it a name of letters or figures.");
    setWrong(null);
    begin.mutate(
      { id, name: name.trim(), start_from: from || null, convention: machine.convention, by },
      { onSuccess: (v) => begun(v.id) },
    );
  };
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">Teach {machine.name} how you talk to it</h2>
      <p>
        You type each line once, with its numbers, as you would send it; you paste what the machine answers and point at
        the number that is meant. Then each line is proved before anything depends on it.
      </p>
      <p className="text-sm text-graphite">
        {machine.name} uses '{view.name}' now, which came with the application and stays as it is. Keep the machine's
        own handbook beside you; its rules and those of your workshop come first.
      </p>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="Name of the new manner"
          value={name}
          maxLength={80}
          onChange={(e) => setName(e.target.value)}
          wrong={wrong}
        />
        <Choice
          label="Begin from"
          value={from}
          onChange={setFrom}
          options={[
            { value: "", text: "nothing" },
            ...(manners.data ?? [])
              .filter((m) => m.complete)
              .map((m) => ({ value: m.id, text: `${m.name}: change what is different` })),
          ]}
        />
        <Button look="main" type="submit" disabled={!by || begin.isPending}>
          Begin
        </Button>
        <Wrong wrong={begin.error} />
      </form>
      {own.length > 0 && (
        <div className="border-t border-hairline pt-2">
          <p className="text-sm text-graphite">Or go on with one that was begun here</p>
          {own.map((m) => (
            <Button key={m.id} className="mt-1 w-full text-left" onClick={() => begun(m.id)}>
              {m.name}
              <span className="ml-2 text-sm text-graphite">{m.complete ? "complete" : "not complete"}</span>
            </Button>
          ))}
        </div>
      )}
    </>
  );
}
