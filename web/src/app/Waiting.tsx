/** What is shown before a page's first view is there, or when there is none. */
import { Link } from "react-router";
import type { Refusal } from "../api/client";
import { Button } from "../ui/controls";

export function Waiting({ wrong }: { wrong: Refusal | null }) {
  return (
    <main className="grid min-h-dvh place-items-center p-6 text-center" aria-busy={!wrong}>
      {wrong ? (
        <div className="flex flex-col items-center gap-3">
          <h1 className="text-xl font-semibold">{wrong.problem.message}</h1>
          <Link to="/" className="flex min-h-11 items-center underline underline-offset-4">
            To the bench
          </Link>
        </div>
      ) : (
        <h1 className="text-graphite">Laying out the sheet</h1>
      )}
    </main>
  );
}

/** A page that cannot be shown, as after an update of the server while it was open: what was kept is kept. */
export function Broken() {
  return (
    <main className="grid min-h-dvh place-items-center p-6 text-center">
      <div className="flex flex-col items-center gap-3">
        <h1 className="text-xl font-semibold">This page could not be shown.</h1>
        <p className="text-graphite">
          What was kept is kept. Load the page again; if that does not help, go to the bench.
        </p>
        <Button onClick={() => window.location.reload()}>Load it again</Button>
        <a href="/" className="flex min-h-11 items-center underline underline-offset-4">
          To the bench
        </a>
      </div>
    </main>
  );
}

/** An address that leads nowhere says so. */
export function NoSuchPage() {
  return (
    <main className="grid min-h-dvh place-items-center p-6 text-center">
      <div className="flex flex-col items-center gap-3">
        <h1 className="text-xl font-semibold">There is no page at this address.</h1>
        <p className="text-graphite">Perhaps a letter is missing. Every machine and run is found from the bench.</p>
        <Link to="/" className="flex min-h-11 items-center underline underline-offset-4">
          To the bench
        </Link>
      </div>
    </main>
  );
}
