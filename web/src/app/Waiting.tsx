/** What is shown before a page's first view is there, or when there is none. */
import { Link } from "react-router";
import type { Refusal } from "../api/client";

export function Waiting({ wrong }: { wrong: Refusal | null }) {
  return (
    <main className="grid min-h-dvh place-items-center p-6 text-center">
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
