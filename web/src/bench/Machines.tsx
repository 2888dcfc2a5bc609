/** All machines: as plates where they are few, a line each where they are many; found by name, in the order asked for. */
import { useSearchParams } from "react-router";
import type { Schemas } from "../api/client";
import { day, signed } from "../ui/words";
import { isDue, MachinePlan } from "./MachinePlan";

type Line = Schemas["MachineLine"];

/** As many plates as are seen at once. */
const FEW = 8;
const never = "9999";
const ORDERS: Record<string, { text: string; by: (a: Line, b: Line) => number }> = {
  name: { text: "by name", by: (a, b) => a.machine.name.localeCompare(b.machine.name) },
  due: {
    text: "due first",
    by: (a, b) => (a.expected?.due_at ?? never).localeCompare(b.expected?.due_at ?? never),
  },
  chance: {
    text: "least sure first",
    by: (a, b) => (a.expected?.p_today ?? 2) - (b.expected?.p_today ?? 2),
  },
  newest: {
    text: "last worked on first",
    by: (a, b) => (b.last_run?.started_at ?? "").localeCompare(a.last_run?.started_at ?? ""),
  },
};
const SHOWN: Record<string, { text: string; is: (m: Line) => boolean }> = {
  all: { text: "all", is: () => true },
  due: { text: "due", is: isDue },
  open: { text: "with an open run", is: (m) => m.open_run !== null },
  line: { text: "on the line", is: (m) => m.on_line !== null },
};

export function Machines({
  machines,
  chosen,
  choose,
}: {
  machines: Line[];
  chosen: Line;
  choose: (id: string) => void;
}) {
  const [at, setAt] = useSearchParams();
  const text = at.get("find") ?? "";
  const order = ORDERS[at.get("order") ?? ""] ?? ORDERS.name;
  const shown = SHOWN[at.get("show") ?? ""] ?? SHOWN.all;
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(at);
    if (value) next.set(name, value);
    else next.delete(name);
    setAt(next, { replace: true });
  };
  const found = machines.filter((m) => shown?.is(m) && words(m).includes(text.toLowerCase().trim())).sort(order?.by);
  return (
    <>
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-graphite">
          Machines on the bench{found.length < machines.length && ` (${found.length} of ${machines.length})`}
        </h2>
        {machines.length > 3 && (
          <span className="ml-auto flex flex-wrap items-center gap-2 text-sm">
            {machines.length > FEW && (
              <input
                aria-label="Find a machine"
                placeholder="find a machine"
                className="min-h-11 w-40 rounded-[4px] border border-graphite bg-paper px-3"
                value={text}
                onChange={(e) => set("find", e.target.value)}
              />
            )}
            <Pick
              name="Which machines"
              value={at.get("show") ?? "all"}
              options={SHOWN}
              onChange={(v) => set("show", v)}
            />
            <Pick
              name="In which order"
              value={at.get("order") ?? "name"}
              options={ORDERS}
              onChange={(v) => set("order", v)}
            />
          </span>
        )}
      </div>
      {found.length === 0 && <p>No machine is like that.</p>}
      {machines.length <= FEW ? (
        <ul className="grid gap-4 sm:grid-cols-2">
          {found.map((m) => (
            <li key={m.machine.id}>
              <MachinePlan line={m} chosen={m === chosen} choose={() => choose(m.machine.id)} />
            </li>
          ))}
        </ul>
      ) : (
        <ul className="border-t border-hairline">
          {found.map((m) => (
            <li key={m.machine.id} className="border-b border-hairline">
              <Row line={m} chosen={m === chosen} choose={() => choose(m.machine.id)} />
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

const words = (m: Line) => `${m.machine.name} ${m.words} ${m.last_run?.initials ?? ""}`.toLowerCase();

function Pick({
  name,
  value,
  options,
  onChange,
}: {
  name: string;
  value: string;
  options: Record<string, { text: string }>;
  onChange: (value: string) => void;
}) {
  return (
    <select
      aria-label={name}
      className="min-h-11 rounded-[4px] border border-graphite bg-paper px-2"
      value={value}
      onChange={(e) => onChange(e.target.value)}
    >
      {Object.entries(options).map(([id, o]) => (
        <option key={id} value={id}>
          {o.text}
        </option>
      ))}
    </select>
  );
}

/** One line: name, chance, due, state, last value, who. */
function Row({ line, chosen, choose }: { line: Line; chosen: boolean; choose: () => void }) {
  const { machine, expected } = line;
  const due = isDue(line);
  return (
    <button
      type="button"
      onClick={choose}
      aria-pressed={chosen}
      className={`grid min-h-11 w-full grid-cols-[7rem_4rem_1fr] items-center gap-x-3 px-2 text-left sm:grid-cols-[8rem_4rem_7rem_minmax(0,1fr)_6rem_4rem] ${chosen ? "bg-paper outline-1 outline-brass" : "hover:bg-paper"}`}
    >
      <span className="truncate font-semibold">{machine.name}</span>
      <span className={`text-right font-mono ${due ? "font-semibold text-brass" : ""}`}>
        {expected ? `${Math.round(100 * expected.p_today)} %` : "–"}
      </span>
      <span className={`text-sm ${due ? "font-semibold text-brass" : "text-graphite"}`}>
        {expected?.due_at ? (due ? "look again" : day(expected.due_at).split(",")[0]) : ""}
      </span>
      <span className="hidden truncate text-sm sm:block">{line.on_line?.words || line.words}</span>
      <span className="hidden text-right font-mono text-sm sm:block">{signed(machine.stored_mm, 3)}</span>
      <span className="hidden text-right font-mono text-sm text-graphite sm:block">
        {line.last_run?.initials ?? ""}
      </span>
    </button>
  );
}
