/** A turn to be made: what it would run into, and how it was made. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Acts, KeepEntry, WithHead } from "../../api/run";
import { Button, Field, Panel } from "../../ui/controls";
import { type SeenFrom, turnWords, typedNumber, way } from "../../ui/words";

type View = WithHead<Schemas["TramView"]>;
interface TurnMadeProps {
  view: View;
  from: SeenFrom;
  acts: Acts;
  keep: KeepEntry;
  turn: NonNullable<View["further"]>;
  says: string;
}

/** What a turn would run into, and how it was made: as advised, or otherwise. */
export function TurnMade({ turn, says, view, from, acts, keep }: TurnMadeProps) {
  return (
    <>
      <RunsOut view={view} from={from} />
      <Button
        look="main"
        keyHint="Enter"
        disabled={acts.busy}
        onClick={() => keep({ kind: "turned", screw: turn.screw, marks: turn.marks })}
      >
        {says}
      </Button>
      <OtherTurn key={view.head.seq} screw={turn.screw} from={from} keep={keep} busy={acts.busy} />
    </>
  );
}

/** A knob about to come loose or to bottom out, and the turns that avoid it. */
export function RunsOut({ view, from }: { view: View; from: SeenFrom }) {
  const out = view.runs_out;
  if (!out) return null;
  return (
    <Panel tone="brass">
      <p className="font-semibold first-letter:uppercase">{out.sentence}</p>
      <p className="text-sm">
        {view.head.machine.screws
          .map((s, k) => `${s.name} ${turnWords(out.together[k] ?? 0, s.marks_per_turn, from)}`)
          .join("; ")}
        .
      </p>
    </Panel>
  );
}

/** A turn other than advised is kept as it was made. */
export function OtherTurn({
  screw,
  from,
  keep,
  busy,
}: {
  screw: string;
  from: SeenFrom;
  keep: KeepEntry;
  busy: boolean;
}) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [sign, setSign] = useState<1 | -1>(1);
  const [wrong, setWrong] = useState<string | null>(null);
  if (!open)
    return (
      <Button look="quiet" className="self-start text-sm" onClick={() => setOpen(true)}>
        I turned it otherwise
      </Button>
    );
  return (
    <form
      className="grid grid-cols-[1fr_auto] items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const marks = typedNumber(text);
        if (marks === null || marks < 0 || marks > 160 || (2 * marks) % 1 !== 0)
          return setWrong("Give the marks you turned, 0 to 160, in whole or half marks.");
        setWrong(null);
        keep({ kind: "turned", screw, marks: marks * sign });
      }}
    >
      <Field
        label="Marks turned"
        inputMode="decimal"
        value={text}
        autoFocus
        onChange={(e) => setText(e.target.value)}
        wrong={wrong}
      />
      <Button onClick={() => setSign(sign === 1 ? -1 : 1)}>{way(sign, from)}</Button>
      <Button type="submit" className="col-span-2" disabled={busy}>
        Keep what I turned
      </Button>
    </form>
  );
}
