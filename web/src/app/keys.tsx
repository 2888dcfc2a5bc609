/** The keys that work now. A station registers its own; the foot shows them; one listener serves them. */
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";

export interface Key {
  /** As `KeyboardEvent.key`, several when they share a meaning. */
  keys: readonly string[];
  cap: string;
  does: string;
  run: (key: string) => void;
  /** Also while something is typed, and over an open dialog: what stops a machine. */
  everywhere?: boolean;
}

interface Board {
  shown: readonly Key[];
  register: (owner: object, keys: readonly Key[]) => void;
  drop: (owner: object) => void;
}

const Context = createContext<Board | null>(null);

export function KeyBoard({ children }: { children: ReactNode }) {
  const owners = useRef(new Map<object, readonly Key[]>());
  const [shown, setShown] = useState<readonly Key[]>([]);
  const board = useMemo(() => {
    // Foot and list change only when the caps do; what a key does is looked up when it is pressed.
    const refresh = () => {
      const all = [...owners.current.values()].flat();
      setShown((was) =>
        was.length === all.length && was.every((k, i) => k.cap === all[i]?.cap && k.does === all[i]?.does) ? was : all,
      );
    };
    return {
      register: (owner: object, keys: readonly Key[]) => {
        owners.current.set(owner, keys);
        refresh();
      },
      drop: (owner: object) => {
        owners.current.delete(owner);
        refresh();
      },
    };
  }, []);

  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const at = event.target as HTMLElement;
      // A field for a number takes no letter: there a letter is the shortcut that the foot names.
      const letter = /^[a-z?[\]]$/i.test(event.key);
      const number = at.matches('input[inputmode="decimal"], input[inputmode="numeric"]');
      const typing = at.closest("input, select, textarea, [role=dialog]") !== null && !(number && letter);
      // A slider that has the focus moves by its own arrows; nothing else may keep a key back, the stop least of all.
      if (at.matches("[role=slider]") && event.key.startsWith("Arrow")) return;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      if (event.key === "Enter" && at.closest("button, a, summary") && at !== document.body) return;
      for (const keys of [...owners.current.values()].reverse()) {
        const found = keys.find((k) => k.keys.includes(event.key) && (!typing || k.everywhere));
        if (found) {
          event.preventDefault();
          found.run(event.key);
          return;
        }
      }
      if (number && letter) event.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);

  return <Context.Provider value={useMemo(() => ({ shown, ...board }), [shown, board])}>{children}</Context.Provider>;
}

function useBoard(): Board {
  const board = useContext(Context);
  if (!board) throw new Error("keys outside their board");
  return board;
}

/** Register keys for as long as the component stands. */
export function useKeys(keys: readonly Key[]): void {
  const { register, drop } = useBoard();
  const owner = useRef({});
  useEffect(() => register(owner.current, keys));
  useEffect(() => {
    const mine = owner.current;
    return () => drop(mine);
  }, [drop]);
}

export function useShownKeys(): readonly Key[] {
  return useBoard().shown;
}
