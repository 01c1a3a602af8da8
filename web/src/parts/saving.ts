import { useCallback, useRef, useState } from "react";
import { keyed, newKey, Problem } from "../api/client";
import type { DocumentKind } from "../api/types";
import { useNotices } from "../shell/notices";
import { useEverythingChanged } from "./bits";
import { staleWords } from "./together";

/** Which document a form is of, and which version of it was seen; none while it is new. */
interface Standing {
  kind: DocumentKind;
  id?: number | undefined;
  version?: number | undefined;
}

/**
 * Saving a form once, whatever is pressed twice: what is wrong with it, and who changed it meanwhile.
 * The key of a change that got no answer is kept, so that trying again makes nothing a second time.
 */
export function useSaving({ kind, id, version }: Standing) {
  const [faults, setFaults] = useState<Problem>();
  const [stale, setStale] = useState<string>();
  const key = useRef(newKey());
  const running = useRef(false);
  const save = async (send: (header: ReturnType<typeof keyed>) => Promise<void>) => {
    if (running.current) {
      return;
    }
    running.current = true;
    try {
      await send(keyed(key.current));
      key.current = newKey();
    } catch (error) {
      const problem = error instanceof Problem ? error : new Problem({ title: String(error) });
      if (problem.code !== "unreachable") {
        key.current = newKey();
      }
      setFaults(problem);
      setStale(problem.code === "stale" && id ? await staleWords(error, kind, id, version ?? 0) : undefined);
    } finally {
      running.current = false;
    }
  };
  return { faults, setFaults, stale, save };
}

/** Does something at once, without a form; what is refused is said, and everything is read anew. */
export function useAttempt(): (what: () => Promise<unknown>) => Promise<void> {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return useCallback(
    async (what) => {
      try {
        await what();
      } catch (error) {
        say({ kind: "stop", text: error instanceof Error ? error.message : String(error) });
      }
      await changed();
    },
    [changed, say],
  );
}
