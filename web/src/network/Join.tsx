/** A device that was not let in: the code that the first machine shows. */
import { type FormEvent, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useJoin, useMe } from "../api/network";
import { Button, Field } from "../ui/controls";

export function Join() {
  const { data: me } = useMe();
  const join = useJoin();
  const navigate = useNavigate();
  const [code, setCode] = useState(() => decodeURIComponent(window.location.hash.slice(1)));
  const [missing, setMissing] = useState(false);
  useEffect(() => {
    document.title = "Let in · Ivory Table";
    // The code is used once: it need not stay in the address.
    if (window.location.hash) window.history.replaceState(null, "", window.location.pathname);
  }, []);
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setMissing(!code.trim());
    if (code.trim()) join.mutate(code, { onSuccess: () => navigate("/") });
  };
  const wrong = missing ? "Type the code." : join.error?.problem.message;
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center gap-4 p-6">
      <p className="font-semibold">Ivory Table</p>
      <h1 className="text-2xl leading-tight font-semibold">
        {me?.role ? `This device is let in as ${me.name}` : "Type the code that the first machine shows"}
      </h1>
      <p className="text-graphite">
        {me?.role
          ? "Go to the bench, or let it in anew with another code."
          : "At the machine that runs Ivory Table: Network, Let a device in. A code is good for ten minutes and for one device."}
      </p>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="Code"
          value={code}
          autoFocus
          maxLength={20}
          autoCapitalize="characters"
          spellCheck={false}
          className="[&_input]:text-2xl [&_input]:tracking-[0.2em] [&_input]:uppercase"
          onChange={(e) => setCode(e.target.value)}
          wrong={wrong}
        />
        <Button look="main" type="submit" disabled={join.isPending}>
          Come in
        </Button>
      </form>
      {me?.role && (
        <Button look="quiet" onClick={() => navigate("/")}>
          to the bench
        </Button>
      )}
    </main>
  );
}
