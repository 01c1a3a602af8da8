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
