import "./tokens.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { wasLost } from "../api/client";
import { ROUTES } from "./routes";
import { startTheme } from "./theme";

// Styles that Radix inserts are let through by the page's own nonce.
setNonce(document.querySelector<HTMLMetaElement>('meta[name="csp-nonce"]')?.content ?? "");

startTheme();

const queries = new QueryClient({
  defaultOptions: {
    // The server may run on this very device: whether there is a network says nothing of it.
    queries: { retry: (failed, wrong) => failed < 1 && wasLost(wrong), staleTime: 1000, networkMode: "always" },
    mutations: { retry: 0, networkMode: "always" },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        {/* Gone to at once: what is typed meanwhile would otherwise go into the page before, and be lost. */}
        <RouterProvider router={createBrowserRouter(ROUTES)} useTransitions={false} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
