// @vitest-environment jsdom

import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api, Problem } from "../src/api/client";
import type { InvoiceView, ToBill } from "../src/api/types";
import { whole } from "../src/api/types";
import { useKeptDraft } from "../src/rooms/invoice/keeping";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { PUT: vi.fn(), POST: vi.fn() },
}));

const put = vi.mocked(api.PUT) as unknown as ReturnType<typeof vi.fn>;
const post = vi.mocked(api.POST) as unknown as ReturnType<typeof vi.fn>;
afterEach(cleanup);
beforeEach(() => {
  put.mockReset();
  post.mockReset();
});

/** A draft of two lines as it is read from the server. */
const draft = {
  id: 7,
  version: 1,
  to_bill: {
    picks: [
      { shipment_line: 1, quantity: "10" },
      { shipment_line: 2, quantity: "5" },
    ],
    order_picks: [],
    added: [],
    document_date: null,
    posting_date: null,
  },
} as unknown as InvoiceView;

const done = (data: unknown) => ({ data, response: { ok: true } });
const refused = (body: object) => ({ error: body, response: { ok: false } });
const bodies = () => put.mock.calls.map(([, call]) => call.body as ToBill & { version: number });

function show() {
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={new QueryClient()}>{children}</QueryClientProvider>
  );
  return renderHook(() => useKeptDraft(draft, () => undefined), { wrapper }).result;
}

const quantity = (line: number, value: string) => (now: ToBill) => ({
  ...now,
  picks: now.picks.map((pick) => (pick.shipment_line === line ? { ...pick, quantity: value } : pick)),
});
const dated = (now: ToBill) => ({ ...now, document_date: "2026-03-17" });

test("a change before the last one was read back builds on it", async () => {
  let answer: (value: unknown) => void = () => undefined;
  put.mockImplementationOnce(
    () =>
      new Promise((resolve) => {
        answer = resolve;
      }),
  );
  put.mockImplementation(async () => done({ version: 3 }));
  const hook = show();
  act(() => hook.current.change(quantity(1, "8")));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  act(() => hook.current.change(dated));
  await act(async () => answer(done({ version: 2 })));
  expect(await hook.current.settled()).toBe(3);
  const [first, second] = bodies();
  expect([first?.version, second?.version]).toEqual([1, 2]);
  expect(second?.document_date).toBe("2026-03-17");
  expect(second?.picks[0]?.quantity).toBe("8");
});

test("what was refused is said, and the next change does not carry it", async () => {
  put.mockImplementationOnce(async () => refused({ code: "refused", title: "Too many.", field: "lines.0.quantity" }));
  put.mockImplementation(async () => done({ version: 2 }));
  const hook = show();
  act(() => hook.current.change(quantity(1, "99")));
  await waitFor(() => expect(hook.current.wrong?.message).toBe("Too many."));
  act(() => hook.current.change(dated));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
  expect(bodies()[1]?.picks[0]?.quantity).toBe("10");
});

/** A first change that waits for its answer; what comes after is kept. */
function held() {
  let answer: (value: unknown) => void = () => undefined;
  put.mockImplementationOnce(
    () =>
      new Promise((resolve) => {
        answer = resolve;
      }),
  );
  put.mockImplementation(async () => done({ version: 2 }));
  return (value: unknown) => act(async () => answer(value));
}

test("what came after a change that is refused is kept without it", async () => {
  const answer = held();
  const hook = show();
  act(() => hook.current.change(quantity(1, "99")));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  act(() => hook.current.change(dated));
  act(() => hook.current.change(quantity(2, "4")));
  await answer(refused({ code: "refused", title: "Too many.", field: "lines.0.quantity" }));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
  const second = bodies()[1];
  expect(second?.document_date).toBe("2026-03-17");
  expect(second?.picks.map((pick) => pick.quantity)).toEqual(["10", "4"]);
  await waitFor(() => expect(hook.current.busy).toBe(false));
  expect(put).toHaveBeenCalledTimes(2);
  // It is said until something is changed after it.
  expect(hook.current.wrong?.message).toBe("Too many.");
  act(() => hook.current.change(quantity(1, "9")));
  await waitFor(() => expect(hook.current.wrong).toBeUndefined());
});

test("what came after a change that met someone else's goes into what both make together", async () => {
  const answer = held();
  post.mockImplementation(async () => done({ version: 4, merged: {}, clashes: [], since: [] }));
  const hook = show();
  act(() => hook.current.change(quantity(1, "8")));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  act(() => hook.current.change(dated));
  await answer(refused({ code: "stale", title: "Changed.", current_version: 4 }));
  await waitFor(() => expect(hook.current.conflict).toBeDefined());
  const wish = post.mock.calls[0]?.[1].body;
  expect([wish.mine.document_date, wish.mine.picks[0].quantity]).toEqual(["2026-03-17", "8"]);
  expect(wish.base.picks[0].quantity).toBe("10");
  await waitFor(() => expect(hook.current.busy).toBe(false));
  expect(put).toHaveBeenCalledTimes(1);
});

test("where someone was faster, both changes are put together and kept over the present version", async () => {
  put.mockImplementationOnce(async () => refused({ code: "stale", title: "Changed.", current_version: 4 }));
  put.mockImplementation(async () => done({ version: 5 }));
  const merged = { picks: [{ shipment_line: 1, quantity: "6" }], document_date: "2026-03-17", posting_date: null };
  post.mockImplementation(async () => done({ version: 4, merged, clashes: [], since: [] }));
  const hook = show();
  act(() => hook.current.change(dated));
  await waitFor(() => expect(hook.current.conflict).toBeDefined());
  const wish = post.mock.calls[0]?.[1].body;
  expect(wish.version).toBe(1);
  expect([wish.base.document_date, wish.mine.document_date]).toEqual([null, "2026-03-17"]);
  act(() => hook.current.keepBoth());
  await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
  expect(bodies()[1]).toEqual({ ...whole(merged), version: 4 });
});

test("a draft that is gone is said, and nothing hangs", async () => {
  put.mockImplementation(async () => refused({ code: "stale", title: "Changed." }));
  post.mockImplementation(async () => refused({ code: "not_found", title: "There is no invoice 7." }));
  const hook = show();
  act(() => hook.current.change(dated));
  await waitFor(() => expect(hook.current.wrong).toBeInstanceOf(Problem));
  expect(hook.current.wrong?.message).toBe("There is no invoice 7.");
  await waitFor(() => expect(hook.current.busy).toBe(false));
});

test("a kept change asks for the draft again and for nothing that did not change", async () => {
  put.mockImplementation(async () => done({ version: 2 }));
  const queries = new QueryClient({ defaultOptions: { queries: { staleTime: 60_000 } } });
  const asked: string[] = [];
  const read = (name: string) => async () => {
    asked.push(name);
    return name;
  };
  const keys: [string, unknown[]][] = [
    ["draft", ["invoice", "7"]],
    ["spine", ["spine"]],
    ["proofs", ["tie-outs"]],
    ["day sheet", ["day-sheet"]],
    ["approvals", ["approvals", "invoice", 7]],
  ];
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={queries}>{children}</QueryClientProvider>
  );
  const hook = renderHook(
    () => {
      for (const [name, queryKey] of keys) {
        // biome-ignore lint/correctness/useHookAtTopLevel: as many, in the same order, each time
        useQuery({ queryKey, queryFn: read(name) });
      }
      return useKeptDraft(draft, () => undefined);
    },
    { wrapper },
  ).result;
  await waitFor(() => expect(asked).toHaveLength(keys.length));
  asked.length = 0;
  act(() => hook.current.change(dated));
  await hook.current.settled();
  expect([put.mock.calls.length, asked]).toEqual([1, ["draft"]]);
  // A quantity moves what is left to bill: the count beside the menu is asked for too. At most two reads.
  act(() => hook.current.change(quantity(1, "8")));
  await hook.current.settled();
  expect([put.mock.calls.length, asked]).toEqual([2, ["draft", "draft", "spine"]]);
  // What was not asked for counts as old: it is read when it is looked at again.
  expect(queries.getQueryState(["day-sheet"])?.isInvalidated).toBe(true);
});
