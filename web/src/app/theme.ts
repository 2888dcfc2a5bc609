/** Light or dark: the system's choice until somebody chooses here. Set on the page before anything is drawn. */
import { useSyncExternalStore } from "react";

export type Theme = "light" | "dark";

const system = window.matchMedia("(prefers-color-scheme: dark)");
const listeners = new Set<() => void>();

function theme(): Theme {
  return (localStorage.getItem("theme") as Theme | null) ?? (system.matches ? "dark" : "light");
}

function apply() {
  document.documentElement.dataset.theme = theme();
  for (const changed of listeners) changed();
}

export function startTheme() {
  apply();
  system.addEventListener("change", apply);
  window.addEventListener("storage", apply);
}

export function useTheme(): [Theme, () => void] {
  const now = useSyncExternalStore((changed) => {
    listeners.add(changed);
    return () => listeners.delete(changed);
  }, theme);
  return [
    now,
    () => {
      localStorage.setItem("theme", now === "dark" ? "light" : "dark");
      apply();
    },
  ];
}
