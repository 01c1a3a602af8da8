// @vitest-environment jsdom
import { ThemeProvider } from "@mui/material/styles";
import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { cleanup, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api, got, keyed } from "../src/api/client";
import type { SessionView } from "../src/api/types";
import { SessionGate, useMay, useSession } from "../src/shell/session";
import { theme } from "../src/theme/theme";

// The client takes fetch and Request as they are when it is made, before any test runs.
const network = vi.hoisted(() => {
  const behind: { answer: (request: Request) => Promise<Response> } = {
    answer: () => Promise.reject(new Error("no test has said what to answer")),
  };
  const Plain = globalThis.Request;
  globalThis.Request = class extends Plain {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, "http://till.test").href : input, init);
    }
  };
  globalThis.fetch = (input) => behind.answer(input as Request);
  return behind;
});

const ines: SessionView = {
  company: "Dune & Daughter",
  first_start: false,
  person: {
    id: 1,
    name: "Ines Calder",
    sign_in: "ines",
    role: "lead",
    must_change: false,
    may: ["see_books", "post_invoice"],
    csrf: "the-second-token",
  },
};
const nobody: SessionView = { company: "Dune & Daughter", first_start: false, person: null };

/** What the server answers, by method and path; the requests it got. */
let answers: Record<string, () => [status: number, body: unknown]>;
let asked: Request[];

beforeEach(() => {
  asked = [];
  answers = {};
  network.answer = async (input) => {
    asked.push(input.clone());
    const path = new URL(input.url).pathname;
    const [status, body] = answers[`${input.method} ${path}`]?.() ?? [404, { code: "not_found", title: "No." }];
    return new Response(status === 204 ? null : JSON.stringify(body), {
      status,
      headers: { "Content-Type": "application/json" },
    });
  };
});
afterEach(cleanup);

function Inside() {
  const { person } = useSession();
  const may = useMay();
  const [typed, setTyped] = useState("");
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")), retry: false });
  return (
    <div>
      <p>inside as {person.name}</p>
      <p>{may("post_invoice") ? "may post" : "may not post"}</p>
      <p>{may("keep_people") ? "looks after people" : "looks after nobody"}</p>
      <input aria-label="Work" value={typed} onChange={(event) => setTyped(event.target.value)} />
      <button type="button" onClick={() => spine.refetch()}>
        Ask again
      </button>
      <button type="button" onClick={() => api.POST("/api/setup/periods", { params: { header: keyed("12345678") } })}>
        Change
      </button>
    </div>
  );
}

function show() {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={queries}>
      <ThemeProvider theme={theme}>
        <SessionGate>
          <Inside />
        </SessionGate>
      </ThemeProvider>
    </QueryClientProvider>,
  );
}

test("who is not signed in stands before the door, and is let in by it", async () => {
  answers["GET /api/session"] = () => [200, nobody];
  answers["POST /api/session"] = () => [200, ines];
  answers["GET /api/spine"] = () => [200, {}];
  show();
  await screen.findByText("Dune & Daughter");
  expect(screen.queryByText(/inside/)).toBeNull();
  await userEvent.type(screen.getByLabelText("Sign-in name"), "ines");
  await userEvent.type(screen.getByLabelText("Password"), "heather honey in june{Enter}");
  await screen.findByText("inside as Ines Calder");
  const signIn = asked.find((request) => request.method === "POST");
  expect(await signIn?.json()).toEqual({ sign_in: "ines", password: "heather honey in june" });
  expect(screen.getByText("may post")).toBeTruthy();
  expect(screen.getByText("looks after nobody")).toBeTruthy();
});

test("a wrong password is said at its field, and the door stays", async () => {
  answers["GET /api/session"] = () => [200, nobody];
  answers["POST /api/session"] = () => [
    401,
    { code: "wrong_sign_in", title: "They do not go together.", field: "password" },
  ];
  show();
  await userEvent.type(await screen.findByLabelText("Sign-in name"), "ines");
  await userEvent.type(screen.getByLabelText("Password"), "no{Enter}");
  await screen.findByText("They do not go together.");
  expect(screen.getByLabelText("Password").getAttribute("aria-invalid")).toBe("true");
  expect(screen.queryByText("Your session has ended", { exact: false })).toBeNull();
});

test("every change carries the second token, and no reading does", async () => {
  answers["GET /api/session"] = () => [200, ines];
  answers["GET /api/spine"] = () => [200, {}];
  answers["POST /api/setup/periods"] = () => [200, {}];
  show();
  await userEvent.click(await screen.findByText("Change"));
  await waitFor(() => expect(asked.some((request) => request.method === "POST")).toBe(true));
  for (const request of asked) {
    expect(request.headers.get("X-Csrf-Token")).toBe(request.method === "GET" ? null : "the-second-token");
  }
});

test("a session that ends keeps the work on the screen and goes on after signing in", async () => {
  let signedIn = true;
  answers["GET /api/session"] = () => [200, ines];
  answers["GET /api/spine"] = () => (signedIn ? [200, {}] : [401, { code: "signed_out", title: "Sign in." }]);
  answers["POST /api/session"] = () => {
    signedIn = true;
    return [200, ines];
  };
  show();
  await userEvent.type(await screen.findByLabelText("Work"), "half a receipt");
  signedIn = false;
  await userEvent.click(screen.getByText("Ask again"));
  await screen.findByText(/Your session has ended/);
  await userEvent.type(screen.getByLabelText("Password"), "heather honey in june{Enter}");
  await waitFor(() => expect(screen.queryByText(/Your session has ended/)).toBeNull());
  expect((screen.getByLabelText("Work") as HTMLInputElement).value).toBe("half a receipt");
});

test("someone new chooses a password, typed twice alike, before anything else", async () => {
  let chosen = false;
  const person = ines.person ?? undefined;
  answers["GET /api/session"] = () => [200, { ...ines, person: { ...person, must_change: !chosen } }];
  answers["PUT /api/session/password"] = () => {
    chosen = true;
    return [204, null];
  };
  answers["GET /api/spine"] = () => [200, {}];
  show();
  await userEvent.type(await screen.findByLabelText("Present password"), "begin with this");
  await userEvent.type(screen.getByLabelText("New password"), "a lark above the moor");
  await userEvent.type(screen.getByLabelText("The same again"), "a lark above the more{Enter}");
  await screen.findByText(/The two are not the same/);
  expect(asked.some((request) => request.method === "PUT")).toBe(false);
  await userEvent.clear(screen.getByLabelText("The same again"));
  await userEvent.type(screen.getByLabelText("The same again"), "a lark above the moor{Enter}");
  await screen.findByText("inside as Ines Calder");
});

test("new books ask for the code and for the company, older ones for the code alone", async () => {
  answers["GET /api/session"] = () => [200, { company: null, first_start: true, person: null }];
  answers["POST /api/first-start"] = () => [403, { code: "wrong_code", title: "This is not the code.", field: "code" }];
  show();
  await userEvent.type(await screen.findByLabelText("Code"), "123");
  expect(screen.getByLabelText("Company")).toBeTruthy();
  await userEvent.click(screen.getByText("Begin"));
  await screen.findByText("This is not the code.");
  cleanup();
  answers["GET /api/session"] = () => [200, { company: "Dune & Daughter", first_start: true, person: null }];
  show();
  await screen.findByLabelText("Code");
  expect(screen.queryByLabelText("Company")).toBeNull();
});
