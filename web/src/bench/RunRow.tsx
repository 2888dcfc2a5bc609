/** One run in a list: whose, with what, where it stands; leads into it. */
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { day } from "../ui/words";

export function RunRow({ run }: { run: Schemas["RunLine"] }) {
  return (
    <li className="border-b border-hairline">
      <Link
        to={`/runs/${run.id}/${run.signed_off ? "sign_off" : "tram"}`}
        className="flex min-h-11 flex-wrap content-center items-center gap-x-4"
      >
        <span className="w-24 font-semibold">{run.machine_name}</span>
        <span className="max-sm:order-2">
          {run.plate_name}, {run.filament_name}
        </span>
        <span className="text-graphite max-sm:order-2">{run.words}</span>
        <span className="ml-auto font-mono text-sm text-graphite">
          {day(run.started_at)} {run.initials}
        </span>
      </Link>
    </li>
  );
}
