/** Says when the server does not answer, and takes a device that is not let in to where it types its code. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { Refusal, wasLost } from "../api/client";

export function Connection() {
  const cache = useQueryClient();
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const [lost, setLost] = useState(false);
  const [waiting, setWaiting] = useState(0);
  useEffect(() => {
    const queries = cache.getQueryCache().subscribe((event) => {
      if (event.type !== "updated") return;
      const { action } = event;
      if (action.type === "success" && !action.manual) setLost(false);
      if (action.type !== "error" && action.type !== "failed") return;
      if (wasLost(action.error)) setLost(true);
      const wrong = action.error as unknown;
      if (wrong instanceof Refusal && wrong.problem.code === "not_let_in" && pathname !== "/join") navigate("/join");
    });
    const mutations = cache.getMutationCache();
    const kept = mutations.subscribe(() =>
      setWaiting(
        mutations.findAll({ predicate: (m) => m.state.status === "pending" && wasLost(m.state.failureReason) }).length,
      ),
    );
    return () => {
      queries();
      kept();
    };
  }, [cache, navigate, pathname]);
  if (!lost && !waiting) return null;
  return (
    <p role="status" className="sticky top-0 z-20 bg-brass px-4 py-1.5 text-center text-paper">
      No answer from the server.{" "}
      {waiting ? "What you entered is kept here and sent once it is back. Leave this page open." : "It is asked again."}
    </p>
  );
}
