/** What only some devices may do: shown to those, and a sentence to the others. */
import type { ReactNode } from "react";
import { may, useMe } from "../api/network";

export function Need({ to: role, children }: { to: "work" | "move"; children?: ReactNode }) {
  const me = useMe().data;
  if (may(me, role)) return children;
  return (
    <p className="text-brass">
      {me?.words}. {role === "work" ? "Nothing can be kept from here." : "Nothing can be set up from here."}
    </p>
  );
}
