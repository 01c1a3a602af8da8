import { type FormEvent, useRef, useState } from "react";
import { Problem } from "../api/client";

/**
 * Hands the values of a form to `run`, once at a time however often it is sent, and keeps what
 * was wrong. `done` is told when it went well, `refused` when it did not.
 */
export function useAsking(
  names: string[],
  run: (values: Record<string, string>) => Promise<void>,
  { done, refused }: { done?: () => void; refused?: (problem: Problem) => void } = {},
) {
  // Two clicks in one breath come before the button can be drawn disabled.
  const running = useRef(false);
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState<Problem>();
  const send = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    // What is asked within another form is no answer to that.
    event.stopPropagation();
    if (running.current) {
      return;
    }
    running.current = true;
    setBusy(true);
    const typed = new FormData(event.currentTarget);
    try {
      await run(Object.fromEntries(names.map((name) => [name, String(typed.get(name) ?? "")])));
      setWrong(undefined);
      done?.();
    } catch (error) {
      const problem = error instanceof Problem ? error : new Problem({ title: String(error) });
      setWrong(problem);
      refused?.(problem);
    }
    running.current = false;
    setBusy(false);
  };
  /** What is wrong and has no field of its own here. */
  const elsewhere = wrong && !names.includes(wrong.field ?? "") ? wrong.message : undefined;
  return { send, busy, wrong, elsewhere };
}
