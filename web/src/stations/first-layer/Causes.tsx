import type { Schemas } from "../../api/client";

/** What may lie behind a bad first layer, with its chances; not shown while the height explains all of it. */
export function Causes({ view }: { view: Schemas["FirstLayerView"] }) {
  const others = view.causes.filter((c) => c.id !== "height");
  if (!others.length || (others[0]?.p ?? 0) < 0.1) return null;
  return (
    <section aria-label="What may be behind it" className="border-t border-hairline pt-2">
      <p className="text-sm font-medium text-graphite">What may be behind it</p>
      <ul>
        {view.causes.slice(0, 5).map((c) => (
          <li key={c.id} className="grid grid-cols-[1fr_3.5rem_2.5rem] items-center gap-2 py-0.5 text-sm">
            <span>{c.word}</span>
            <span aria-hidden="true" className="h-1.5 bg-hairline">
              <span className="block h-full bg-slate" style={{ width: `${100 * c.p}%` }} />
            </span>
            <span className="text-right font-mono">{(100 * c.p).toFixed(0)} %</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
