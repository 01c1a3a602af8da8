import type { Problem } from "../api/client";
import type { Blocker } from "../api/types";

/** What is wrong with what was typed, by field: what stops it, and what could not be read; `without` where no field is named. */
export function faultsOf(
  blockers: Blocker[] | undefined,
  problem: Problem | null,
  without: string,
): Record<string, string> {
  const faults: Record<string, string> = {};
  for (const blocker of blockers ?? []) {
    if (blocker.effect === "stops") {
      faults[blocker.field] ??= blocker.sentence;
    }
  }
  if (problem) {
    faults[problem.field ?? without] = problem.message;
  }
  return faults;
}

/** Whether something stops it. */
export function isStopped(blockers: Blocker[]): boolean {
  return blockers.some((blocker) => blocker.effect === "stops");
}
