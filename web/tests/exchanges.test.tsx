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

import { addedLines } from "../src/rooms/invoice/OtherWay";
import { AtOnceRoom } from "../src/rooms/returns/AtOnce";
import { ExchangeRoom } from "../src/rooms/returns/Exchange";
import { WrongItemRoom } from "../src/rooms/returns/WrongItem";
import { type Answers, type Call, no, stage } from "./stage";

afterEach(cleanup);

const billed = (position: number, code: string, more: object = {}) => ({
  line: 40 + position,
  position,
  document: { kind: "invoice", id: 12, number: "I-12" },
  number: "I-12",
  date: "2026-03-09",
  code,
  description: `${code} of cedar`,
  unit: "pc",
  billed: "4",
  left: "3",
  unit_price: "31",
  discount: "0",
  worth: 9300,
  currency: "EUR",
  tax_code: "S23",
  tax_rate: "0.23",
  obstacle: null,
  ...more,
});

const item = (code: string, kind: string) => ({
  id: 7,
  code,
  name: `${code} by name`,
  kind,
  unit: "pc",
  list_price: "44",
  available: "9",
});

const settings = {
  reasons: [
    { code: "DAMAGED", name: "Damaged in transit", active: true },
    { code: "UNWANTED", name: "Not needed any more", active: true },
  ],
  dispositions: [
    { code: "RESTOCK", name: "Restock", outcome: "restock", active: true },
    { code: "SUPPLIER", name: "Back to the supplier", outcome: "supplier", active: true },
  ],
  days: 60,
  until: "2026-05-17",
};

interface Wish {
  back: { quantity: string; price?: string }[];
  added: { item: string; unit_price?: string }[];
}

const stops = (field: string, sentence: string) => ({ check: "x", effect: "stops", field, words: "", sentence });
const tape = { heading: "Orchard Lane", subheading: "exchange against I-12", currency: "EUR", lines: [] };

/** As the server would: 38.13 for each piece back, 54.12 for one that goes; three can come back. */
function previewed({ body }: Call) {
  const { back, added } = body as Wish;
  const pieces = Number(back[0]?.quantity);
  const too = pieces > 3 ? [stops("back.0.quantity", "3 pc of HIVE can come back at most.")] : [];
  const gone = added[0]?.item === "GONE" ? [stops("added.0.quantity", "0 of GONE are free.")] : [];
  return {
    total: pieces * 3813 - added.length * 5412,
    back: [pieces * 3100],
    added: added.map(() => 4400),
    tape,
    entry: null,
    changes: [],
    blockers: [...too, ...gone],
    fingerprint: `seen ${pieces} ${added.length}`,
  };
}

const answers: Answers = {
  "GET /api/return-settings": settings,
  "GET /api/returnable": { lines: [billed(0, "HIVE"), billed(1, "LID", { left: "0" })], count: 2 },
  "GET /api/items": { items: [item("SMOKER", "goods"), item("FRT", "charge")], count: 2 },
  "GET /api/invoices/{id}": {
    id: 12,
    number: "I-12",
    customer: { id: 2, number: "1002", name: "Orchard Lane", address: "", tax_id: null },
    document: { currency: "EUR", gross_priced: false, lines: [] },
  },
  "POST /api/invoices/{id}/back-at-once/preview": previewed,
  "POST /api/invoices/{id}/back-at-once": {
    document: { kind: "invoice", id: 77, number: "I-77" },
    returned: { kind: "return", id: 9, number: "RA-9" },
  },
};

const exchange = (more: Answers = {}) =>
  stage(<AtOnceRoom />, "/invoices/12/exchange", { ...answers, ...more }, "/invoices/:id/exchange");

test("what comes back and what goes out for it stand in one document, with what is left in view", async () => {
  const user = userEvent.setup();
  const till = exchange();
  const quantity = await screen.findByLabelText("Quantity of HIVE that is back");
  // Of what cannot come back there is no row.
  expect(screen.queryByLabelText("Quantity of LID that is back")).toBeNull();
  await user.type(quantity, "4");
  await screen.findAllByText("3 pc of HIVE can come back at most.");
  await user.clear(quantity);
  await user.type(quantity, "1");
  await screen.findByRole("button", { name: /Return and credit · credit €38.13/ });
  // The supplier's and the customer's own are decided at inspection.
  const where = await screen.findByLabelText("Where HIVE goes");
  expect(within(where).queryByText("Back to the supplier")).toBeNull();
  await user.selectOptions(where, "RESTOCK");
  const goes = screen.getAllByLabelText("Item that goes out, or charge")[0] as HTMLElement;
  await user.type(goes, "SMOKER");
  await user.type(screen.getByLabelText("Price of line 1 that goes the other way"), "44");
  const action = await screen.findByRole("button", { name: /Post the exchange · €15.99 to pay/ });
  await waitFor(() => expect((action as HTMLButtonElement).disabled).toBe(false));
  // Nothing leaves the house without its reason.
  await user.click(action);
  await screen.findByText(/Say why, in a few words/);
  await user.type(screen.getByLabelText("Why"), "the larger one is wanted");
  await user.click(screen.getByRole("button", { name: /Post the exchange/ }));
  const ask = within(await screen.findByRole("dialog"));
  ask.getByText("What is left to pay becomes an invoice.");
  await user.click(ask.getByRole("button", { name: /Post the exchange/ }));
  await waitFor(() => expect(till.asked("POST /api/invoices/{id}/back-at-once")).toHaveLength(1));
  expect(till.asked("POST /api/invoices/{id}/back-at-once").at(-1)?.body).toEqual({
    back: [{ position: 0, quantity: "1", reason: "UNWANTED", disposition: "RESTOCK" }],
    added: [{ item: "SMOKER", quantity: "1", unit_price: "44" }],
    date: null,
    reason: "the larger one is wanted",
    seen: "seen 1 1",
  });
});

test("what is wrong with what goes out is said at its line, and nothing is posted", async () => {
  const user = userEvent.setup();
  exchange();
  await user.type(await screen.findByLabelText("Quantity of HIVE that is back"), "2");
  await user.type(screen.getAllByLabelText("Item that goes out, or charge")[0] as HTMLElement, "GONE");
  await screen.findAllByText("0 of GONE are free.");
  expect(screen.getByRole<HTMLButtonElement>("button", { name: /Post the exchange/ }).disabled).toBe(true);
});

test("an invoice of which nothing can come back says so", async () => {
  exchange({ "GET /api/returnable": { lines: [billed(0, "HIVE", { left: "0" })], count: 1 } });
  await screen.findByText(/Nothing of this invoice can come back any more/);
});

const customer = { id: 2, number: "1002", name: "Orchard Lane", currency: "EUR" };

const unknown = (more: Answers = {}) =>
  stage(
    <ExchangeRoom />,
    "/returns/exchange?customer=2",
    {
      ...answers,
      "GET /api/customers": [customer],
      // As the server would, at the price that was typed and 23 %.
      "POST /api/exchanges/preview": ({ body }: Call) => {
        const { back, added } = body as Wish;
        const of = (text = "") => Math.round(Number(text) * 100);
        const dear = Number(back[0]?.price) > 500 ? [stops("back.0.price", "Nobody pays that.")] : [];
        return {
          total: back.reduce((sum, line) => sum + of(line.price), 0) - added.length * 4400,
          back: back.map((line) => of(line.price)),
          added: added.map(() => 4400),
          tape: { ...tape, subheading: "exchange" },
          entry: null,
          changes: [],
          blockers: dear,
          fingerprint: `seen ${back.length} ${added.length}`,
        };
      },
      "POST /api/exchanges": {
        document: { kind: "credit_memo", id: 77, number: "CM-77" },
        returned: { kind: "return", id: 9, number: "RA-9" },
      },
      ...more,
    },
    "/returns/exchange",
  );

test("goods that no invoice shows are exchanged in one document", async () => {
  const user = userEvent.setup();
  const till = unknown();
  await user.type(await screen.findByLabelText("Item of line 1 without a document"), "HIVE");
  // Until a price is said there is nothing to work out.
  expect(till.asked("POST /api/exchanges/preview")).toHaveLength(0);
  const cost = screen.getByLabelText("Price of line 1 without a document");
  await user.type(cost, "900");
  await screen.findAllByText("Nobody pays that.");
  await user.clear(cost);
  await user.type(cost, "50");
  await screen.findByRole("button", { name: /Return and credit · credit €50.00/ });
  const goes = screen.getAllByLabelText("Item that goes out, or charge")[0] as HTMLElement;
  await user.type(goes, "SMOKER");
  const action = await screen.findByRole("button", { name: /Post the exchange · credit €6.00/ });
  await waitFor(() => expect((action as HTMLButtonElement).disabled).toBe(false));
  await user.click(action);
  await screen.findByText(/Say why, in a few words/);
  await user.type(screen.getByLabelText("Why"), "a gift, without its receipt");
  await user.click(screen.getByRole("button", { name: /Post the exchange/ }));
  const ask = within(await screen.findByRole("dialog"));
  ask.getByText(/What is left to credit is kept for the customer/);
  await user.click(ask.getByRole("button", { name: /Post the exchange/ }));
  await waitFor(() => expect(till.asked("POST /api/exchanges")).toHaveLength(1));
  expect(till.asked("POST /api/exchanges").at(-1)?.body).toEqual({
    customer: 2,
    back: [{ item: "HIVE", quantity: "1", price: "50", reason: "UNWANTED", disposition: null }],
    added: [{ item: "SMOKER", quantity: "1" }],
    date: null,
    reason: "a gift, without its receipt",
    seen: "seen 1 1",
  });
});

test("only lines that say something go the other way, at the price of the list where none is typed", () => {
  const typed = [
    { item: " FRT ", quantity: "", price: "1,005.50" },
    { item: "", quantity: "3", price: "" },
    { item: "SMOKER", quantity: "2", price: "" },
  ];
  expect(addedLines(typed)).toEqual([
    { item: "FRT", quantity: "1", unit_price: "1005.50" },
    { item: "SMOKER", quantity: "2" },
  ]);
});

const wrongItem = (more: Answers = {}) =>
  stage(
    <WrongItemRoom />,
    "/invoices/12/wrong-item",
    {
      "GET /api/returnable": answers["GET /api/returnable"],
      "GET /api/items": answers["GET /api/items"],
      "POST /api/invoices/{id}/wrong-item/preview": ({ body }: Call) =>
        (body as { item: string }).item === "HIVE"
          ? {
              right_cost: 0,
              sent_cost: 0,
              tape: null,
              entry: null,
              fingerprint: "",
              blockers: [stops("item", "HIVE is what was billed.")],
            }
          : { right_cost: 1450, sent_cost: 1600, tape, entry: null, blockers: [], fingerprint: "seen" },
      "POST /api/invoices/{id}/wrong-item": { kind: "return", id: 9, number: "RA-9" },
      ...more,
    },
    "/invoices/:id/wrong-item",
  );

test("a wrong delivery is put right in one step, for all of the line where nothing is said", async () => {
  const user = userEvent.setup();
  const till = wrongItem();
  const went = await screen.findByLabelText("Item that really went");
  await user.type(went, "HIVE");
  await screen.findByText("HIVE is what was billed.");
  await user.clear(went);
  await user.type(went, "SMOKER");
  await screen.findByText(/SMOKER waits for inspection, HIVE leaves at what it cost/);
  await user.type(screen.getByLabelText("Note"), "two boxes mixed up");
  await user.click(screen.getByRole("button", { name: /Fix the delivery/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Fix the delivery/ }));
  await waitFor(() => expect(till.asked("POST /api/invoices/{id}/wrong-item")).toHaveLength(1));
  expect(till.asked("POST /api/invoices/{id}/wrong-item").at(-1)?.body).toEqual({
    position: 0,
    quantity: "3",
    item: "SMOKER",
    sent_quantity: null,
    reason: "WRONG",
    date: null,
    note: "two boxes mixed up",
    seen: "seen",
  });
});

test("what changed in between is said, and what was typed stays", async () => {
  const user = userEvent.setup();
  wrongItem({
    "POST /api/invoices/{id}/wrong-item": () => no({ title: "The figures have changed. Look again.", code: "moved" }),
  });
  await user.type(await screen.findByLabelText("Item that really went"), "SMOKER");
  await screen.findByText(/SMOKER waits for inspection/);
  await user.click(screen.getByRole("button", { name: /Fix the delivery/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.click(ask.getByRole("button", { name: /Fix the delivery/ }));
  await ask.findByText(/The figures have changed/);
});
