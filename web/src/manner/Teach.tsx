/** One word taught: what is asked, the samples, what was understood, and what is unclear. */
import { type FormEvent, useState } from "react";
import { type Lesson, type MannerView, useCatch, useTalk, useTryReply, type Word, type WordShown } from "../api/manner";
import { type Key, useKeys } from "../app/keys";
import { Button, Field, Panel, Wrong } from "../ui/controls";
import { typedNumber } from "../ui/words";
import { Marked, PointAt, type Spot, Written } from "./Marked";

export const FIELD_NAMES: Record<string, string> = {
  bed: "the plate now",
  bed_target: "the plate as told",
  tip: "the tip now",
  tip_target: "the tip as told",
  x: "X",
  y: "Y",
  z: "Z",
  value: "the stored value",
  line: "the line's number",
  front_left: "front left",
  front_right: "front right",
  back_left: "back left",
  text: "the reason begins here",
};
const nameOf = (field: string) => FIELD_NAMES[field] ?? field;
/** Answers that a line brings which only asks. */
const ASKED = [
  "says.temperatures",
  "says.position",
  "says.trigger",
  "says.mesh",
  "says.stored",
  "says.ack",
  "says.error",
  "says.ready",
];

interface Sample {
  text: string;
  bare: string;
  pointed: Record<string, Spot>;
  numbers: Record<string, string>;
}
const EMPTY: Sample = { text: "", bare: "", pointed: {}, numbers: {} };
const STATES = ["open", "closed"] as const;

const isTold = (word: Word) => word.kind === "line" || word.kind === "dress";

/** What was shown last, as it was typed. */
function samplesOf(word: Word): Sample[] {
  const told = word.shown.told.map((t) => ({ ...EMPTY, text: t.line, bare: String(t.values.line ?? "") }));
  const said = word.shown.said.map((s) => ({
    ...EMPTY,
    text: s.text,
    pointed: Object.fromEntries(
      Object.entries(s.pointed).map(([f, p]) => [f, { start: p.start, end: p.end, says: nameOf(f) }]),
    ),
    numbers: Object.fromEntries(Object.entries(s.values).map(([f, v]) => [f, String(v)])),
  }));
  const found = isTold(word) ? told : said;
  const least = word.kind === "state" || word.kind === "dress" ? 2 : 1;
  return [...found, ...Array<Sample>(Math.max(0, least - found.length)).fill(EMPTY)];
}

/** The samples as they are sent; empty ones are left out. */
function shownOf(word: Word, samples: Sample[], chosen: string | null): WordShown {
  const full = samples.map((s, k) => ({ ...s, k })).filter((s) => s.text.trim());
  if (isTold(word))
    return {
      told: full.map((s) => ({
        line: s.text,
        values: word.kind === "dress" ? { line: s.bare } : (word.values[s.k] ?? {}),
      })),
      said: [],
      chosen,
      without: false,
    };
  return {
    told: [],
    said: full.map((s) => ({
      text: s.text,
      values:
        word.kind === "state"
          ? { state: STATES[s.k % 2] ?? "open" }
          : Object.fromEntries(
              Object.entries(s.numbers).flatMap(([f, v]) => {
                const n = typedNumber(v);
                return n === null ? [] : [[f, n]];
              }),
            ),
      pointed: Object.fromEntries(Object.entries(s.pointed).map(([f, p]) => [f, { start: p.start, end: p.end }])),
    })),
    chosen,
    without: false,
  };
}

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

const AREA = "min-h-11 w-full rounded-[4px] border border-graphite bg-paper px-3 py-2 font-mono text-sm";

function SampleFields({
  word,
  k,
  sample,
  set,
  manner,
  machineId,
  pointedAll,
  wrong,
  at,
}: {
  word: Word;
  k: number;
  sample: Sample;
  set: (part: Partial<Sample>) => void;
  manner: string;
  machineId: string;
  pointedAll: (pointed: Record<string, Spot>) => void;
  wrong: string | null;
  /** Where in what was typed the trouble lies. */
  at: number | null;
}) {
  if (word.kind === "line")
    return (
      <div>
        <p className="mb-1">{word.asked[k]}</p>
        <Field
          label="The line as you send it"
          value={sample.text}
          onChange={(e) => set({ text: e.target.value })}
          wrong={wrong}
          spellCheck={false}
          autoCapitalize="off"
          autoFocus={k > 0 || !sample.text}
        />
        <Here text={sample.text} at={at} />
      </div>
    );
  if (word.kind === "dress")
    return (
      <div className="grid grid-cols-[3fr_2fr] gap-2">
        {k === 0 && <p className="col-span-2">{word.asked[0]}</p>}
        <Field
          label={`Line ${k + 1} over the wire`}
          value={sample.text}
          onChange={(e) => set({ text: e.target.value })}
          wrong={wrong}
          spellCheck={false}
        />
        <Field label="says" value={sample.bare} onChange={(e) => set({ bare: e.target.value })} spellCheck={false} />
      </div>
    );
  const points = word.kind === "numbers" || word.kind === "rest";
  const asked = word.fields.find((f) => !sample.pointed[f]);
  const point = (spot: Spot) => {
    if (!asked) return;
    const pointed = { ...sample.pointed, [asked]: { ...spot, says: nameOf(asked) } };
    if (word.fields.every((f) => pointed[f])) pointedAll(pointed);
    else set({ pointed });
  };
  const label =
    word.kind === "state"
      ? ["With nothing near the probe it says", "While you touch it, it says"][k]
      : k === 0
        ? "What it says, all of it"
        : "One more";
  return (
    <div className="flex flex-col gap-2">
      {k === 0 && <p>{word.asked[0]}</p>}
      {ASKED.includes(word.id) && (
        <AskNow word={word} manner={manner} machineId={machineId} heard={(text) => set({ text, pointed: {} })} />
      )}
      <label className="block text-sm text-graphite">
        {label}
        <textarea
          className={AREA}
          rows={word.kind === "grid" ? 6 : 2}
          value={sample.text}
          onChange={(e) => set({ text: e.target.value, pointed: {} })}
          aria-invalid={wrong ? true : undefined}
          spellCheck={false}
        />
      </label>
      {points && sample.text.trim() && (
        <>
          {asked ? (
            <p className="font-semibold">
              {word.kind === "rest" ? "Point at the first word of the reason." : `Point at ${nameOf(asked)}.`}
            </p>
          ) : (
            <Button look="quiet" className="self-start text-sm" onClick={() => set({ pointed: {} })}>
              point again
            </Button>
          )}
          <PointAt
            text={sample.text}
            what={word.kind === "rest" ? "words" : "numbers"}
            pointed={sample.pointed}
            onPoint={point}
          />
        </>
      )}
      {word.kind === "grid" && (
        <div className="grid grid-cols-3 gap-2">
          {word.fields.map((f) => (
            <Field
              key={f}
              label={nameOf(f)}
              unit="mm"
              inputMode="decimal"
              value={sample.numbers[f] ?? ""}
              onChange={(e) => set({ numbers: { ...sample.numbers, [f]: e.target.value } })}
            />
          ))}
        </div>
      )}
      {wrong && (
        <p role="alert" className="text-sm text-madder">
          {wrong}
        </p>
      )}
      <Here text={sample.text} at={at} />
    </div>
  );
}

/** What was typed, from where it is not understood. */
function Here({ text, at }: { text: string; at: number | null }) {
  const rest = at === null ? "" : text.slice(at).trim();
  if (at === null || !rest || at === 0) return null;
  return (
    <Marked
      text={text}
      spots={[{ start: at, end: at + (/^\s*\S+/.exec(text.slice(at))?.[0].length ?? 1), says: "here" }]}
    />
  );
}

/** Send the question on the line and catch what is said. */
function AskNow({
  word,
  manner,
  machineId,
  heard,
}: {
  word: Word;
  manner: string;
  machineId: string;
  heard: (text: string) => void;
}) {
  const ask = useCatch(machineId);
  const [open, setOpen] = useState(false);
  const [url, setUrl] = useState("");
  return (
    <div>
      <div className="flex flex-wrap items-center gap-x-4">
        <Button
          disabled={ask.isPending}
          onClick={() =>
            ask.mutate(
              { word: word.id, manner, url: url || null },
              {
                onSuccess: (c) => heard(c.text),
                onError: (e) => (e.problem.code === "no_url" ? setOpen(true) : undefined),
              },
            )
          }
        >
          {ask.isPending ? "Listening…" : "Ask it on the line"}
        </Button>
        <span className="text-sm text-graphite">or paste its answer</span>
      </div>
      {open && (
        <Field
          label="Line: a device, or socket://host:port"
          value={url}
          onChange={(e) => setUrl(e.target.value)}
          className="mt-1"
        />
      )}
      <Wrong wrong={ask.error} />
    </div>
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
