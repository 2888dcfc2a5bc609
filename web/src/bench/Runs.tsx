/** Every run there is, found by the words that stand in its line. */
import { useInfiniteQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, api, type Refusal, type Schemas } from "../api/client";
import { Finder } from "../app/Finder";
import { Waiting } from "../app/Waiting";
import { Button, Field, Wrong } from "../ui/controls";
import { RunRow } from "./RunRow";

type Found = Schemas["RunsFound"];
type Next = Found["next"];

export function Runs() {
  const [at, setAt] = useSearchParams();
  const text = at.get("find") ?? "";
  const found = useInfiniteQuery<Found, Refusal, { pages: Found[] }, string[], Next>({
    queryKey: ["found", text],
    queryFn: ({ pageParam }) =>
      answer(
        api.GET("/api/found", {
          params: { query: { text, started_at: pageParam?.started_at, run_id: pageParam?.run_id } },
        }),
      ) as unknown as Promise<Found>,
    initialPageParam: null,
    getNextPageParam: (last) => last.next,
    placeholderData: (was) => was,
  });
  useEffect(() => {
    document.title = "Runs · Ivory Table";
  }, []);
  if (!found.data) return <Waiting wrong={found.error} />;
  const runs = found.data.pages.flatMap((p) => p.runs);
  return (
    <div className="mx-auto flex min-h-dvh max-w-5xl flex-col px-4 lg:px-6">
      <header className="flex min-h-12 items-center gap-x-4 border-b border-hairline py-1">
        <Link to="/" className="flex min-h-11 items-center font-semibold lg:text-xl">
          Ivory Table
        </Link>
        <h1 className="text-graphite">All runs</h1>
        <a
          className="ml-auto flex min-h-11 items-center text-sm underline underline-offset-4"
          href={`/api/found/csv?text=${encodeURIComponent(text)}`}
        >
          as a table (CSV)
        </a>
      </header>
      <main className="py-4">
        <Field
          label="Machine, plate, filament, initials, day or state, in any order"
          placeholder="heron white mk 2026-03"
          value={text}
          autoFocus
          maxLength={200}
          onChange={(e) => setAt(e.target.value ? { find: e.target.value } : {}, { replace: true })}
        />
        <ul className="mt-3" aria-live="polite">
          {runs.map((r) => (
            <RunRow key={r.id} run={r} />
          ))}
        </ul>
        {!runs.length && <p>No run is like that. Take a word away.</p>}
        <Wrong wrong={found.error} />
        {found.hasNextPage && (
          <Button className="mt-3" disabled={found.isFetchingNextPage} onClick={() => found.fetchNextPage()}>
            Older ones
          </Button>
        )}
      </main>
      <Finder />
    </div>
  );
}
