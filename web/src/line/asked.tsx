/** What the machine asks, with the keys that answer it, and what is said once it halted or is gone. */
import { useContext } from "react";
import type { LineStatus, useTell } from "../api/line";
import type { Key } from "../app/keys";
import { HowFelt, SAYS } from "../stations/Feel";
import { Button, Panel } from "../ui/controls";

export type Tell = ReturnType<typeof useTell>;

/** What the machine asks, its answers as keys; `practise`: where the person at a practice machine can answer. */
export function Asked({ status, tell, practise }: { status: LineStatus; tell: Tell; practise?: () => void }) {
  const says: Record<string, string> = SAYS[useContext(HowFelt)];
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold first-letter:uppercase" aria-live="polite">
        {status.question}
      </h2>
      <div className="flex flex-col gap-1.5">
        {status.answers.map((a, k) => (
          <Button
            key={a}
            className="flex items-center text-left"
            disabled={tell.isPending}
            onClick={() => tell.mutate({ tell: "answer", text: a, question: status.question })}
          >
            <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{k + 1}</kbd>
            <span className="font-semibold">{a}</span>
            <span className="ml-auto text-sm text-graphite">{says[a]}</span>
          </Button>
        ))}
      </div>
      {practise && (
        <Button keyHint="P" disabled={tell.isPending} onClick={practise}>
          Practice: answer for me
        </Button>
      )}
    </>
  );
}

/** After a halt or a loss nothing moves before somebody has looked. */
export function Fallen({ status, tell }: { status: LineStatus; tell: Tell }) {
  if (status.state !== "lost" && status.state !== "halted") return null;
  const halted = status.state === "halted";
  return (
    <Panel tone="madder">
      <p role="alert" className="font-medium">
        {status.words}
      </p>
      <Button
        className="mt-2 w-full"
        onClick={() => tell.mutate(halted ? { tell: "recover" } : { tell: "connect", url: null, manner: null })}
      >
        {halted ? "I have looked: recover it" : "Connect again"}
      </Button>
    </Panel>
  );
}

/** The keys of a question. */
export function answerKeys(status: LineStatus, tell: Tell, practise?: () => void): Key[] {
  const answers = status.answers;
  const keys: Key[] = [
    {
      keys: answers.map((_, k) => String(k + 1)),
      cap: answers.length > 1 ? `1–${answers.length}` : "1",
      does: "answer",
      run: (k) => tell.mutate({ tell: "answer", text: answers[Number(k) - 1] ?? "", question: status.question }),
    },
  ];
  if (practise) keys.push({ keys: ["p", "P"], cap: "P", does: "practice answers", run: practise });
  return keys;
}
