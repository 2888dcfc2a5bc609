import { type RefObject, useEffect, useRef } from "react";

/** Whoever answered with a focused button finds the focus at the next instruction, though that button is gone. */
export function useFocusKept(slip: RefObject<HTMLElement | null>, seq: number, busy: boolean) {
  const within = useRef(false);
  useEffect(() => {
    const moved = (e: FocusEvent) => {
      within.current = slip.current?.contains(e.target as Node) ?? false;
    };
    document.addEventListener("focusin", moved);
    return () => document.removeEventListener("focusin", moved);
  }, [slip]);
  useEffect(() => {
    if (busy || !within.current || document.activeElement !== document.body) return;
    const next = slip.current?.querySelector<HTMLElement>("h2") ?? slip.current;
    if (!next) return;
    next.tabIndex = -1;
    next.focus({ preventScroll: true });
  }, [slip, seq, busy]);
}
