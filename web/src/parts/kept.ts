import { useCallback, useState } from "react";
import { useSession } from "../shell/session";

const KEPT = "till.kept";

function read<T>(place: string): T | undefined {
  try {
    const kept = sessionStorage.getItem(place);
    return kept ? (JSON.parse(kept) as T) : undefined;
  } catch {
    return undefined;
  }
}

/**
 * What was typed in a form that is not saved yet: it outlives a reload, Back, and a session that ended, for the one who typed it,
 * until it is forgotten. A form with no name keeps nothing.
 */
export function useKept<T extends object>(form: string | undefined, nothing: T) {
  const { person } = useSession();
  const place = form && `${KEPT}.${person.id}.${form}`;
  const begun = () => ({ place, typed: { ...nothing, ...(place ? read<Partial<T>>(place) : undefined) } });
  const [state, setState] = useState(begun);
  let { typed } = state;
  if (state.place !== place) {
    // Another form in the same room.
    const other = begun();
    typed = other.typed;
    setState(other);
  }
  const type = useCallback(
    (what: Partial<T> | ((now: T) => Partial<T>)) =>
      setState((now) => {
        const then = { ...now.typed, ...(typeof what === "function" ? what(now.typed) : what) };
        if (now.place) {
          sessionStorage.setItem(now.place, JSON.stringify(then));
        }
        return { ...now, typed: then };
      }),
    [],
  );
  const forget = useCallback(() => {
    if (place) {
      sessionStorage.removeItem(place);
    }
  }, [place]);
  return { typed, type, forget };
}

/** What one field of a form holds, kept as {@link useKept} keeps a form. */
function placeOf(person: number, form: string, field: string): string {
  return `${KEPT}.${person}.${form}/${field}`;
}

/**
 * State of a field of a form, as `useState` has it, that outlives a reload, Back, another screen and a session that ended.
 * Where the form turns into that of another customer, what was kept for that one comes, or what is typed goes along.
 */
export function useKeptState<T>(
  form: string | undefined,
  field: string,
  initial: T | (() => T),
): [T, (next: T | ((now: T) => T)) => void] {
  const { person } = useSession();
  const place = form && placeOf(person.id, form, field);
  const first = () => (typeof initial === "function" ? (initial as () => T)() : initial);
  const [state, setState] = useState(() => ({ place, value: (place ? read<T>(place) : undefined) ?? first() }));
  let { value } = state;
  if (state.place !== place) {
    value = (place ? read<T>(place) : undefined) ?? value;
    setState({ place, value });
  }
  const set = useCallback(
    (next: T | ((now: T) => T)) =>
      setState((now) => {
        const then = typeof next === "function" ? (next as (now: T) => T)(now.value) : next;
        if (now.place && then === undefined) {
          sessionStorage.removeItem(now.place);
        } else if (now.place) {
          sessionStorage.setItem(now.place, JSON.stringify(then));
        }
        return { ...now, value: then };
      }),
    [],
  );
  return [value, set];
}

/** Forgets all that is kept of a form: it was posted, saved, or begun anew. */
export function useForget(form: string | undefined): () => void {
  const { person } = useSession();
  return useCallback(() => {
    const start = form && placeOf(person.id, form, "");
    for (const place of Object.keys(sessionStorage)) {
      if (start && place.startsWith(start)) {
        sessionStorage.removeItem(place);
      }
    }
  }, [person.id, form]);
}
