/** The five words for how a gauge slides, from the loosest. */
import { Button } from "../ui/controls";

export const FEELS = [
  { feel: "free", says: "slides free" },
  { feel: "brush", says: "just brushes" },
  { feel: "drag", says: "drags" },
  { feel: "snag", says: "snags" },
  { feel: "stuck", says: "is stuck" },
] as const;

export function FeelKeys({
  onFeel,
  disabled,
}: {
  onFeel: (feel: (typeof FEELS)[number]["feel"]) => void;
  disabled: boolean;
}) {
  return (
    <div className="thumb flex flex-col gap-1.5">
      {FEELS.map((f, k) => (
        <Button key={f.feel} disabled={disabled} className="flex items-center text-left" onClick={() => onFeel(f.feel)}>
          <kbd className="mr-3 rounded-[3px] border border-graphite px-1.5 font-mono text-sm">{k + 1}</kbd>
          <span className="font-semibold">{f.feel}</span>
          <span className="ml-auto text-sm text-graphite">it {f.says}</span>
        </Button>
      ))}
    </div>
  );
}
