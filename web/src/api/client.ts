import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export const api = createClient<paths>({ baseUrl: "/" });

type ProblemBody = components["schemas"]["Problem"];

/** What the server refused, in words for a person, with the field to fix. */
export class Problem extends Error {
  readonly code: string;
  readonly field: string | undefined;
  readonly blockers: components["schemas"]["Blocker"][];

  constructor(body: Partial<ProblemBody>) {
    super(body.title ?? "Glad Till did not answer as expected. Try again.");
    this.code = body.code ?? "unknown";
    this.field = body.field ?? undefined;
    this.blockers = body.blockers ?? [];
  }
}

/** Awaits a call and gives its data, or throws a Problem. */
export async function got<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer: { data?: T; error?: unknown; response: Response };
  try {
    answer = await call;
  } catch {
    throw new Problem({
      code: "unreachable",
      title: "Glad Till cannot be reached. Nothing was lost; try again when it runs.",
    });
  }
  if (answer.response.ok) {
    return answer.data as T;
  }
  throw new Problem((answer.error ?? {}) as Partial<ProblemBody>);
}

/** A key that makes repeating a request harmless: the same key is carried out once. */
export function newKey(): string {
  return crypto.randomUUID();
}

export function keyed(key: string): { "Idempotency-Key": string } {
  return { "Idempotency-Key": key };
}
