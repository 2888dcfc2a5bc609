import type { Schemas } from "../../api/client";
import { Section, type Side, Swatch } from "../../sheet/Swatch";
import { Button } from "../../ui/controls";

/** One look of a patch, with its key, as it is seen and in section. */
export function GradeButton({
  card,
  side,
  chosen = false,
  disabled,
  press,
}: {
  card: Schemas["GradeCard"];
  side: Side;
  chosen?: boolean;
  disabled: boolean;
  press: () => void;
}) {
  return (
    <Button
      look={chosen ? "chosen" : "plain"}
      disabled={disabled}
      className="flex items-center gap-2 px-2 py-0! text-left"
      onClick={press}
    >
      <kbd className="rounded-[3px] border border-current px-1.5 font-mono text-sm">{card.key}</kbd>
      <svg height={40} aria-hidden="true" className="w-0 min-w-16 flex-1 rounded-[2px] border border-current">
        <Swatch swatch={card.swatch} width={700} height={40} side={side} />
      </svg>
      <svg width={52} height={34} aria-hidden="true" className="shrink-0 max-sm:hidden">
        <Section swatch={card.swatch} x={0} y={32} lines={3} perMm={36} />
      </svg>
      <span className="w-32 leading-tight">
        <span className="block font-semibold">{card.word}</span>
        <span className="block text-sm leading-tight opacity-80">{card.look}</span>
      </span>
    </Button>
  );
}
