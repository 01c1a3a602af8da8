import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useRef, useState } from "react";
import type { Operation } from "../api/types";

/** Something a screen can do, by key and by mouse. */
export interface Action {
  /** A single character, or a name such as "Enter". */
  key: string;
  label: string;
  run: () => void;
  primary?: boolean;
  disabled?: boolean;
  /** Works by key and stands in the list of keys, but not in the bar. */
  quiet?: boolean;
  /** Only for who may do this. */
  needs?: Operation;
  /** The key is handled by the list itself; here it is only shown. */
  shownOnly?: boolean;
}

interface Keys {
  actions: Action[];
  setActions: (actions: Action[]) => void;
  letters: boolean;
  setLetters: (on: boolean) => void;
}

const KeysContext = createContext<Keys | undefined>(undefined);
const LETTERS = "till.letters";
const LIST_KEYS = new Set(["ArrowDown", "ArrowUp", "PageDown", "PageUp", "Home", "End", "Enter", " "]);

function inField(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName)) &&
    !(target instanceof HTMLInputElement && ["checkbox", "radio", "button"].includes(target.type))
  );
}

/** Listens for the keys of the present screen. Letters never act in a field or behind a dialog. */
export function KeysProvider({ children }: { children: ReactNode }) {
  const [actions, setActions] = useState<Action[]>([]);
  const [letters, keepLetters] = useState(() => localStorage.getItem(LETTERS) !== "off");
  const current = useRef(actions);
  current.current = actions;
  const setLetters = useCallback((on: boolean) => {
    localStorage.setItem(LETTERS, on ? "on" : "off");
    keepLetters(on);
  }, []);
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.defaultPrevented || document.querySelector("[role=dialog]")) {
        return;
      }
      if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) {
        const primary = current.current.find((action) => action.primary && !action.disabled);
        if (primary) {
          event.preventDefault();
          primary.run();
        }
        return;
      }
      // Out of a field, so that letters act again; once more, back to where one came from.
      if (event.key === "Escape" && inField(event.target)) {
        (event.target as HTMLElement).blur();
        return;
      }
      if (event.ctrlKey || event.metaKey || event.altKey || inField(event.target)) {
        return;
      }
      // Keys of the list find it, also when nothing has the focus: after a dialog or a new room.
      const list = document.querySelector<HTMLElement>("#worktop [role=grid]");
      if (event.target === document.body && list && LIST_KEYS.has(event.key)) {
        event.preventDefault();
        list.focus();
        list.dispatchEvent(
          new KeyboardEvent("keydown", { key: event.key, shiftKey: event.shiftKey, bubbles: true, cancelable: true }),
        );
        return;
      }
      if (event.key.length === 1 && !letters) {
        return;
      }
      const action = current.current.find(
        (candidate) => candidate.key === event.key && !candidate.disabled && !candidate.shownOnly,
      );
      if (action) {
        event.preventDefault();
        action.run();
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, [letters]);
  const keys = useMemo(() => ({ actions, setActions, letters, setLetters }), [actions, letters, setLetters]);
  return <KeysContext.Provider value={keys}>{children}</KeysContext.Provider>;
}

export function useKeys(): Keys {
  const keys = useContext(KeysContext);
  if (!keys) {
    throw new Error("useKeys outside KeysProvider");
  }
  return keys;
}

/** How a key is written for people. */
export function keyName(key: string): string {
  const names: Record<string, string> = { " ": "Space", Escape: "Esc", ArrowDown: "↓", ArrowUp: "↑" };
  return names[key] ?? key;
}
