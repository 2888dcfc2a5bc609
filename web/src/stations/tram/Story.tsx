/** The story of the rounds: what was foretold and found, and any of it taken back. */

import type { Schemas } from "../../api/client";
import type { WithHead } from "../../api/run";
import { Button } from "../../ui/controls";
import { fraction, type SeenFrom, signed, turnWords, way } from "../../ui/words";

type View = WithHead<Schemas["TramView"]>;
type StopLine = View["stops"][number];

interface StoryProps {
  view: View;
  from: SeenFrom;
  takeBack: (entryId: string) => void;
  busy: boolean;
}

export function Story({ view, from, takeBack, busy }: StoryProps) {
  const newest = [...view.rounds].reverse();
  return (
    <section aria-label="Rounds so far" className="text-sm">
      {newest.map((round, k) => (
        <details key={round.number} open={k === 0} className="border-t border-hairline">
          <summary className="flex min-h-11 cursor-pointer items-center justify-between">
            <span className="font-medium">Round {round.number}</span>
            <span className="font-mono">
              spread {round.spread_mm.toFixed(2)}
              {round.spread_foretold_mm != null && ` (foretold ${round.spread_foretold_mm.toFixed(2)})`}
            </span>
          </summary>
          <ul>
            {[...round.stops].reverse().map((s) => (
              <li key={`${s.entry_id} ${s.screw}`} className="flex items-center gap-2">
                <span className="flex-1">
                  <span className="inline-block first-letter:uppercase">{s.screw}</span>{" "}
                  <span className="text-graphite">{stopWords(s, from)}</span>
                </span>
                <span className="font-mono">{signed(s.height_mm)}</span>
                <Back id={s.entry_id} name={turnedWith(round, s)} takeBack={takeBack} busy={busy} />
              </li>
            ))}
            {round.readings.map((r) => (
              <li key={r.entry_id} className="flex items-center gap-2">
                <span className="flex-1 first-letter:uppercase">{r.screw}</span>
                <span className="font-mono">
                  {signed(r.value_mm, 3)}
                  {round.spread_foretold_mm != null && (
                    <span className="text-graphite"> foretold {signed(r.foretold_mm, 3)}</span>
                  )}
                </span>
                <Back id={r.entry_id} name={r.screw} takeBack={takeBack} busy={busy} />
              </li>
            ))}
          </ul>
        </details>
      ))}
    </section>
  );
}

/** Knobs turned all at once are one row: taken back together. */
function turnedWith(round: View["rounds"][number], s: StopLine): string {
  const together = round.stops.filter((other) => other.entry_id === s.entry_id).length;
  return together > 1 ? `all ${together} turns` : s.screw;
}

function stopWords(s: StopLine, from: SeenFrom): string {
  const short = (text: string) => text.replace("counter-clockwise", "ccw").replace("clockwise", "cw");
  const turned = (marks: number) => short(turnWords(marks, s.per_turn, from));
  if (s.still) return `${turned(s.marks)} and still ${s.still}, turned back`;
  if (s.feel) return `felt: ${s.feel}${s.further ? `, then ${turned(s.further)}` : ""}`;
  // A turn on its own, with no count before it.
  if (!s.marks && s.further && !s.about) return turned(s.further);
  const more = s.further ? `, ${fraction(s.further, s.per_turn)} ${short(way(s.further, from))} more` : "";
  const about = s.about ? ` (foretold ${turned(Math.round(s.about[0]))})` : "";
  return turned(s.marks) + about + more;
}

interface BackProps {
  id: string;
  name: string;
  takeBack: (entryId: string) => void;
  busy: boolean;
}

function Back({ id, name, takeBack, busy }: BackProps) {
  return (
    <Button
      look="quiet"
      className="text-sm"
      aria-label={`Take back ${name}`}
      disabled={busy}
      onClick={() => takeBack(id)}
    >
      take back
    </Button>
  );
}
