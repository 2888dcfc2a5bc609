/** A line or a reply as it stands, with what is meant in it marked; or with its numbers to point at. */
import type { ReactNode } from "react";

export interface Spot {
  start: number;
  end: number;
  says: string;
}

const CHIP = "rounded-[3px] border px-1 font-mono";

export function Marked({ text, spots }: { text: string; spots: readonly Spot[] }) {
  const parts: ReactNode[] = [];
  let at = 0;
  for (const spot of [...spots].sort((a, b) => a.start - b.start)) {
    if (spot.start < at) continue;
    parts.push(text.slice(at, spot.start));
    parts.push(
      <mark key={spot.start} title={spot.says} className={`${CHIP} border-brass bg-brass/15 text-ink`}>
        {text.slice(spot.start, spot.end)}
        <span className="ml-1 font-sans text-xs text-brass">{spot.says}</span>
      </mark>,
    );
    at = spot.end;
  }
  parts.push(text.slice(at));
  return <pre className="overflow-x-auto font-mono text-sm leading-7 whitespace-pre-wrap">{parts}</pre>;
}

/** The parts of a text that can be pointed at: its numbers, or its words. */
export function partsOf(text: string, what: "numbers" | "words"): Spot[] {
  const pattern = what === "numbers" ? /[+-]?(?:\d+(?:\.\d+)?|\.\d+)/g : /\S+/g;
  return [...text.matchAll(pattern)].map((m) => ({ start: m.index, end: m.index + m[0].length, says: m[0] }));
}

/** Point at one of the parts; what was pointed at before is named. */
export function PointAt({
  text,
  what,
  pointed,
  onPoint,
}: {
  text: string;
  what: "numbers" | "words";
  pointed: Record<string, Spot>;
  onPoint: (spot: Spot) => void;
}) {
  const nodes: ReactNode[] = [];
  let at = 0;
  partsOf(text, what).forEach((part, k) => {
    const named = Object.values(pointed).find((p) => p.start === part.start);
    nodes.push(text.slice(at, part.start));
    nodes.push(
      <button
        key={part.start}
        type="button"
        onClick={() => onPoint(part)}
        aria-label={named ? `${part.says}: ${named.says}` : `${part.says}, number ${k + 1} in the reply`}
        className={`${CHIP} my-0.5 min-h-9 min-w-9 ${named ? "border-brass bg-brass/15" : "border-graphite hover:border-ink"}`}
      >
        {part.says}
        {named && <span className="ml-1 font-sans text-xs text-brass">{named.says}</span>}
      </button>,
    );
    at = part.end;
  });
  nodes.push(text.slice(at));
  return (
    <div className="overflow-x-auto rounded-[4px] border border-hairline bg-ivory/50 p-2 font-mono text-sm leading-9 whitespace-pre-wrap">
      {nodes}
    </div>
  );
}

/** A template with its places as chips, or a pattern in words with its meanings as chips. */
export function Written({ text, kind }: { text: string; kind: "template" | "words" }) {
  const pattern = kind === "template" ? /\{\{|\}\}|\{([a-z_0-9]+)(?::[^}]*)?\}/g : /‹([^›]*)›/g;
  const nodes: ReactNode[] = [];
  let at = 0;
  for (const m of text.matchAll(pattern)) {
    nodes.push(text.slice(at, m.index));
    at = m.index + m[0].length;
    if (m[1] === undefined) nodes.push(m[0][0]);
    else
      nodes.push(
        <span
          key={m.index}
          className="rounded-[3px] border border-brass bg-brass/15 px-1 font-sans text-xs whitespace-nowrap text-ink"
        >
          {m[1].replaceAll("_", " ")}
        </span>,
      );
  }
  nodes.push(text.slice(at));
  return <span className="font-mono text-sm break-words">{nodes}</span>;
}
