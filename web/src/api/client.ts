import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export const api = createClient<paths>({ baseUrl: "/" });

let csrf = "";

/** The session's second token: sent with every change, so that no other page can make one. */
export function setCsrf(token: string): void {
  csrf = token;
}

/** Told when the server says that nobody is signed in any more. */
export const SIGNED_OUT = "till:signed-out";

api.use({
  onRequest({ request }) {
    if (csrf && request.method !== "GET") {
      request.headers.set("X-Csrf-Token", csrf);
    }
    return request;
  },
  onResponse({ request, response }) {
    // A wrong password is a 401 too, but nobody was signed out by it.
    if (response.status === 401 && !request.url.endsWith("/api/session")) {
      window.dispatchEvent(new Event(SIGNED_OUT));
    }
  },
});

type ProblemBody = components["schemas"]["Problem"];

/** What the server refused, in words for a person, with the field to fix. */
export class Problem extends Error {
  readonly code: string;
  readonly field: string | undefined;
  readonly blockers: components["schemas"]["Blocker"][];
  readonly version: number | undefined;

  constructor(body: Partial<ProblemBody>) {
    super(body.title ?? "Glad Till did not answer as expected. Try again.");
    this.code = body.code ?? "unknown";
    this.field = body.field ?? undefined;
    this.blockers = body.blockers ?? [];
    this.version = body.current_version ?? undefined;
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
