/** The sheet: everything that is said between us and the machine, in two columns, with its state. */
import { useEffect, useRef } from "react";
import type { MannerView, Word } from "../api/manner";
import { day } from "../ui/words";
import { Written } from "./Marked";

const STATE: Record<Word["state"], string> = {
  settled: "taught",
  open: "not taught",
  without: "it has none",
  needed: "needed",
};

export function Dialogue({ view, at, go }: { view: MannerView; at: string; go: (word: string) => void }) {
  const groups = [...new Set(view.words.map((w) => w.group))];
  const settled = view.words.filter((w) => w.state === "settled").length;
  const proved = view.words.filter((w) => w.proved?.ok).length;
  const here = view.words.find((w) => w.id === at)?.group;
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="min-h-0 flex-1 overflow-y-auto pr-1">
        <div className="sticky top-0 z-10 grid grid-cols-2 gap-x-4 border-b border-ink bg-paper pb-1 font-semibold">
          <p>We say</p>
          <p>It says</p>
        </div>
        {groups.map((group) => (
          <section key={group} aria-label={group} className={group === here ? "" : "hidden lg:block"}>
            <h2 className="mt-3 text-sm text-graphite">{group}</h2>
            {rows(view.words.filter((w) => w.group === group)).map((row) => (
              <div
                key={row.map((w) => w?.id ?? "-").join()}
                className="grid grid-cols-2 gap-x-4 border-t border-hairline"
              >
                {row.map((w, k) => (w ? <Cell key={w.id} word={w} on={w.id === at} go={go} /> : <span key={k} />))}
              </div>
            ))}
          </section>
        ))}
      </div>
      <dl className="mt-2 flex flex-wrap gap-x-6 border-t border-ink pt-2 text-sm">
        <Count name="taught" value={`${settled} of ${view.words.length}`} />
        <Count
          name="still needed"
          value={view.missing.length ? String(view.missing.length) : "none"}
          tone={view.missing.length ? "text-madder" : ""}
        />
        <Count name="proved here" value={String(proved)} />
        <Count name="version" value={view.version ? String(view.version) : view.source} />
      </dl>
    </div>
  );
}

function Count({ name, value, tone = "" }: { name: string; value: string; tone?: string }) {
  return (
    <div>
      <dt className="text-graphite">{name}</dt>
      <dd className={`font-mono text-lg ${tone}`}>{value}</dd>
    </div>
  );
}

/** What is told beside what is answered to it; what comes by itself alone on its side. */
function rows(words: Word[]): (Word | null)[][] {
  const told = words.filter((w) => w.kind === "line" || w.kind === "dress");
  const said = words.filter((w) => w.kind !== "line" && w.kind !== "dress");
  const out: (Word | null)[][] = [];
  for (const t of told) {
    const replies = said.filter((s) => s.of === t.id);
    out.push([t, replies[0] ?? null]);
    for (const more of replies.slice(1)) out.push([null, more]);
  }
  for (const s of said) if (!told.some((t) => t.id === s.of)) out.push([null, s]);
  return out;
}

function Cell({ word, on, go }: { word: Word; on: boolean; go: (word: string) => void }) {
  const told = word.kind === "line";
  const at = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (on) at.current?.scrollIntoView({ block: "nearest" });
  }, [on]);
  return (
    <button
      ref={at}
      type="button"
      aria-current={on}
      onClick={() => go(word.id)}
      className={`flex min-h-11 min-w-0 scroll-my-16 flex-col justify-center border-l-4 py-1 pl-2 text-left ${on ? "border-brass bg-brass/10" : "border-transparent hover:border-hairline"}`}
    >
      <span className="flex w-full items-baseline justify-between gap-2">
        <span className={word.state === "needed" ? "font-semibold" : ""}>{word.name}</span>
        <span
          className={`shrink-0 text-xs ${word.state === "needed" ? "text-madder" : word.proved?.ok ? "text-verdigris" : "text-graphite"}`}
        >
          {word.proved
            ? word.proved.ok
              ? `proved ${day(word.proved.at)} ${word.proved.by}`
              : "did not prove"
            : STATE[word.state]}
        </span>
      </span>
      {word.text && (
        <span className="max-w-full text-graphite">
          <Written text={told ? word.text : word.words} kind={told ? "template" : "words"} />
        </span>
      )}
    </button>
  );
}
