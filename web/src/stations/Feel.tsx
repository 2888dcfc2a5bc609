/** The five words for how a gauge is felt, from the loosest; what each means by the way it is felt. */
import { createContext, useContext } from "react";
import type { Schemas } from "../api/client";
import { Button } from "../ui/controls";

export const FEELS = [
  { feel: "free" },
  { feel: "brush" },
  { feel: "drag" },
  { feel: "snag" },
  { feel: "stuck" },
] as const;
type Feel = (typeof FEELS)[number]["feel"];
export type FeelMethod = NonNullable<Schemas["Gauge"]["method"]>;

/** How this run's gauge is felt. */
export const HowFelt = createContext<FeelMethod>("slide");

export const SAYS: Record<FeelMethod, Record<Feel, string>> = {
  slide: {
    free: "it slides free",
    brush: "it just brushes",
    drag: "it drags",
    snag: "it snags",
    stuck: "it is stuck",
  },
  push: {
    free: "it goes under freely",
    brush: "it goes under and just touches",
    drag: "it goes under with a push",
    snag: "it bends before it goes",
    stuck: "it buckles at once",
  },
  clip: {
    free: "the clip pulls it through",
    brush: "it creeps through",
    drag: "it just holds the clip",
    snag: "it holds and gives by hand",
    stuck: "it does not give by hand",
  },
};

export function FeelKeys({ onFeel, disabled }: { onFeel: (feel: Feel) => void; disabled: boolean }) {
  const says = SAYS[useContext(HowFelt)];
  return (
    <div className="thumb flex flex-col gap-1.5">
      {FEELS.map((f, k) => (
        <Button key={f.feel} disabled={disabled} className="flex items-center text-left" onClick={() => onFeel(f.feel)}>
          <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{k + 1}</kbd>
          <span className="font-semibold">{f.feel}</span>
          <span className="ml-auto text-sm text-graphite">{says[f.feel]}</span>
        </Button>
      ))}
    </div>
  );
}
