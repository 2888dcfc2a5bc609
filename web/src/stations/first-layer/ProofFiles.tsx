import type { Schemas } from "../../api/client";
import { Panel } from "../../ui/controls";

/** What must be known of a proof before it is printed. */
export function PrintingWords({ printing }: { printing: Schemas["Printing"] }) {
  return (
    <>
      {printing.words && <p className="pt-1 text-sm">{printing.words}</p>}
      {printing.caution && (
        <Panel tone="brass">
          <p className="text-sm">{printing.caution}</p>
        </Panel>
      )}
    </>
  );
}

/** A proof to carry to the machine: its program, or its shapes. `query`: which proof, as the address asks for it. */
export function ProofFiles({
  runId,
  printing,
  query,
}: {
  runId: string;
  printing: Schemas["Printing"];
  query: string;
}) {
  const file = (ending: string) => `/api/runs/${runId}/proof.${ending}?${query}`;
  return (
    <>
      <a
        className="flex min-h-11 items-center justify-center rounded-[4px] border border-ink px-3 font-semibold"
        href={file("gcode")}
        download
      >
        Download the program
      </a>
      {printing.is_shape && (
        <p className="text-sm text-graphite">
          Its shapes, for jobs prepared elsewhere:{" "}
          {["stl", "3mf"].map((ending) => (
            <a key={ending} className="mr-3 underline underline-offset-4" href={file(ending)} download>
              {ending.toUpperCase()}
            </a>
          ))}
        </p>
      )}
    </>
  );
}
