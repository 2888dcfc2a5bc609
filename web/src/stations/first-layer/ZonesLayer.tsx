import type { Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import type { Frame } from "../../sheet/frame";
import { Swatch } from "../../sheet/Swatch";
import { signed } from "../../ui/words";
import { wasJudged } from "./told";

/** The zones of a proof on the plate, each as it looks; with many of them only those at hand carry their number. */
export function ZonesLayer({
  view,
  frame,
  at,
  only,
  pick,
}: {
  view: WithHead<Schemas["FirstLayerView"]>;
  frame: Frame;
  at: number | null;
  only: readonly number[];
  pick: (k: number) => void;
}) {
  const size = Math.abs(frame.px(view.patch_mm) - frame.px(0));
  const many = view.zones.length > 9;
  const reach = many ? size / 2 : 24;
  return (
    <g>
      {view.zones.map((z, k) => {
        const [x, y] = [frame.px(z.x_mm), frame.py(z.y_mm)];
        const judged = wasJudged(z);
        // Its number stands on the side of the plate's middle, so that it reaches past no rim.
        const below = y < frame.plan.y + frame.plan.h / 2;
        const colour = z.sound ? "var(--verdigris)" : z.error_mm > 0 ? "var(--slate)" : "var(--madder)";
        const left = k >= view.printed || (only.length > 0 && !only.includes(k));
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the arrow keys move over the zones
          <g key={z.name} onClick={() => pick(k)} style={{ cursor: "pointer" }} opacity={left ? 0.35 : 1}>
            <title>{`${z.name}: ${z.skipped ? "not judged" : z.verdict}`}</title>
            <rect x={x - reach} y={y - reach} width={2 * reach} height={2 * reach} fill="transparent" />
            {judged && <Swatch swatch={z.swatch} width={size} height={size} x={x - size / 2} y={y - size / 2} />}
            <rect
              x={x - size / 2}
              y={y - size / 2}
              width={size}
              height={size}
              rx={2}
              fill={judged ? "none" : "var(--paper)"}
              stroke={at === k ? "var(--brass)" : "var(--ink)"}
              strokeWidth={at === k ? 3 : 1.2}
              strokeDasharray={judged ? "" : "3 3"}
            />
            {many && (
              <text className="svg-number halo" x={x} y={y + 4} textAnchor="middle" style={{ fontSize: 10 }}>
                {k + 1}
              </text>
            )}
            {(!many || at === k) && (
              <text
                className="svg-number halo"
                x={x}
                y={below ? y + size / 2 + 15 : y - size / 2 - 6}
                textAnchor="middle"
                style={{ fill: z.known ? colour : "var(--graphite)", fontSize: 12 }}
              >
                {z.known ? `${signed(z.error_mm)}${judged ? "" : " ?"}` : "?"}
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}
