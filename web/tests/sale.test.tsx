// @vitest-environment jsdom

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api } from "../src/api/client";
import type { OrderView } from "../src/api/types";
import { ShipAndBillAsk } from "../src/rooms/order/ShipAndBill";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn() },
}));

const get = vi.mocked(api.GET) as unknown as ReturnType<typeof vi.fn>;
const post = vi.mocked(api.POST) as unknown as ReturnType<typeof vi.fn>;
const done = (data: unknown) => ({ data, response: { ok: true } });
const refused = (error: object) => ({ error, response: { ok: false } });

const order = {
  id: 9,
  version: 3,
  number: "O-9",
  customer_name: "Dunlin School Farm",
  currency: "EUR",
} as unknown as OrderView;

const entry = (account: string) => ({
  currency: "EUR",
  lines: [{ account, account_name: account, base: 1230, amount: 1230 }],
});
const document = { lines: [{}, {}], total: 1230, due: 1230, currency: "EUR", due_date: "2026-04-17" };
const seen = (more: object = {}) => ({
  seen: "mark",
  blockers: [],
  shipment_entry: null,
  preview: { document, entry: entry("21000"), cost_entry: null },
  money: null,
  ...more,
});
const money = (amount: number) => ({ currency: "EUR", document: { amount }, entry: entry("32000") });

type Body = { confirm: boolean; paid: { method: string; amount: string | null } | null; seen?: string };
const bodies = (path: string): Body[] => post.mock.calls.filter(([at]) => at === path).map(([, call]) => call.body);
const PREVIEW = "/api/orders/{id}/ship-and-bill/preview";
const CARRY_OUT = "/api/orders/{id}/ship-and-bill";

afterEach(cleanup);
beforeEach(() => {
  get.mockReset();
  post.mockReset();
  const ways = [
    { code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null },
    { code: "check", name: "check", place: "Checks in hand", kind: "checks_in_hand", currency: null },
    { code: "cash", name: "cash", place: "Cash drawer", kind: "drawer", currency: null },
  ];
  get.mockImplementation(async (path: string) =>
    done(path === "/api/payment-methods" ? ways : { base_currency: "EUR", business_date: "2026-03-18" }),
  );
});

function show(counter = false) {
  const close = vi.fn();
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MemoryRouter>
        <ShipAndBillAsk order={order} counter={counter} close={close} />
      </MemoryRouter>
    </QueryClientProvider>,
  );
  return close;
}

const button = (name: RegExp) => screen.findByRole<HTMLButtonElement>("button", { name });
const pay = (method: string) => fireEvent.change(screen.getByLabelText("Paid"), { target: { value: method } });

test("says what goes and what is owed, has the focus when it can be done, and sends back what was seen", async () => {
  post.mockImplementation(async (path: string) =>
    path === PREVIEW ? done(seen()) : done({ invoice: { id: 1, number: "I-1" }, shipment: 2, receipt: null }),
  );
  const close = show();
  expect((await button(/Working|Look again/)).disabled).toBe(true);
  const yes = await button(/Ship and bill · €12.30/);
  await waitFor(() => expect(window.document.activeElement).toBe(yes));
  expect(screen.getByRole("dialog").textContent).toContain("2 lines leave and Dunlin School Farm owes €12.30");
  await userEvent.keyboard("{Enter}");
  await waitFor(() => expect(close).toHaveBeenCalledTimes(1));
  expect(bodies(CARRY_OUT)).toEqual([{ confirm: false, paid: null, seen: "mark" }]);
});

test("over the counter it confirms, and what is paid at once goes with it", async () => {
  post.mockImplementation(async (path: string, call: { body: Body }) =>
    path === PREVIEW
      ? done(seen({ money: call.body.paid ? money(1230) : null, seen: call.body.paid ? "with money" : "mark" }))
      : done({ invoice: { id: 1, number: "I-1" }, shipment: 2, receipt: 3 }),
  );
  const close = show(true);
  await button(/Sell over the counter · €12.30/);
  pay("cash");
  await screen.findByText(/pays all of it now/);
  expect(screen.getByText("Entry of the receipt")).toBeTruthy();
  const yes = await button(/Sell over the counter · €12.30/);
  await waitFor(() => expect(yes.disabled).toBe(false));
  yes.click();
  await waitFor(() => expect(close).toHaveBeenCalledTimes(1));
  const paid = { method: "cash", amount: null, reference: null };
  expect(bodies(CARRY_OUT)).toEqual([{ confirm: true, paid, seen: "with money" }]);
});

test("money that cannot be read is refused at its field, and nothing can be posted until it is put right", async () => {
  post.mockImplementation(async (_: string, call: { body: Body }) => {
    const amount = call.body.paid?.amount;
    return amount === "x"
      ? refused({ title: "“x” is not a number.", code: "invalid", field: "paid.amount" })
      : done(seen({ money: call.body.paid ? money(1000) : null }));
  });
  const close = show();
  await button(/Ship and bill · €12.30/);
  pay("check");
  await screen.findByText(/is paid now/);
  expect(screen.getByLabelText("Check number")).toBeTruthy();
  const field = screen.getByLabelText<HTMLInputElement>("Amount EUR");
  fireEvent.change(field, { target: { value: "x" } });
  await waitFor(() => expect(field.getAttribute("aria-invalid")).toBe("true"));
  expect(screen.getByText("“x” is not a number.")).toBeTruthy();
  expect(screen.getByRole("dialog").textContent).toContain("Put right what was paid");
  // The button only looks again: the question stays, and nothing is sent but previews.
  (await button(/Look again/)).click();
  await waitFor(() => expect(bodies(PREVIEW).filter((body) => body.paid?.amount === "x").length).toBeGreaterThan(1));
  expect(close).not.toHaveBeenCalled();
  expect(bodies(CARRY_OUT)).toEqual([]);
  fireEvent.change(field, { target: { value: "10.00" } });
  await screen.findByText(/€10.00 is paid now/);
  expect(field.getAttribute("aria-invalid")).toBe("false");
});

test("what stops it is told with its sentence, and looked at again once it is put right", async () => {
  const blocker = { check: "credit", effect: "stops", field: "customer", words: "on hold", sentence: "It is on hold." };
  let stopped = true;
  post.mockImplementation(async () => done(stopped ? { ...seen(), preview: null, blockers: [blocker] } : seen()));
  const close = show();
  await screen.findByText(/It is on hold/);
  expect(screen.getByRole("dialog").textContent).toContain("It cannot go like this");
  stopped = false;
  const again = await button(/Look again/);
  await waitFor(() => expect(again.disabled).toBe(false));
  again.click();
  await button(/Ship and bill · €12.30/);
  expect(close).not.toHaveBeenCalled();
});
