/** One word taught: what is asked, the samples, what was understood, and what is unclear. */
import { type FormEvent, useState } from "react";
import { type Lesson, type MannerView, useTalk, useTryReply, type Word } from "../api/manner";
import { type Key, useKeys } from "../app/keys";
import { Button, Panel, Wrong } from "../ui/controls";
import { Marked, Written } from "./Marked";
import { AREA, Here, SampleFields } from "./SampleFields";
import { EMPTY, isTold, nameOf, type Sample, samplesOf, shownOf } from "./samples";

export function Teach({
  view,
  word,
  machineId,
  by,
  next,
}: {
  view: MannerView;
  word: Word;
  machineId: string;
  by: string;
  next: () => void;
}) {
  const { teach } = useTalk(view.id, machineId);
  const [samples, setSamples] = useState<Sample[]>(() => samplesOf(word));
  const editable = view.source === "taught";
  const lesson: Lesson | null = teach.data && teach.variables?.word === word.id ? teach.data.lesson : null;
  const most = word.kind === "line" ? Math.max(word.values.length, 1) : word.kind === "state" ? 2 : 3;
  const set = (k: number, part: Partial<Sample>) =>
    setSamples((was) => was.map((s, j) => (j === k ? { ...s, ...part } : s)));
  const send = (chosen: string | null = null, from: Sample[] = samples) =>
    teach.mutate({ word: word.id, shown: shownOf(word, from, chosen), seen_version: view.version, by });
  const without = () =>
    teach.mutate({
      word: word.id,
      shown: { told: [], said: [], chosen: null, without: true },
      seen_version: view.version,
      by,
    });
  const choices = lesson?.choices ?? [];
  /** It has just been understood. */
  const fresh = word.state === "settled" && lesson !== null && !lesson.trouble && choices.length <= 1;
  const keys: Key[] = [];
  if (choices.length > 1)
    keys.push({
      keys: choices.map((_, k) => String(k + 1)),
      cap: `1–${choices.length}`,
      does: "that is meant",
      run: (k) => send(choices[Number(k) - 1]?.text ?? null),
    });
  if (word.state === "settled" || word.state === "without")
    keys.push({ keys: ["Enter", "n", "N"], cap: "N", does: "next word", run: next });
  if (editable && !word.needed && word.state !== "without")
    keys.push({ keys: ["0"], cap: "0", does: "it has none", run: without });
  useKeys(keys);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    send();
  };
  return (
    <>
      <div>
        <h2 className="text-2xl leading-tight font-semibold">{word.name}</h2>
        <p className="mt-1 text-graphite">
          {word.why} <span className="whitespace-nowrap">Used by {word.who.join(", ")}.</span>
        </p>
        {word.without && <p className="mt-1 text-sm text-graphite">Without it: {lowered(word.without)}</p>}
      </div>
      {word.moves && editable && (
        <Panel tone="brass">
          <p className="text-sm">This one moves the machine. Here it is only written down: nothing is sent.</p>
        </Panel>
      )}
      {word.state === "settled" && (
        <Panel>
          <p className="text-sm text-graphite">As it is understood now</p>
          <p>
            <Written text={isTold(word) ? word.text : word.words} kind={word.kind === "line" ? "template" : "words"} />
          </p>
          {word.kind === "line" && <p className="text-sm text-graphite">{word.words}</p>}
          <Proof word={word} />
        </Panel>
      )}
      {fresh && (
        <Button look="main" onClick={next} keyHint="N" autoFocus>
          Next word
        </Button>
      )}
      {editable && (
        <form onSubmit={submit} className="flex flex-col gap-3">
          {samples.map((s, k) => (
            <SampleFields
              // Samples are only ever added at the end.
              key={k}
              word={word}
              k={k}
              sample={s}
              set={(part) => set(k, part)}
              manner={view.id}
              machineId={machineId}
              pointedAll={(pointed) => {
                const now = samples.map((x, j) => (j === k ? { ...x, pointed } : x));
                setSamples(now);
                if (now.every((x) => !x.text.trim() || word.fields.every((f) => x.pointed[f]))) send(null, now);
              }}
              wrong={lesson?.trouble && (lesson.sample ?? 0) === k ? lesson.trouble : null}
              at={lesson?.trouble && lesson.sample === k ? (lesson.at ?? null) : null}
            />
          ))}
          {lesson?.trouble && (lesson.sample ?? 0) >= samples.length && (
            <p role="alert" className="text-sm text-madder">
              {lesson.trouble}
            </p>
          )}
          {choices.length > 1 && (
            <div role="group" aria-label="Which is meant" className="flex flex-col gap-1.5">
              <p className="font-semibold">Which is meant? Or show one more below.</p>
              {choices.map((c, k) => (
                <Button key={c.text} className="flex items-center text-left" onClick={() => send(c.text)}>
                  <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{k + 1}</kbd>
                  <span className="text-sm">
                    {isTold(word) && <Written text={c.text} kind="template" />} {c.words}
                  </span>
                </Button>
              ))}
            </div>
          )}
          {lesson?.notes.map((n) => (
            <p key={n} className="border-l-2 border-brass pl-3 text-sm">
              {n}
            </p>
          ))}
          <Wrong wrong={teach.error} />
          {!fresh && (
            <Button look="main" type="submit" disabled={teach.isPending || !by}>
              {word.kind === "line"
                ? "That is the line"
                : word.kind === "dress"
                  ? "These are the lines"
                  : "That is what it says"}
            </Button>
          )}
          <div className="flex flex-wrap gap-x-4 text-sm">
            {samples.length < most && (
              <Button look="quiet" onClick={() => setSamples([...samples, EMPTY])}>
                show one more
              </Button>
            )}
            {!word.needed && word.state !== "without" && (
              <Button look="quiet" onClick={without}>
                it has none
              </Button>
            )}
            <Button look="quiet" onClick={next}>
              later
            </Button>
          </div>
        </form>
      )}
      {word.state === "settled" && !isTold(word) && word.kind !== "grid" && <TryAnother view={view} word={word} />}
    </>
  );
}

const lowered = (text: string) => text.charAt(0).toLowerCase() + text.slice(1);

function Proof({ word }: { word: Word }) {
  const p = word.proved;
  if (!p) return <p className="mt-1 text-sm text-graphite">Not proved on this machine.</p>;
  return (
    <p className={`mt-1 text-sm ${p.ok ? "text-verdigris" : "text-madder"}`}>
      {p.ok ? "Proved" : "Did not prove"} {p.how === "hand" ? "by hand" : "on the line"} by {p.by}: {p.heard}
    </p>
  );
}

/** Another reply held against what is settled. */
function TryAnother({ view, word }: { view: MannerView; word: Word }) {
  const tryIt = useTryReply(view.id);
  const [text, setText] = useState("");
  return (
    <form
      className="border-t border-hairline pt-2"
      onSubmit={(e) => {
        e.preventDefault();
        tryIt.mutate({ word: word.id, text });
      }}
    >
      <label className="block text-sm text-graphite">
        Try another reply against it
        <textarea className={AREA} rows={2} value={text} onChange={(e) => setText(e.target.value)} spellCheck={false} />
      </label>
      <Button type="submit" disabled={!text.trim()} className="mt-1">
        Try it
      </Button>
      {tryIt.data && (
        <p role="status" className={`mt-1 text-sm ${tryIt.data.found ? "text-verdigris" : "text-madder"}`}>
          {tryIt.data.words}
        </p>
      )}
      {tryIt.data && !tryIt.data.found && tryIt.variables && (
        <Here text={tryIt.variables.text} at={tryIt.data.at ?? null} />
      )}
      {word.shown.said[0] && (
        <Marked
          text={word.shown.said[0].text}
          spots={Object.entries(word.shown.said[0].pointed).map(([f, p]) => ({ ...p, says: nameOf(f) }))}
        />
      )}
    </form>
  );
}
