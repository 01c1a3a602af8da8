// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn(), use: vi.fn() },
}));
vi.mock("../src/page/link", async (original) => ({
  ...(await original<typeof import("../src/page/link")>()),
  leaveFor: vi.fn(),
}));
vi.mock("../src/shell/session", async (original) => ({
  ...(await original<typeof import("../src/shell/session")>()),
  useMay: () => () => true,
}));

import { leaveFor, rememberTyping, takeLink, typing } from "../src/page/link";
import { CustomerPage } from "../src/page/Page";
import { paidWords } from "../src/page/Paying";
import { MakeLinkAsk, PageLinkLines } from "../src/rooms/customers/PageLinks";
import { no, stage } from "./stage";

beforeEach(() => window.sessionStorage.clear());
afterEach(cleanup);

const quote = (over: object = {}) => ({
  id: 4,
  number: "Q-4",
  quote_date: "2026-03-18",
  valid_until: "2026-04-17",
  state: "open",
  currency: "EUR",
  lines: [
    {
      code: "HB",
      description: "Hive body",
      quantity: "4",
      unit: "pc",
      shipped: "0",
      unit_price: "63.5",
      discount: "0",
      net: 25400,
    },
  ],
  net: 25400,
  total: 31242,
  asked: { what: "deposit", amount: 9373 },
  note: null,
  version: 2,
  ...over,
});

const order = (over: object = {}) => ({
  id: 7,
  number: "O-7",
  customer_order_number: "AM 7",
  order_date: "2026-03-18",
  promised_date: null,
  currency: "EUR",
  confirmed: true,
  lines: [
    {
      code: "HB",
      description: "Hive body",
      quantity: "4",
      unit: "pc",
      shipped: "1",
      unit_price: null,
      discount: null,
      net: 25400,
    },
  ],
  shipments: [{ number: "S-9", left_on: "2026-03-20", carrier: "Heron Freight", tracking_number: "HF 12" }],
  accepted_by: null,
  missing: { what: "nothing", amount: 0 },
  ...over,
});

const invoice = {
  id: 3,
  number: "I-3",
  prepayment: false,
  document_date: "2026-02-01",
  due_date: "2026-03-03",
  late: true,
  currency: "EUR",
  total: 31242,
  open: 31242,
  payable: 31242,
};

const page = (over: object = {}) => ({
  customer: "Tern Point",
  number: "1004",
  company: "Marram Hive Supply",
  today: "2026-03-18",
  exponents: { EUR: 2 },
  sums: [{ currency: "EUR", owed: 31242, late: 31242, held: 5000 }],
  quotes: [quote()],
  orders: [order()],
  invoices: [invoice],
  returns: [],
  papers: [{ document: { kind: "invoice", id: 3, number: "I-3" }, date: "2026-02-01", currency: "EUR", total: 31242 }],
  cards: [],
  addresses: [{ kind: "invoice", id: 3, address: "/api/page/papers/invoice/3?mark=x" }],
  cards_taken: true,
  quote: 4,
  works_until: "2026-04-01T10:00:00Z",
  ...over,
});

test("the page says what waits, what is owed, what is on its way, and where the papers are", async () => {
  stage(<CustomerPage />, "/", { "GET /api/page": page() });
  const offered = await screen.findByRole("region", { name: "Quote Q-4" });
  within(offered).getByText("We ask for a deposit of €93.73 before your order is confirmed.");
  within(offered).getByText("58.42");
  const owed = screen.getByRole("region", { name: "Invoice I-3" });
  within(owed).getByText("▲ was due 3 Mar 2026");
  const coming = screen.getByRole("region", { name: "Order O-7" });
  within(coming).getByText("1 of 4 pc shipped");
  within(coming).getByText("S-9 left 20 Mar 2026 with Heron Freight, tracking number HF 12");
  expect(screen.getByRole("link", { name: "Invoice I-3" }).getAttribute("href")).toBe(
    "/api/page/papers/invoice/3?mark=x",
  );
  expect(screen.queryByText(/Glad Till/)).toBeNull();
});

test("a return that is awaited has its slip, one that has arrived has none", async () => {
  const line = { code: "JR", description: "Jars", authorized: "4", arrived: "1", unit: "tray" };
  const one = (id: number, arrived: string) => ({
    id,
    number: `RA-${id}`,
    reference: "claim 7",
    expires_on: "2026-05-17",
    live: true,
    lines: [{ ...line, arrived }],
  });
  stage(<CustomerPage />, "/", {
    "GET /api/page": page({
      returns: [one(5, "1"), one(6, "4")],
      addresses: [5, 6].map((id) => ({ kind: "return", id, address: `/api/page/papers/return/${id}?mark=x` })),
    }),
  });
  const awaited = within(await screen.findByRole("region", { name: "Return RA-5" }));
  awaited.getByText("1 of 4 tray arrived");
  expect(awaited.getByRole("link", { name: "Open the slip" }).getAttribute("href")).toBe(
    "/api/page/papers/return/5?mark=x",
  );
  const there = within(screen.getByRole("region", { name: "Return RA-6" }));
  expect(there.queryByRole("link")).toBeNull();
});

test("a quote is accepted by name; what is refused stands at its field, and what was typed stays", async () => {
  const user = userEvent.setup();
  const call = "POST /api/page/quotes/{id}/accept";
  const stood = stage(<CustomerPage />, "/", {
    "GET /api/page": page({ invoices: [] }),
    [call]: no({ title: "Type your name, 80 characters at most.", field: "name" }),
  });
  await user.click(await screen.findByRole("button", { name: "Accept · €312.42…" }));
  await user.type(screen.getByLabelText("Your PO number"), "AM 7");
  await user.click(screen.getByRole("button", { name: "Accept · €312.42" }));
  await screen.findByText("Type your name, 80 characters at most.");
  expect((screen.getByLabelText("Your PO number") as HTMLInputElement).value).toBe("AM 7");
  stood.now({ [call]: 7, "GET /api/page": page({ quotes: [quote({ state: "accepted" })], invoices: [] }) });
  await user.type(screen.getByLabelText("Your name"), "Ann Brook{Enter}");
  await screen.findByText("● You have accepted quote Q-4. Thank you.");
  const [first, second] = stood.asked(call);
  expect(second?.body).toEqual({ version: 2, name: "Ann Brook", customer_order_number: "AM 7" });
  expect(second?.params?.header?.["Idempotency-Key"]).not.toBe(first?.params?.header?.["Idempotency-Key"]);
  await screen.findByText("● You have accepted this quote.");
});

test("an accepted order asks for what is missing, and a card pays it", async () => {
  const user = userEvent.setup();
  const waits = order({ confirmed: false, missing: { what: "deposit", amount: 9373 } });
  const stood = stage(<CustomerPage />, "/", {
    "GET /api/page": page({
      quotes: [],
      invoices: [],
      orders: [waits],
      cards: [{ id: 8, last_four: "1231", valid_through: "2028-05" }],
    }),
    "POST /api/page/payments": { state: "no_answer", amount: 9373, captured: 0, currency: "EUR", words: null },
  });
  const sheet = await screen.findByRole("region", { name: "Order O-7" });
  const pay = within(sheet).getByRole("button", { name: "Pay €93.73 · card ending in 1231" });
  await user.click(pay);
  await screen.findByText("▲ The card service did not answer. Try again: nothing is charged twice.");
  stood.now({
    "POST /api/page/payments": { state: "captured", amount: 9373, captured: 9373, currency: "EUR", words: null },
    "GET /api/page": page({ quotes: [], invoices: [] }),
  });
  await user.click(pay);
  await screen.findByText("● €93.73 was paid with your card. Thank you.");
  const [first, second] = stood.asked("POST /api/page/payments");
  expect(second?.body).toEqual({ pays: "order", id: 7, amount: 9373, card: 8 });
  expect(second?.params?.header?.["Idempotency-Key"], "asked again with the same key").toBe(
    first?.params?.header?.["Idempotency-Key"],
  );
});

test("a card is typed on the processor's page, and used for what it was typed for on the way back", async () => {
  const user = userEvent.setup();
  const address = "http://cards.example/cards/new/abc";
  stage(<CustomerPage />, "/", {
    "GET /api/page": page({ quotes: [] }),
    "POST /api/page/card-session": { session: "abc", address },
  });
  await user.click(await screen.findByRole("button", { name: "Pay €312.42 by card…" }));
  await waitFor(() => expect(leaveFor).toHaveBeenCalledWith(address));
  expect(typing()).toEqual({ pays: "invoice", id: 3, amount: 31242, session: "abc" });
  cleanup();
  // There may be another invoice since: the one the card was typed for goes on by itself.
  const back = stage(<CustomerPage />, "/", {
    "GET /api/page": page({ quotes: [], invoices: [{ ...invoice, id: 2, number: "I-2" }, invoice] }),
    "POST /api/page/cards": { card: { id: 8, last_four: "1231", valid_through: "2028-05" } },
    "POST /api/page/payments": { state: "declined", amount: 31242, captured: 0, currency: "EUR", words: "no funds" },
  });
  await screen.findByText("▲ Your card was not accepted. no funds. Use another card. Nothing was charged.");
  expect(back.asked("POST /api/page/cards")[0]?.body).toEqual({ session: "abc" });
  expect(back.asked("POST /api/page/payments")[0]?.body).toEqual({ pays: "invoice", id: 3, amount: 31242, card: 8 });
  expect(typing(), "once is enough").toBeUndefined();
});

test("what became of a card is said to its owner", () => {
  const said = (state: string, atOnce: boolean) =>
    paidWords({ state: state as never, amount: 9373, captured: 0, currency: "EUR", words: null }, atOnce);
  expect(said("authorized", false).words).toBe(
    "Your card is kept for €93.73. We charge it once your goods have shipped.",
  );
  expect(said("authorized", true).good).toBe(true);
  expect(said("another_card", true)).toEqual({
    good: false,
    words: "Your card was not accepted. Use another card. Nothing was charged.",
  });
});

test("a link that leads nowhere says so, and a server that is away can be asked again", async () => {
  const user = userEvent.setup();
  const over = "This link does not work any more. Ask us for a new one.";
  stage(<CustomerPage />, "/", { "GET /api/page": no({ title: over, code: "link_over" }) });
  await screen.findByText(over);
  expect(screen.queryByRole("button", { name: "Try again" })).toBeNull();
  cleanup();
  const stood = stage(<CustomerPage />, "/", {
    "GET /api/page": no({ title: "Too many requests.", code: "too_many" }),
  });
  await screen.findByText("Too many requests.");
  stood.now({ "GET /api/page": page() });
  await user.click(screen.getByRole("button", { name: "Try again" }));
  await screen.findByText("Marram Hive Supply");
});

test("the link is taken out of the address and kept in this tab", () => {
  rememberTyping({ pays: "order", id: 1, amount: 1, session: "of before" });
  window.location.hash = "#secret";
  takeLink();
  expect(window.location.hash).toBe("");
  expect(window.sessionStorage.getItem("till:link")).toBe("secret");
  expect(typing(), "another link begins anew").toBeUndefined();
  takeLink();
  expect(window.sessionStorage.getItem("till:link"), "back from the processor's page").toBe("secret");
});

test("a clerk makes a link, mails it, shows it again, ends it", async () => {
  const user = userEvent.setup();
  const links = "/api/customers/{id}/page-links";
  const row = {
    id: 1,
    quote_number: "Q-4",
    recipient: "office@tern.example",
    made_by: "Ines Calder",
    made_at: "2026-03-18T09:00:00Z",
    expires_at: "2026-04-01T09:00:00Z",
    state: "works",
    opened: 0,
    opened_at: null,
  };
  const made = { id: 1, address: "http://till.example/page#secret", expires_at: row.expires_at, problem: null };
  const stood = stage(
    <>
      <PageLinkLines customer={2} />
      <MakeLinkAsk customer={2} quote={{ id: 4, number: "Q-4" }} close={() => undefined} />
    </>,
    "/",
    {
      "GET /api/customers/{id}/file": { form: { email: "office@tern.example" } },
      [`GET ${links}`]: [row, { ...row, id: 2, state: "expired", opened: 2 }],
      [`POST ${links}`]: no({ title: "A link works for 1 to 90 days.", field: "days" }),
      [`DELETE ${links}/{link}`]: 1,
      [`POST ${links}/{link}/show`]: made,
    },
  );
  const days = await screen.findByLabelText("Works for, in days");
  await user.clear(days);
  await user.type(days, "soon");
  await user.click(screen.getByRole("button", { name: /Make the link/ }));
  await screen.findByText("A link works for 1 to 90 days.");
  stood.now({ [`POST ${links}`]: made });
  await user.clear(days);
  await user.type(days, "30");
  await user.click(screen.getByRole("button", { name: /Make the link/ }));
  expect((await screen.findByTestId("page-link")).textContent).toBe(made.address);
  const asked = stood.asked(`POST ${links}`);
  expect(asked[0]?.body).toEqual({ days: 0, recipient: "office@tern.example", quote: 4 });
  expect(asked[1]?.body).toEqual({ days: 30, recipient: "office@tern.example", quote: 4 });
  cleanup();
  const again = stage(<PageLinkLines customer={2} />, "/", {
    [`GET ${links}`]: [row],
    [`DELETE ${links}/{link}`]: 1,
    [`POST ${links}/{link}/show`]: made,
  });
  await screen.findByText("not yet");
  await user.click(screen.getByRole("button", { name: "End" }));
  await user.click(await screen.findByRole("button", { name: /End the link/ }));
  await waitFor(() => expect(again.asked(`DELETE ${links}/{link}`)[0]?.params?.path).toEqual({ id: 2, link: 1 }));
});
