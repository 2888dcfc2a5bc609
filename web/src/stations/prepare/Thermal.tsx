/** The thermal study: a dial at the centre and the screws, by temperature; its curves and what they say. */
import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { KeepEntry, WithHead } from "../../api/run";
import { path, straight, ticks } from "../../sheet/frame";
import { Button, Choice, Field } from "../../ui/controls";
import { signed, typedMm, typedNumber } from "../../ui/words";

type View = WithHead<Schemas["PrepareView"]>;

export function Thermal({ view, keep, busy }: { view: View; keep: KeepEntry; busy: boolean }) {
  const { thermal } = view;
  return (
    <details className="border-t border-hairline" open={view.school !== "hot"}>
      <summary className="flex min-h-11 cursor-pointer items-center font-medium">
        Thermal study{thermal.curves.length ? `, ${thermal.curves.length} places` : ""}
      </summary>
      <div className="flex flex-col gap-2 pb-2">
        {thermal.curves.length > 0 && <Curves view={view} />}
        {thermal.words.map((w) => (
          <p key={w} className="text-sm">
            {w}
          </p>
        ))}
        {Object.keys(thermal.correction).length > 0 && (
          <ul className="font-mono text-sm">
            {Object.entries(thermal.correction).map(([place, mm]) => (
              <li key={place} className="flex justify-between">
                <span>{place}</span>
                <span>{signed(mm, 3)} mm</span>
              </li>
            ))}
          </ul>
        )}
        <ReadOne view={view} keep={keep} busy={busy} />
      </div>
    </details>
  );
}

const STROKES = ["none", "6 3", "2 3", "8 3 2 3", "1 2", "10 4"];

function Curves({ view }: { view: View }) {
  const { curves, still_c } = view.thermal;
  const all = curves.flatMap((c) => c.height_mm.map((h, k) => [c.bed_c[k] ?? 0, h] as const));
  const [coldest, hottest] = [Math.min(...all.map((p) => p[0])) - 2, Math.max(...all.map((p) => p[0])) + 2];
  const t = straight(coldest, hottest, 34, 300);
  const span = Math.max(...all.map((p) => p[1])) - Math.min(...all.map((p) => p[1]));
  const lowest = Math.min(...all.map((p) => p[1])) - 0.1 * span - 0.005;
  const highest = Math.max(...all.map((p) => p[1])) + 0.1 * span + 0.005;
  const h = straight(lowest, highest, 122, 6);
  return (
    <svg viewBox="0 0 330 146" role="img" aria-label="Height by temperature of the plate">
      {still_c && (
        <rect
          x={t(still_c[0])}
          y={6}
          width={t(still_c[1]) - t(still_c[0])}
          height={116}
          fill="var(--verdigris)"
          fillOpacity={0.15}
        />
      )}
      <path d="M34 6V122H304" fill="none" stroke="var(--graphite)" />
      {ticks(coldest, hottest, 4).map((c) => (
        <text key={c} x={t(c)} y={138} textAnchor="middle" className="svg-words">
          {c}°
        </text>
      ))}
      {ticks(lowest, highest).map((mm) => (
        <text key={mm} x={30} y={h(mm) + 4} textAnchor="end" className="svg-words">
          {mm.toFixed(2)}
        </text>
      ))}
      {curves.map((c, k) => {
        const points = c.bed_c.map((b, i) => [t(b), h(c.height_mm[i] ?? 0)] as [number, number]);
        const end = points[points.length - 1];
        return (
          <g key={c.place}>
            <path
              d={path(points)}
              fill="none"
              stroke={c.place === "centre" ? "var(--madder)" : "var(--slate)"}
              strokeWidth="2"
              strokeDasharray={STROKES[k % STROKES.length]}
            />
            {points.map(([x, y]) => (
              <circle key={`${x} ${y}`} cx={x} cy={y} r={2.5} fill="var(--ink)" />
            ))}
            {end && (c.place === "centre" || k === 1) && (
              <text x={Math.min(end[0], 292)} y={end[1] - 6} textAnchor="end" className="svg-words halo">
                {c.place}
              </text>
            )}
          </g>
        );
      })}
    </svg>
  );
}

function ReadOne({ view, keep, busy }: { view: View; keep: KeepEntry; busy: boolean }) {
  const [place, setPlace] = useState("centre");
  const [bed, setBed] = useState("22");
  const [held, setHeld] = useState("10");
  const [mm, setMm] = useState("");
  const [wrong, setWrong] = useState<{ bed?: string; held?: string; mm?: string }>({});
  const at = view.thermal.places.find((p) => p.place === place);
  return (
    <form
      className="grid grid-cols-2 gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const c = typedNumber(bed);
        const min = typedNumber(held);
        const reading = typedMm(mm, "0.042");
        const found = {
          bed: c === null || c < 0 || c > 150 ? "Give 0 to 150 °C." : undefined,
          held: min === null || min < 0 || min > 600 ? "Give 0 to 600 minutes." : undefined,
          mm: "wrong" in reading ? reading.wrong : undefined,
        };
        setWrong(found);
        if (found.bed || found.held || found.mm || !at || c === null || min === null || !("mm" in reading)) return;
        keep(
          {
            kind: "thermal_read",
            reading: { place, x_mm: at.x_mm, y_mm: at.y_mm, bed_c: c, height_mm: reading.mm, held_min: min },
          },
          () => setMm(""),
        );
      }}
    >
      <div className="col-span-2">
        <Choice
          label="Dial at"
          value={place}
          onChange={setPlace}
          options={view.thermal.places.map((p) => ({ value: p.place, text: p.place }))}
        />
      </div>
      <Field
        label="Plate"
        unit="°C"
        inputMode="decimal"
        value={bed}
        onChange={(e) => setBed(e.target.value)}
        wrong={wrong.bed}
      />
      <Field
        label="Held for"
        unit="min"
        inputMode="decimal"
        value={held}
        onChange={(e) => setHeld(e.target.value)}
        wrong={wrong.held}
      />
      <Field
        label="Dial, high is positive"
        unit="mm"
        inputMode="decimal"
        value={mm}
        onChange={(e) => setMm(e.target.value)}
        wrong={wrong.mm}
      />
      <Button type="submit" className="self-end" disabled={busy}>
        Keep reading
      </Button>
    </form>
  );
}
