// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));
vi.mock("../src/shell/session", async (original) => ({
  ...(await original<typeof import("../src/shell/session")>()),
  useMay: () => () => true,
}));

import type { InvoiceView } from "../src/api/types";
import { DepositRoom } from "../src/rooms/deposits/Deposit";
import { DepositsRoom, whyNow } from "../src/rooms/deposits/Deposits";
import { NewDepositRoom } from "../src/rooms/deposits/NewDeposit";
import { OnAccount } from "../src/rooms/deposits/OnAccount";
import { DepositsOfDraft } from "../src/rooms/invoice/deposits";
import { type Answers, no, stage } from "./stage";

afterEach(cleanup);

const row = (over: object = {}) => ({
  id: 9,
  number: "D-41",
  customer: 2,
  customer_name: "Orchard Lane Apiaries",
  order: 261,
  order_number: "O-2101",
  order_state: "open",
  date: "2026-01-14",
  days: 63,
  method: "transfer",
  reference: "20 colonies",
  currency: "EUR",
  taken: 100000,
  held: 100000,
  held_base: 100000,
  applied: 0,
  refunded: 0,
  kept: 0,
  regime: "at_receipt" as const,
  reversed_on: null,
  ...over,
});

const tape = { heading: "Orchard Lane Apiaries", subheading: "deposit for O-2101", currency: "EUR", lines: [] };

const view = (over: object = {}) => ({
  ...row(),
  memo: null,
  whereabouts: "at_bank",
  reversal_reason: null,
  taxes: [],
  taken_taxes: [],
  applications: [],
  ends: [],
  moves: [],
  tape,
  entries: [],
  trail: { steps: [] },
  version: 3,
  ...over,
});

const methods = [
  { code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null },
  { code: "cash", name: "cash", place: "Drawer", kind: "drawer", currency: null },
];

const answers: Answers = {
  "GET /api/deposits/{id}": () => view(),
  "GET /api/payment-methods": methods,
  "GET /api/approvals": [],
  "GET /api/papers/{kind}/{id}": "",
};

const end = { currency: "EUR", amount: 100000, tape, entry: null, changes: [], blockers: [], fingerprint: "seen" };

test("what asks for a step: an order that is done, or money that has lain for long", () => {
  expect(whyNow(row())).toBeUndefined();
  expect(whyNow(row({ order_state: "filled" }))).toBe("O-2101 is done");
  expect(whyNow(row({ days: 181 }))).toBe("held for 181 days");
  expect(whyNow(row({ held: 0, order_state: "filled" }))).toBeUndefined();
});

test("the register shows what is held, and all on demand", async () => {
  const user = userEvent.setup();
  const done = row({ id: 10, number: "D-42", order_state: "filled", customer_name: "Tern Point" });
  const list = { deposits: [row(), done], count: 2, held_base: 200000 };
  const room = stage(<DepositsRoom />, "/prepayments", { ...answers, "GET /api/deposits": list });
  await screen.findByText(/O-2101 is done/);
  expect(screen.getByText("63 days")).toBeTruthy();
  expect(screen.getByText(/2,000.00 held/)).toBeTruthy();
  expect(room.asked("GET /api/deposits").at(-1)?.params?.query?.state).toBe("held");
  await user.click(screen.getByRole("button", { name: "All" }));
  await waitFor(() => expect(room.asked("GET /api/deposits").at(-1)?.params?.query?.state).toBe("all"));
});

test("a refund goes with what was seen, with the way and the amount that were chosen", async () => {
  const user = userEvent.setup();
  const room = stage(
    <DepositRoom />,
    "/prepayments/9",
    {
      ...answers,
      "POST /api/deposits/{id}/refund/preview": end,
      "POST /api/deposits/{id}/refund": { number: "DE-7", waits: null, version: 4 },
    },
    "/prepayments/:id",
  );
  await user.click(await screen.findByRole("button", { name: /Refund/ }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByRole("button", { name: /Refund · €1,000.00/ });
  const amount = ask.getByLabelText("Amount EUR");
  await user.clear(amount);
  await user.type(amount, "400");
  await user.selectOptions(ask.getByRole("combobox"), "cash");
  await user.type(ask.getByLabelText("Why"), "two colonies fewer");
  await waitFor(() =>
    expect(room.asked("POST /api/deposits/{id}/refund/preview").at(-1)?.body).toMatchObject({
      amount: "400",
      method: "cash",
    }),
  );
  await user.click(ask.getByRole("button", { name: /Refund/ }));
  await screen.findByText(/of D-41 is refunded/);
  expect(room.asked("POST /api/deposits/{id}/refund").at(-1)?.body).toEqual({
    version: 3,
    seen: "seen",
    amount: "400",
    method: "cash",
    date: null,
    reason: "two colonies fewer",
  });
});

test("what waits for a supervisor says so, and what was refused stays", async () => {
  const user = userEvent.setup();
  const room = stage(
    <DepositRoom />,
    "/prepayments/9",
    {
      ...answers,
      "POST /api/deposits/{id}/keep/preview": end,
      "POST /api/deposits/{id}/keep": () => no({ title: "Say why, in a few words.", code: "refused", field: "reason" }),
    },
    "/prepayments/:id",
  );
  await user.click(await screen.findByRole("button", { name: /Keep as income/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.click(await ask.findByRole("button", { name: /Keep · €1,000.00/ }));
  await ask.findByText("Say why, in a few words.");
  room.now({ "POST /api/deposits/{id}/keep": { number: null, waits: 5, version: 3 } });
  await user.type(ask.getByLabelText("Why"), "the order was given up");
  await user.click(ask.getByRole("button", { name: /Keep · €1,000.00/ }));
  await screen.findByText(/A supervisor is asked/);
});

test("an applied deposit is frozen and says which step frees it", async () => {
  const user = userEvent.setup();
  const applied = {
    id: 71,
    document: { kind: "invoice", id: 12, number: "I-12" },
    date: "2026-03-10",
    amount: 100000,
    taxes: [],
  };
  const room = stage(
    <DepositRoom />,
    "/prepayments/9",
    {
      ...answers,
      "GET /api/deposits/{id}": () => view({ held: 0, applied: 100000, applications: [applied] }),
      "POST /api/deposits/{id}/unapply/preview": { ...end, entries: [] },
      "POST /api/deposits/{id}/unapply": { version: 4 },
    },
    "/prepayments/:id",
  );
  await screen.findByText(/Unapply it first/);
  expect(screen.queryByRole("button", { name: /Refund/ })).toBeNull();
  expect(screen.getByRole("link", { name: "I-12" })).toBeTruthy();
  await user.click(screen.getByRole("button", { name: /Unapply/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.type(ask.getByLabelText("Why"), "for another order");
  await user.click(await ask.findByRole("button", { name: /Unapply · €1,000.00/ }));
  await screen.findByText(/of D-41 is held again/);
  const body = { version: 3, seen: "seen", date: null, reason: "for another order" };
  expect(room.asked("POST /api/deposits/{id}/unapply").at(-1)?.body).toEqual(body);
});

test("a deposit moves to another order of the customer, or on account", async () => {
  const user = userEvent.setup();
  const order = (id: number, over: object = {}) => ({
    id,
    number: `O-${id}`,
    customer: 2,
    state: "open",
    net: 50000,
    currency: "EUR",
    ...over,
  });
  const orders = [order(261), order(300), order(301, { state: "closed" }), order(302, { customer: 3 })];
  const room = stage(
    <DepositRoom />,
    "/prepayments/9",
    { ...answers, "GET /api/orders": { orders }, "POST /api/deposits/{id}/move": { version: 4 } },
    "/prepayments/:id",
  );
  await user.click(await screen.findByRole("button", { name: /Move/ }));
  const ask = within(await screen.findByRole("dialog"));
  const choices = ask.getAllByRole("option").map((one) => one.textContent);
  expect(choices).toEqual(["O-300 · €500.00 net", "On account"]);
  await user.type(ask.getByLabelText("Why"), "ordered anew");
  await user.click(ask.getByRole("button", { name: /Move · €1,000.00/ }));
  await screen.findByText(/of D-41 is moved/);
  const body = { version: 3, order: 300, reason: "ordered anew" };
  expect(room.asked("POST /api/deposits/{id}/move").at(-1)?.body).toEqual(body);
});

test("a deposit is taken for an order with what was seen; a refusal stands at the amount", async () => {
  const user = userEvent.setup();
  const preview = { ...end, amount: 25000, regime: "at_receipt", taxes: [], fingerprint: "mark" };
  const stops = { check: "more_than_order", effect: "stops", field: "amount", words: "", sentence: "Take less." };
  const orders = [{ id: 261, number: "O-2101", customer: 2, state: "open", net: 370000, currency: "EUR" }];
  const room = stage(
    <NewDepositRoom />,
    "/prepayments/new?customer=2&order=261",
    {
      ...answers,
      "GET /api/customers": [{ id: 2, number: "1002", name: "Orchard Lane Apiaries", currency: "EUR" }],
      "GET /api/orders": { orders },
      "POST /api/deposits/preview": { ...preview, blockers: [stops] },
      "POST /api/deposits": { id: 10, number: "D-46" },
    },
    "/prepayments/new",
  );
  await screen.findByDisplayValue(/O-2101/);
  await user.type(screen.getByLabelText("Amount EUR"), "999");
  expect(await screen.findAllByText("Take less.")).toHaveLength(2);
  expect((screen.getByRole("button", { name: /Take the deposit/ }) as HTMLButtonElement).disabled).toBe(true);
  room.now({ "POST /api/deposits/preview": preview });
  await user.clear(screen.getByLabelText("Amount EUR"));
  await user.type(screen.getByLabelText("Amount EUR"), "250");
  await waitFor(() =>
    expect((screen.getByRole("button", { name: /Take the deposit/ }) as HTMLButtonElement).disabled).toBe(false),
  );
  await user.click(screen.getByRole("button", { name: /Take the deposit/ }));
  await user.click(await screen.findByRole("button", { name: /Take · €250.00/ }));
  await waitFor(() => expect(room.place()).toBe("/prepayments/10"));
  expect(room.asked("POST /api/deposits").at(-1)?.body).toMatchObject({
    customer: 2,
    order: 261,
    method: "transfer",
    amount: "250",
    seen: "mark",
  });
});

test("on a draft an amount is lowered, refused at its field, and goes by itself again", async () => {
  const user = userEvent.setup();
  const offer = (over: object = {}) => ({
    item: 77,
    document: { kind: "deposit", id: 9, number: "D-41" },
    order: "O-2101",
    held: 100000,
    most: 80000,
    applied: 80000,
    typed: false,
    why: "D-41 is for O-2101, and no more of it stands on this invoice.",
    ...over,
  });
  const invoice = (deposits: unknown[]) => ({ id: 5, deposits }) as unknown as InvoiceView;
  const set = vi.fn();
  const draft = (deposits: unknown[]) => (
    <DepositsOfDraft invoice={invoice(deposits)} currency="EUR" seen={async () => 6} set={set} locked={false} />
  );
  const room = stage(draft([offer(), offer({ item: 78, typed: true, applied: 1000 })]), "/", {
    "PUT /api/invoices/{id}/deposit": () => no({ title: "Apply 800.00 at most.", code: "refused", field: "amount" }),
  });
  const [amount] = await screen.findAllByLabelText(/Apply of D-41/);
  if (!amount) {
    throw new Error("no field");
  }
  await user.clear(amount);
  await user.type(amount, "900{Enter}");
  await screen.findByText("Apply 800.00 at most.");
  room.now({ "PUT /api/invoices/{id}/deposit": { version: 7 } });
  await user.clear(amount);
  await user.type(amount, "500{Enter}");
  await waitFor(() => expect(set).toHaveBeenCalledWith(7));
  expect(room.asked("PUT /api/invoices/{id}/deposit").at(-1)?.body).toEqual({ version: 6, item: 77, amount: "500" });
  await user.click(screen.getByRole("button", { name: "By itself again" }));
  await waitFor(() =>
    expect(room.asked("PUT /api/invoices/{id}/deposit").at(-1)?.body).toEqual({ version: 6, item: 78, amount: null }),
  );
});

test("what lies unapplied on a receipt is reserved, as much of it as is said", async () => {
  const user = userEvent.setup();
  const preview = { ...end, amount: 8000, regime: "at_invoice", taxes: [], fingerprint: "mark" };
  const receipt = { id: 12, number: "C-12", currency: "EUR", unapplied: 25000, method: "check", date: "2026-03-16" };
  const room = stage(
    <NewDepositRoom />,
    "/prepayments/new?customer=2&receipt=12",
    {
      "GET /api/customers": [{ id: 2, number: "1002", name: "Orchard Lane Apiaries", currency: "EUR" }],
      "GET /api/payment-methods": methods,
      "GET /api/orders": { orders: [] },
      "GET /api/receipts/{id}": receipt,
      "POST /api/deposits/preview": preview,
      "POST /api/deposits": { id: 48, number: "D-48" },
    },
    "/prepayments/new",
  );
  await screen.findByText(/€250.00 unapplied$/, { selector: "fieldset span" });
  expect(screen.queryByRole("radio")).toBeNull();
  const amount = screen.getByLabelText<HTMLInputElement>("Amount EUR");
  expect(amount.value).toBe("250.00");
  await user.clear(amount);
  await user.type(amount, "80");
  await waitFor(() =>
    expect(room.asked("POST /api/deposits/preview").at(-1)?.body).toMatchObject({ receipt: 12, amount: "80" }),
  );
  await user.click(await screen.findByRole("button", { name: /Take the deposit · €80.00/ }));
  await user.click(await screen.findByRole("button", { name: /^Take · €80.00/ }));
  await waitFor(() => expect(room.asked("POST /api/deposits")).toHaveLength(1));
  expect(room.asked("POST /api/deposits").at(-1)?.body).toMatchObject({
    customer: 2,
    receipt: 12,
    method: "",
    amount: "80",
    seen: "mark",
  });
});

test("a refund that was never sent is reversed: the last one, or the one that is chosen", async () => {
  const user = userEvent.setup();
  const ended = (id: number | null, over: object = {}) => ({
    id,
    number: `DE-${id}`,
    kind: "refunded",
    date: "2026-03-12",
    method: "transfer",
    amount: 30000,
    reason: "fewer",
    reversed_on: null,
    reversal_reason: null,
    ...over,
  });
  const gone = ended(6, { reversed_on: "2026-03-13", reversal_reason: "wrong account" });
  const ends = [ended(4), ended(5, { kind: "kept", amount: 20000 }), gone, ended(null, { method: "card" })];
  const room = stage(
    <DepositRoom />,
    "/prepayments/9",
    {
      ...answers,
      "GET /api/deposits/{id}": () => view({ held: 20000, refunded: 60000, kept: 20000, ends }),
      "POST /api/deposits/{id}/ends/{end}/reverse/preview": end,
      "POST /api/deposits/{id}/ends/{end}/reverse": { version: 4 },
    },
    "/prepayments/:id",
  );
  await screen.findByText(/reversed on 13 Mar 2026/);
  await user.click(screen.getByRole("button", { name: /Reverse a refund/ }));
  const ask = within(await screen.findByRole("dialog"));
  const choices = ask.getAllByRole("option").map((one) => one.textContent);
  expect(choices).toEqual(["DE-4 · €300.00 refunded", "DE-5 · €200.00 kept"]);
  const path = () => room.asked("POST /api/deposits/{id}/ends/{end}/reverse/preview").at(-1)?.params?.path;
  await waitFor(() => expect(path()).toEqual({ id: 9, end: 5 }));
  await user.selectOptions(ask.getByRole("combobox"), "4");
  await waitFor(() => expect(path()).toEqual({ id: 9, end: 4 }));
  await user.type(ask.getByLabelText("Why"), "never sent");
  await user.click(await ask.findByRole("button", { name: /Reverse · €1,000.00/ }));
  await screen.findByText(/of D-41 is held again/);
  const sent = room.asked("POST /api/deposits/{id}/ends/{end}/reverse").at(-1);
  expect(sent?.params?.path).toEqual({ id: 9, end: 4 });
  expect(sent?.body).toEqual({ version: 3, seen: "seen", date: null, reason: "never sent" });
});

test("what lies on account is offered for an invoice: in its currency, for no order", async () => {
  const deposits = [
    row({ order: null, order_number: null, held: 6000 }),
    row({ id: 10, number: "D-42" }),
    row({ id: 11, number: "D-43", order: null, order_number: null, currency: "GBP" }),
    row({ id: 12, number: "D-44", order: null, order_number: null, quote: 3 }),
  ];
  const room = stage(<OnAccount customer={2} currency="EUR" invoice={31} />, "/", {
    "GET /api/deposits": { deposits, count: 4, held_base: 0 },
  });
  const link = await screen.findByRole("link", { name: "apply €60.00 of D-41" });
  expect(link.getAttribute("href")).toBe("/prepayments/9?apply=31");
  expect(screen.getAllByRole("link")).toHaveLength(1);
  expect(room.asked("GET /api/deposits").at(-1)?.params?.query).toMatchObject({ customer: 2, state: "held" });
});

test("offered for an invoice, a deposit opens where it is applied to that invoice, as far as it is held", async () => {
  const item = (id: number, open: number) => ({
    item: id + 100,
    document: { kind: "invoice", id, number: `I-${id}` },
    number: `I-${id}`,
    customer: 2,
    branch: null,
    currency: "EUR",
    total: open,
    open,
    document_date: "2026-03-01",
    due_date: "2026-03-31",
    days_late: 0,
  });
  const preview = {
    with: [],
    ...end,
    document: { applied: [], amount: 0 },
  };
  const room = stage(
    <DepositRoom />,
    "/prepayments/9?apply=31",
    {
      ...answers,
      "GET /api/deposits/{id}": () => view({ order: null, order_number: null, held: 6000, taken: 6000 }),
      "GET /api/customers/{id}": { open_items: [item(30, 20000), item(31, 50000)] },
      "POST /api/deposits/{id}/applications/preview": preview,
    },
    "/prepayments/:id",
  );
  const field = await screen.findByLabelText<HTMLInputElement>(/Apply to I-31/);
  expect(field.value).toBe("60.00");
  expect(screen.getByLabelText<HTMLInputElement>(/Apply to I-30/).value).toBe("");
  await waitFor(() =>
    expect(room.asked("POST /api/deposits/{id}/applications/preview").at(-1)?.body).toEqual({
      date: null,
      applications: [{ item: 131, amount: "60.00" }],
    }),
  );
});
