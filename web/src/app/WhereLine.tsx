/** The owner's own line on where a step is found on this machine; read at a glance, changed in place. */
import { useState } from "react";
import type { KeepEntry } from "../api/run";
import { Button, Field } from "../ui/controls";

export function WhereLine({ step, line, note }: { step: string; line: string; note: KeepEntry }) {
  const [editing, setEditing] = useState(false);
  const [text, setText] = useState(line);
  if (!editing)
    return (
      <p className="text-sm">
        {line && <span className="block font-medium">On this machine: {line}</span>}
        <button
          type="button"
          className="min-h-11 text-graphite underline underline-offset-4"
          onClick={() => setEditing(true)}
        >
          {line ? "change that line" : "note where to find it on this machine"}
        </button>
      </p>
    );
  return (
    <form
      className="flex items-end gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        note({ kind: "where_noted", step, line: text.trim() }, () => setEditing(false));
      }}
    >
      <Field
        className="flex-1"
        label="Where to find it on this machine"
        value={text}
        maxLength={160}
        autoFocus
        onChange={(e) => setText(e.target.value)}
      />
      <Button type="submit">Note it</Button>
    </form>
  );
}
