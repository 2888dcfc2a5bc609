/** The head of a page about one machine beside its runs. */
import type { ReactNode } from "react";
import { Link } from "react-router";

export function PageHead({ machine, title, children }: { machine: string; title: string; children?: ReactNode }) {
  return (
    <header className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-hairline py-1">
      <Link to="/" className="flex min-h-11 items-center font-semibold lg:text-xl">
        Ivory Table
      </Link>
      <h1 className="text-graphite">
        {machine} · {title}
      </h1>
      {children}
    </header>
  );
}
