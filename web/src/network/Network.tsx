/** The workshop's network: which devices are let in and for what, letting one in, and who moved what. */
import { type FormEvent, useEffect, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { may, type NetworkView, useKeepDevice, useLeave, useLetIn, useNetwork } from "../api/network";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Button, Choice, Field, Panel, Wrong } from "../ui/controls";
import { clock, day } from "../ui/words";

export function Network() {
  const { data: view, error } = useNetwork();
  useEffect(() => {
    document.title = "Network · Ivory Table";
  }, []);
  if (!view) return <Waiting wrong={error} />;
  const first = may(view.me, "here");
  return (
    <div className="mx-auto flex min-h-dvh max-w-7xl flex-col px-4 lg:px-6">
      <header className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-hairline py-1">
        <Link to="/" className="flex min-h-11 items-center font-semibold lg:text-xl">
          Ivory Table
        </Link>
        <h1 className="text-graphite">Network</h1>
        <p className="ml-auto text-sm text-graphite">{view.me.words}</p>
      </header>
      <div className="grid flex-1 content-start gap-6 py-4 lg:grid-cols-[minmax(0,1fr)_392px]">
        <main className="order-2 flex flex-col gap-6 lg:order-1">
          <Devices view={view} first={first} />
          <Done done={view.done} />
        </main>
        <section
          aria-label="What to do now"
          className="order-1 flex flex-col gap-3 self-start rounded-[6px] border border-hairline bg-paper p-4 lg:order-2"
        >
          {!view.me.on ? <Alone /> : first ? <LetIn view={view} /> : <Yours view={view} />}
        </section>
      </div>
      <Finder />
    </div>
  );
}

/** Off by default: how it is switched on, and what that means. */
function Alone() {
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">Only this machine is answered</h2>
      <p>
        To work at a machine with a tablet, start the server with <code className="font-mono">serve --lan</code>. Every
        device is then let in by a code, for what you say.
      </p>
      <p className="text-sm text-graphite">
        Do that on the workshop's own network only. Whoever moves a machine from a tablet stands at it and sees it.
      </p>
    </>
  );
}

function LetIn({ view }: { view: NetworkView }) {
  const letIn = useLetIn();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Schemas["NewCode"]["role"]>("work");
  const [missing, setMissing] = useState(false);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setMissing(!name.trim());
    if (!name.trim()) return;
    setDevicesThen(view.devices.length);
    letIn.mutate({ name: name.trim(), role });
  };
  const given = letIn.data;
  // Once somebody came in by it, it lets nobody else in.
  const [devicesThen, setDevicesThen] = useState(0);
  const used = view.devices.length > devicesThen;
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">Let a device in</h2>
      {given && used && <p role="status">{view.devices[0]?.device.name} is in.</p>}
      {given && !used && (
        <Panel tone="brass">
          <div className="flex flex-col items-center gap-2 text-center">
            <img src={given.qr} alt="The code, to be scanned" className="w-52 bg-white" />
            <p className="font-mono text-3xl tracking-[0.15em]">
              {given.code.slice(0, 4)} {given.code.slice(4)}
            </p>
            <p className="text-sm">
              Scan it, or open <span className="font-mono break-all">{given.address.split("#")[0]}</span> and type it.
              One device, until {clock(given.until)}.
            </p>
          </div>
        </Panel>
      )}
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="What the device is called"
          placeholder="tablet at Heron"
          value={name}
          maxLength={40}
          onChange={(e) => setName(e.target.value)}
          wrong={missing ? "Give it a name, so that it can be found again and shut out." : null}
        />
        <Choice
          label="It may"
          value={role}
          onChange={(r) => setRole(r as typeof role)}
          options={Object.entries(view.roles).map(([value, text]) => ({ value, text }))}
        />
        {role === "move" && (
          <p className="border-l-2 border-brass pl-3 text-sm">
            This device starts motion and heat. Give it to somebody who stands at the machine, knows it and sees it;
            your workshop's own rules come first.
          </p>
        )}
        <Wrong wrong={letIn.error} />
        <Button look="main" type="submit" disabled={letIn.isPending}>
          Show a code
        </Button>
      </form>
      <div className="border-t border-hairline pt-2 text-sm">
        <p>
          Found at{" "}
          {view.addresses.length ? (
            <span className="font-mono break-all">{view.addresses.join(", ")}</span>
          ) : (
            "no address: this machine is on no network now"
          )}
        </p>
        <p className={view.encrypted ? "text-graphite" : "text-brass"}>
          {view.encrypted
            ? "What goes over the network is encrypted."
            : "Nothing is encrypted: whoever shares this network can read along and pretend to be a device that was let in. Use the workshop's own network only, or a certificate."}
        </p>
      </div>
    </>
  );
}

/** What a device may do, and putting it back into its drawer. */
function Yours({ view }: { view: NetworkView }) {
  const leave = useLeave();
  return (
    <>
      <h2 className="text-2xl leading-tight font-semibold">{view.me.name}</h2>
      <p>
        This device may {view.me.words.split(": may ")[1]}. Letting in and shutting out is done at the first machine.
      </p>
      <Wrong wrong={leave.error} />
      <Button disabled={leave.isPending} onClick={() => leave.mutate()}>
        Shut this device out
      </Button>
    </>
  );
}

function Devices({ view, first }: { view: NetworkView; first: boolean }) {
  const keep = useKeepDevice();
  return (
    <div>
      <h2 className="mb-1 text-graphite">Devices</h2>
      <Wrong wrong={keep.error} />
      {view.devices.length ? (
        <ul>
          {view.devices.map(({ device, words, seen_s_ago }) => (
            <li key={device.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-hairline py-1">
              <span className={`w-44 font-semibold ${device.shut_out_at ? "text-graphite line-through" : ""}`}>
                {device.name}
              </span>
              <span className="text-sm">{device.shut_out_at ? `shut out ${day(device.shut_out_at)}` : words}</span>
              <span className="text-sm text-graphite">{device.shut_out_at ? "" : ago(seen_s_ago)}</span>
              {first && !device.shut_out_at && (
                <span className="ml-auto flex items-center gap-3">
                  <select
                    aria-label={`What ${device.name} may do`}
                    className="min-h-11 rounded-[4px] border border-graphite bg-paper px-2 text-sm"
                    value={device.role}
                    onChange={(e) =>
                      keep.mutate({ id: device.id, keep: { name: device.name, role: e.target.value as "look" } })
                    }
                  >
                    {Object.keys(view.roles).map((role) => (
                      <option key={role} value={role}>
                        {role}
                      </option>
                    ))}
                  </select>
                  <Button className="text-sm" onClick={() => keep.mutate({ id: device.id, keep: "shut out" })}>
                    Shut out
                  </Button>
                </span>
              )}
            </li>
          ))}
        </ul>
      ) : (
        <p>No device was let in yet.</p>
      )}
    </div>
  );
}

function ago(seconds: number | null): string {
  if (seconds === null) return "not seen since the server began";
  if (seconds < 90) return "here now";
  return seconds < 5400 ? `seen ${Math.round(seconds / 60)} min ago` : `seen ${Math.round(seconds / 3600)} h ago`;
}

function Done({ done }: { done: NetworkView["done"] }) {
  return (
    <div>
      <h2 className="mb-1 text-graphite">Who moved what, newest first</h2>
      {done.length ? (
        <ol className="text-sm">
          {done.slice(0, 60).map((d) => (
            <li key={`${d.at}${d.words}`} className="flex flex-wrap gap-x-3 border-b border-hairline py-1">
              <span className="w-32 font-mono text-graphite">{day(d.at)}</span>
              <span className="w-40 font-semibold">{d.name}</span>
              <span>{d.words}</span>
              {d.refused && (
                <span className="text-madder">
                  {d.refused === "not_allowed" ? "not allowed, not done" : "refused, not done"}
                </span>
              )}
            </li>
          ))}
        </ol>
      ) : (
        <p>Nothing yet.</p>
      )}
    </div>
  );
}
