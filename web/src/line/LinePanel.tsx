/** The machine on the line, on the slip: its question, its work, what it offers to do here, or how to connect it. */
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import type { Refusal } from "../api/client";
import type { LineStatus, LineView } from "../api/line";
import { useManners } from "../api/manner";
import type { Zones } from "../api/run";
import { useKeys } from "../app/keys";
import { Button, Choice, Field, Panel, Wrong } from "../ui/controls";
import { typedNumber } from "../ui/words";
import { Asked, Fallen } from "./asked";
import type { Line } from "./useLine";

/** Always in the same place while a machine is on the line; Escape presses it while something may move. */
export function StopButton({ line }: { line: Pick<Line, "status" | "tell" | "active" | "on"> }) {
  const stop = () => line.tell.mutate({ tell: "stop" });
  useKeys(line.active ? [{ keys: ["Escape"], cap: "Esc", does: "stop", run: stop, everywhere: true }] : []);
  if (!line.on || line.status?.state === "lost") return null;
  return (
    <button
      type="button"
      onClick={stop}
      className="min-h-11 min-w-24 rounded-[4px] border-2 border-madder bg-madder px-4 text-lg font-semibold text-paper"
    >
      Stop
    </button>
  );
}

/** Somebody else is at this line: asked for here, handed over there. */
function Held({ line }: { line: Line }) {
  const { status, tell, me } = line;
  if (!status?.held_by || !line.on) return null;
  const mine = !me?.device || status.held_by.device === me.device;
  if (mine && !status.asked_by) return null;
  if (mine)
    return (
      <Panel tone="brass">
        <p role="alert" className="font-medium">
          {status.asked_by?.name} asks for {line.machine.name}'s line.
        </p>
        <div className="mt-2 grid grid-cols-2 gap-2">
          <Button onClick={() => tell.mutate({ tell: "hand-over", yes: true })}>Hand it over</Button>
          <Button onClick={() => tell.mutate({ tell: "hand-over", yes: false })}>Keep it</Button>
        </div>
      </Panel>
    );
  return (
    <Panel tone="brass">
      <p>
        {status.held_by.name} is at {line.machine.name}'s line. Stop works from here too.
      </p>
      {line.moves && (
        <Button className="mt-2 w-full" disabled={tell.isPending} onClick={() => tell.mutate({ tell: "ask" })}>
          {status.asked_by?.device === me?.device ? "Asked; ask again" : "Ask for the line"}
        </Button>
      )}
    </Panel>
  );
}

/** Above the slip: what went wrong, what is asked, what is being done, what the machine can do here. */
export function LineNow({ line, zones = "advised" }: { line: Line; zones?: Zones }) {
  const { status, here, tell } = line;
  if (!status || (!line.on && !status.heat_words)) return null;
  return (
    <section aria-label="The machine on the line" className="flex flex-col gap-2">
      {status.heat_words && (
        <Panel tone="brass">
          <p role="status">{status.heat_words}</p>
          {status.state === "idle" && (
            <Button className="mt-2 w-full" disabled={tell.isPending} onClick={() => tell.mutate({ tell: "cool" })}>
              Switch the heaters off
            </Button>
          )}
        </Panel>
      )}
      <Held line={line} />
      <Fallen status={status} tell={tell} />
      {status.state === "connecting" && <p className="text-graphite">{status.words}</p>}
      {status.state === "waiting" && <Question line={line} />}
      {status.state === "busy" && <Working status={status} />}
      {line.active && here?.printing && <Live line={line} here={here} />}
      {line.active && (
        <Button look="quiet" className="self-start" onClick={() => tell.mutate({ tell: "cancel" })}>
          cancel after this move
        </Button>
      )}
      {status.state === "idle" && status.words && (
        <p className="border-l-2 border-brass pl-3 text-sm" role="status">
          {status.words}
        </p>
      )}
      {here && !line.active && here.unproved.length > 0 && (
        <p className="border-l-2 border-brass pl-3 text-sm">
          Not proved on {line.machine.name} yet: {here.unproved.slice(0, 3).join(", ")}
          {here.unproved.length > 3 ? ` and ${here.unproved.length - 3} more` : ""}.{" "}
          <Link className="underline underline-offset-4" to={`/machines/${line.machine.id}/talk?page=prove`}>
            Prove
          </Link>
        </p>
      )}
      {here && !line.active && line.moves && <Offers line={line} here={here} zones={zones} />}
      {!heatersAsked(tell.error as Refusal | null) && <Wrong wrong={tell.error as Refusal | null} />}
    </section>
  );
}

/** Below the slip: connecting and leaving, the heat, everything said. */
export function LineRest({ line }: { line: Line }) {
  const { status, here, tell, machine } = line;
  if (!status) return null;
  if (!line.moves) return <p className="border-t border-hairline pt-2 text-sm">{line.me?.words}, not move machines.</p>;
  if (!line.on)
    return (
      <div className="flex flex-col gap-2 border-t border-hairline pt-3">
        <ConnectForm line={line} />
        <Wrong wrong={tell.error as Refusal | null} />
      </div>
    );
  return (
    <div className="border-t border-hairline pt-2">
      {status.state !== "lost" && <Heat status={status} here={here} />}
      {heatersAsked(tell.error as Refusal | null) && (
        <Panel tone="brass">
          <p role="alert">{(tell.error as Refusal).problem.message}</p>
          <div className="mt-2 grid grid-cols-2 gap-2">
            <Button onClick={() => tell.mutate({ tell: "disconnect", heaters: "off" })}>Off, then leave</Button>
            <Button onClick={() => tell.mutate({ tell: "disconnect", heaters: "leave" })}>Leave it hot</Button>
          </div>
        </Panel>
      )}
      {line.crashes.length > 0 && (
        <p className="mt-1 border-l-2 border-madder pl-3 text-sm">
          The machine does not know it, the trainer does: {line.crashes.length}{" "}
          {line.crashes.length > 1 ? "crashes" : "crash"}, the last {line.crashes.at(-1)}.
        </p>
      )}
      <p className="flex flex-wrap gap-x-4 text-sm">
        <QuietTell does="leave the line" act={() => tell.mutate({ tell: "disconnect", heaters: null })} />
        <a
          className="flex min-h-11 items-center text-graphite underline underline-offset-4"
          href={`/api/machines/${machine.id}/line/log`}
        >
          everything said
        </a>
        {machine.practice && !line.active && (
          <QuietTell does="knock the plate crooked" act={() => tell.mutate({ tell: "disturb" })} />
        )}
      </p>
    </div>
  );
}

/** Whether leaving the line was answered with the question what shall become of the heaters. */
const heatersAsked = (wrong: Refusal | null) => wrong?.problem?.code === "heaters_on";

function QuietTell({ does, act }: { does: string; act: () => void }) {
  return (
    <button type="button" className="min-h-11 text-graphite underline underline-offset-4 hover:text-ink" onClick={act}>
      {does}
    </button>
  );
}

function ConnectForm({ line }: { line: Line }) {
  const { machine, tell, status } = line;
  const [open, setOpen] = useState(false);
  const [url, setUrl] = useState(status?.url ?? "");
  const [manner, setManner] = useState(machine.manner);
  const known = status?.url;
  const manners = useManners();
  const connect = (e?: FormEvent) => {
    e?.preventDefault();
    tell.mutate({ tell: "connect", url: open ? url : null, manner: open ? manner : null });
  };
  return (
    <form onSubmit={connect} className="flex flex-col gap-2">
      {open && (
        <div className="grid grid-cols-[1fr_8rem] gap-2">
          <Field label="Line: a device, or socket://host:port" value={url} onChange={(e) => setUrl(e.target.value)} />
          <Choice
            label="Manner"
            value={manner}
            onChange={setManner}
            options={(manners.data ?? [{ id: manner, name: manner }]).map((m) => ({ value: m.id, text: m.name }))}
          />
        </div>
      )}
      <div className="flex items-center justify-between gap-3">
        <Button type="submit" disabled={tell.isPending || (!known && !open)}>
          Take {machine.name} on the line
        </Button>
        <Button look="quiet" className="text-sm" onClick={() => setOpen(!open)}>
          {open ? "as it was" : "where and how"}
        </Button>
      </div>
    </form>
  );
}

function Question({ line }: { line: Line }) {
  const { status, tell, machine } = line;
  if (!status) return null;
  return (
    <Asked
      status={status}
      tell={tell}
      practise={machine.practice ? () => tell.mutate({ tell: "practice" }) : undefined}
    />
  );
}

const minutes = (s: number) => (s >= 90 ? `${Math.round(s / 60)} min` : `${Math.round(s)} s`);

function Working({ status }: { status: LineStatus }) {
  const share = status.share ?? null;
  return (
    <div>
      <p className="text-graphite">{status.job}</p>
      <h2 className="text-2xl leading-tight font-semibold" aria-live="polite">
        {status.words}
      </h2>
      {share !== null && (
        <>
          <div
            className="mt-2 h-2 w-full rounded-[2px] border border-ink"
            role="progressbar"
            aria-label="done so far"
            aria-valuenow={Math.round(100 * share)}
          >
            <div className="h-full bg-ink" style={{ width: `${100 * share}%` }} />
          </div>
          <p className="flex justify-between font-mono text-sm text-graphite">
            <span>{Math.round(100 * share)} %</span>
            <span>{status.left_s ? `${minutes(status.left_s)} left` : ""}</span>
          </p>
        </>
      )}
      {status.queued > 0 && <p className="text-sm text-graphite">{status.queued} more in the queue</p>}
    </div>
  );
}

function Heat({ status, here }: { status: LineStatus; here?: LineView }) {
  const one = (name: string, now: number | null | undefined, target: number | null | undefined) =>
    now == null ? "" : `${name} ${now.toFixed(0)}${target ? ` of ${target.toFixed(0)}` : ""} °C`;
  return (
    <p className="flex flex-wrap gap-x-4 font-mono text-sm text-graphite">
      <span>{one("plate", status.bed_c, status.bed_target_c)}</span>
      <span>{one("tip", status.tip_c, status.tip_target_c)}</span>
      <span>
        {status.state === "busy"
          ? ""
          : status.homed && status.position_mm
            ? `z ${(status.position_mm[2] ?? 0).toFixed(3)}`
            : "position unknown"}
      </span>
      {here?.hold && <span className="w-full font-sans">{here.hold.words}</span>}
    </p>
  );
}

function Offers({ line, here, zones }: { line: Line; here: LineView; zones: Zones }) {
  const { tell } = line;
  if (!here.offers.length) return null;
  return (
    <div className="flex flex-col gap-2">
      {here.offers.map((o) => (
        <div key={o.job} className="border-l-2 border-brass pl-3">
          <Button
            className="w-full font-semibold"
            disabled={Boolean(o.why_not) || tell.isPending}
            onClick={() => tell.mutate({ tell: "start", job: o.job, zones })}
          >
            {o.name}
          </Button>
          <p className="mt-1 text-sm text-graphite">
            {o.why_not ? <span className="text-brass">{o.why_not}</span> : `${o.moves.join("; ")}.`}
          </p>
        </div>
      ))}
    </div>
  );
}

/** While a proof prints: live changes, recorded as they happen and settled at the end. */
function Live({ line, here }: { line: Line; here: LineView }) {
  const [by, setBy] = useState("0.02");
  const [percent, setPercent] = useState("");
  const mm = typedNumber(by);
  const wrongBy = mm !== null && mm > 0 && mm <= 0.2 ? null : "Give 0.01 to 0.2 mm.";
  const share = typedNumber(percent);
  const wrongPercent = !percent || (share !== null && share >= 10 && share <= 300) ? null : "Give 10 to 300 %.";
  const nudge = (sign: number) => mm !== null && !wrongBy && line.tell.mutate({ tell: "nudge", away_mm: sign * mm });
  return (
    <div className="flex flex-col gap-2 border-t border-hairline pt-2">
      <p className="text-sm text-graphite">
        Live, while it prints. Nudged so far: {here.nudged_mm ? `${here.nudged_mm.toFixed(2)} mm` : "nothing"}; speed{" "}
        {here.speed_percent.toFixed(0)} %.
      </p>
      <div className="grid grid-cols-[1fr_1fr_6.5rem] items-end gap-2">
        <Button onClick={() => nudge(-1)}>closer</Button>
        <Button onClick={() => nudge(1)}>further</Button>
        <Field label="by, mm" inputMode="decimal" value={by} onChange={(e) => setBy(e.target.value)} wrong={wrongBy} />
      </div>
      <form
        className="grid grid-cols-[1fr_6.5rem] items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (share !== null && percent && !wrongPercent) line.tell.mutate({ tell: "speed", percent: share });
        }}
      >
        <Button type="submit">set the speed</Button>
        <Field
          label="speed, %"
          inputMode="decimal"
          placeholder={here.speed_percent.toFixed(0)}
          value={percent}
          onChange={(e) => setPercent(e.target.value)}
          wrong={wrongPercent}
        />
      </form>
    </div>
  );
}
