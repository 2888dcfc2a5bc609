/** The reference card: all seven grades on one page to print, enlarged and as large as they are. */
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useStation } from "../../api/run";
import { useRunId } from "../../app/Shell";
import { Waiting } from "../../app/Waiting";
import { plasticOf, Section, type Side, Swatch } from "../../sheet/Swatch";
import { Button } from "../../ui/controls";

/** So much larger than life the large strips are. */
const LARGER = 10;

export function Grades() {
  const runId = useRunId();
  const { data: view, error } = useStation(runId, "first_layer");
  if (!view) return <Waiting wrong={error} />;
  const { filament } = view.head;
  return (
    <main className="mx-auto w-[190mm] max-w-full bg-paper p-4 print:p-0" style={plasticOf(filament.colour)}>
      <div className="no-print mb-3 flex flex-wrap gap-3">
        <Button onClick={() => window.print()}>Print this page</Button>
        <Link className="flex min-h-11 items-center underline underline-offset-4" to={`/runs/${runId}/first_layer`}>
          Back to First layer
        </Link>
      </div>
      <h1 className="text-xl font-semibold">First layer, seven grades: {filament.name}</h1>
      <p className="text-sm text-graphite">
        Line {view.plan.line_mm.toFixed(2)}, layer {view.plan.layer_mm.toFixed(2)} mm. Hold the patch beside it, under
        one low light from the side. Printed at 100 %, it also shows each as large as it is.
      </p>
      <table className="mt-2 w-full table-fixed text-sm">
        <thead className="text-left text-graphite">
          <tr>
            <th className="w-[34mm] font-normal">grade</th>
            <th className="font-normal">from above, ×{LARGER}</th>
            <th className="font-normal">from below, ×{LARGER}</th>
            <th className="hidden font-normal print:table-cell">as large as it is</th>
          </tr>
        </thead>
        <tbody>
          {view.cards.map((card) => (
            <tr key={card.grade} className="align-top">
              <td className="pt-1 pr-2">
                <p className="text-base font-semibold">
                  {card.key} {card.word}
                </p>
                <p>{card.look}</p>
                <p className="text-graphite">gap {reach(card)}</p>
                <svg width="32mm" height="7mm" viewBox="0 0 32 7" aria-hidden="true">
                  <Section swatch={card.swatch} x={0} y={6.5} lines={3} perMm={LARGER} thin />
                </svg>
              </td>
              <Strip card={card} side="top" larger={LARGER} wide={50} />
              <Strip card={card} side="under" larger={LARGER} wide={50} />
              <Strip card={card} side="top" larger={1} wide={40} onPaper />
            </tr>
          ))}
        </tbody>
      </table>
      <svg style={{ width: "min(100%, 110mm)" }} viewBox="0 0 110 9" role="img" aria-label="A line of 100 mm">
        <path d="M1 1v4M1 3H101M101 1v4" stroke="var(--ink)" strokeWidth="0.3" fill="none" />
        <text x={1} y={8.5} fontSize={3} fill="var(--ink)">
          100 mm. If it measures otherwise, print again at 100 %.
        </text>
      </svg>
    </main>
  );
}

function Strip({
  card,
  side,
  larger,
  wide,
  onPaper = false,
}: {
  card: Schemas["GradeCard"];
  side: Side;
  larger: number;
  wide: number;
  /** Finer than a screen can show. */
  onPaper?: boolean;
}) {
  return (
    <td className={`py-[1mm] pr-[2mm] ${onPaper ? "hidden print:table-cell" : ""}`}>
      <svg
        style={{ width: `min(100%, ${wide}mm)` }}
        viewBox={`0 0 ${wide} 24`}
        role="img"
        aria-label={`${card.word}, ${side}`}
      >
        <Swatch swatch={card.swatch} width={wide} height={24} side={side} pitch={card.swatch.pitch_mm * larger} />
      </svg>
    </td>
  );
}

function reach({ from_mm, to_mm }: Schemas["GradeCard"]): string {
  if (to_mm === null) return `over ${from_mm?.toFixed(2)} mm`;
  if (from_mm === null) return `under ${to_mm?.toFixed(2)} mm`;
  return `${from_mm?.toFixed(2)} to ${to_mm?.toFixed(2)} mm`;
}
