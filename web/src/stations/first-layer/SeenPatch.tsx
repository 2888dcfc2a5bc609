import type { Schemas } from "../../api/client";
import { type Side, Swatch } from "../../sheet/Swatch";

/** A patch as it lies on the practice plate, for an eye that wants to judge by itself. */
export function SeenPatch({ swatch, side }: { swatch: Schemas["Swatch"]; side: Side }) {
  return (
    <svg
      width={132}
      height={52}
      className="shrink-0"
      role="img"
      aria-label="The patch as it lies on the practice plate"
    >
      <Swatch swatch={swatch} width={130} height={50} x={1} y={1} side={side} />
    </svg>
  );
}
