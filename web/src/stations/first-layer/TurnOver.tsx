import type { Side } from "../../sheet/Swatch";
import { Button } from "../../ui/controls";

/** From which side the patches are drawn; a press shows the other. */
export function TurnOver({ side, turn, className = "" }: { side: Side; turn: () => void; className?: string }) {
  return (
    <Button look="quiet" className={`text-sm font-normal ${className}`} onClick={turn}>
      {side === "top" ? "from above: turn it over" : "from below: turn it back"}
    </Button>
  );
}
