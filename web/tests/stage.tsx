import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { createMemoryRouter, RouterProvider } from "react-router";
import type { vi } from "vitest";
import { api, type Problem } from "../src/api/client";
import type { Operation, SignedIn } from "../src/api/types";
import { KeysProvider } from "../src/shell/keys";
import { NoticeStrip, NoticesProvider } from "../src/shell/notices";
import { SignedInAs } from "../src/shell/session";
import { theme } from "../src/theme/theme";

/** What a call carried. */
export interface Call {
  body?: unknown;
  params?: {
    path?: Record<string, unknown>;
    query?: Record<string, unknown>;
    header?: Record<string, string>;
  };
}

/** What the server says, by method and path: data, or what `no` made. */
export type Answers = Record<string, unknown | ((call: Call) => unknown)>;

/** Nothing has a size in a test; a list that is 600 high draws its first rows. */
export function sized(): void {
  const sizes = { offsetHeight: 600, offsetWidth: 800, clientHeight: 600, clientWidth: 800 };
  for (const [name, value] of Object.entries(sizes)) {
    Object.defineProperty(HTMLElement.prototype, name, { configurable: true, get: () => value });
  }
  HTMLElement.prototype.scrollTo = () => undefined;
}

const NO = Symbol("refused");

/** A refusal, as the server words it. */
export function no(problem: Partial<Pick<Problem, "code" | "field">> & { title: string }): unknown {
  return { [NO]: problem };
}

/** A call that gets no answer: the network is gone. */
export function silence(): never {
  throw new TypeError("Failed to fetch");
}

const may: Operation[] = [
  "see_books",
  "keep_draft",
  "post_invoice",
  "run_billing",
  "keep_recipe",
  "keep_order",
  "confirm_order",
  "ship_and_bill",
  "keep_shipment",
  "post_shipment",
  "take_back_shipment",
  "post_money",
  "take_back_money",
  "post_opening",
];
const ines: SignedIn = {
  id: 1,
  name: "Ines Calder",
  sign_in: "ines",
  role: "lead",
  must_change: false,
  may,
  csrf: "token",
};

const always: Answers = {
  "GET /api/spine": { base_currency: "EUR", business_date: "2026-03-18" },
  "GET /api/presence": [],
  "GET /api/record/{kind}/{id}": [],
};

/**
 * A room as it stands in the application, before a server of the test's own; `path` where it reads
 * its address, `also` what who is signed in may do besides. A mock is hoisted in its own file only, so who uses this mocks the client there.
 */
export function stage(room: ReactNode, at: string, answers: Answers, path = "*", also: Operation[] = []) {
  sized();
  const calls: { what: string; call: Call }[] = [];
  const known = { ...always, ...answers };
  for (const method of ["GET", "POST", "PUT", "DELETE"] as const) {
    const mocked = api[method] as unknown as ReturnType<typeof vi.fn>;
    mocked.mockReset();
    mocked.mockImplementation(async (path: string, call: Call = {}) => {
      const what = `${method} ${path}`;
      calls.push({ what, call });
      if (!(what in known)) {
        throw new Error(`nothing was said to answer ${what}`);
      }
      const said = known[what];
      const data: unknown = await (typeof said === "function" ? said(call) : said);
      if (typeof data === "object" && data !== null && NO in data) {
        return { error: data[NO], response: { ok: false } };
      }
      return { data, response: { ok: true } };
    });
  }
  const around = (inner: ReactNode) => (
    <>
      <div id="roll" />
      <main id="worktop">{inner}</main>
    </>
  );
  const elsewhere = { path: "*", element: around(<NoticeStrip />) };
  const routes = [{ path, element: around(room) }, ...(path === "*" ? [] : [elsewhere])];
  const router = createMemoryRouter(routes, { initialEntries: [at] });
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <ThemeProvider theme={theme}>
        <SignedInAs person={{ ...ines, may: [...may, ...also] }}>
          <KeysProvider>
            <NoticesProvider>
              <RouterProvider router={router} />
            </NoticesProvider>
          </KeysProvider>
        </SignedInAs>
      </ThemeProvider>
    </QueryClientProvider>,
  );
  return {
    /** What was asked of a method and path, oldest first. */
    asked: (what: string): Call[] => calls.filter((one) => one.what === what).map((one) => one.call),
    /** The address now. */
    place: () => router.state.location.pathname + router.state.location.search,
    /** Later answers are these. */
    now: (later: Answers) => Object.assign(known, later),
  };
}
