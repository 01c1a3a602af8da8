// @vitest-environment jsdom
import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

import { NewReceiptRoom } from "../src/rooms/NewReceipt";
import { OpenItemsRoom } from "../src/rooms/OpenItems";
import { ReceiptRoom } from "../src/rooms/Receipt";
import { amountIn, numberIn } from "../src/rooms/receipt/PayerField";
import { asOpening, cells, OpeningRoom, wrongIn, wrongSides } from "../src/rooms/setup/Opening";
import { type Call, no, stage } from "./stage";

afterEach(cleanup);

const entry = {
  id: 9,
  number: 9,
  date: "2026-03-10",
  text: "Receipt",
  currency: "EUR",
  debits: 10000,
  source: { kind: "receipt", id: 5, number: "C-5" },
  lines: [],
};

const receipt = (over: object = {}) => ({
  id: 5,
  number: "C-5",
  customer: 7,
  customer_name: "Dunlin School Farm",
  method: "check",
  whereabouts: "in_hand",
  reversed_on: null,
  reversal_reason: null,
  date: "2026-03-10",
  reference: "check 118",
  currency: "EUR",
  amount: 10000,
  unapplied: 0,
  unapplied_base: 0,
  refunds: [],
  applications: [
    {
      id: 31,
      item: 3,
      document: { kind: "invoice", id: 12, number: "I-12" },
      customer: 7,
      date: "2026-03-10",
      amount: 10000,
      open: 2500,
      currency: "EUR",
    },
  ],
  entries: [entry],
  trail: { steps: [] },
  version: 4,
  ...over,
});

const back = (over: object = {}) => ({
  currency: "EUR",
  amount: 10000,
  tape: { heading: "Dunlin School Farm", subheading: "C-5 reversed", currency: "EUR", lines: [] },
  entries: [
    {
      reverses: 9,
      entry: {
        date: "2026-03-18",
        text: "C-5 reversed",
        currency: "EUR",
        lines: [
          {
            account: "21000",
            account_name: "Receivable",
            purpose: "receivable",
            base: 10000,
            document: 10000,
            currency: "EUR",
          },
          {
            account: "32000",
            account_name: "In hand",
            purpose: "in_hand",
            base: -10000,
            document: -10000,
            currency: "EUR",
          },
        ],
      },
    },
  ],
  changes: [],
  blockers: [],
  fingerprint: "seen",
  ...over,
});

const answers = {
  "GET /api/receipts/{id}": () => receipt(),
  "GET /api/payment-methods": [],
  "GET /api/record/{kind}/{id}": [],
};

test("a receipt is reversed with what was seen, and can be entered again", async () => {
  const user = userEvent.setup();
  const { asked } = stage(
    <ReceiptRoom />,
    "/receipts/5",
    {
      ...answers,
      "POST /api/receipts/{id}/reverse/preview": back(),
      "POST /api/receipts/{id}/reverse": { version: 5 },
    },
    "/receipts/:id",
  );
  await screen.findByText("check, in hand");
  await user.keyboard("x");
  await screen.findByText("21000 Receivable");
  await user.type(screen.getByLabelText("Why"), "the other customer paid");
  await user.click(screen.getByRole("button", { name: /Reverse · €100.00/ }));
  await screen.findByText(/C-5 is reversed/);
  expect(asked("POST /api/receipts/{id}/reverse")[0]?.body).toEqual({
    version: 4,
    reason: "the other customer paid",
    date: null,
    seen: "seen",
  });
  const again = screen.getByRole("link", { name: "Enter it again" });
  expect(again.getAttribute("href")).toBe("/receipts/new?customer=7&again=5");
});

test("unapplying sends what stood; a refusal stands at its field", async () => {
  const user = userEvent.setup();
  const { asked } = stage(
    <ReceiptRoom />,
    "/receipts/5",
    {
      ...answers,
      "POST /api/receipts/{id}/unapply/preview": back(),
      "POST /api/receipts/{id}/unapply": no({ code: "refused", field: "date", title: "Choose 10 Mar 2026 or later." }),
    },
    "/receipts/:id",
  );
  await screen.findByText("I-12");
  await user.keyboard("u");
  await user.type(await screen.findByLabelText("Why"), "meant for another");
  await user.click(screen.getByRole("button", { name: /Unapply/ }));
  await screen.findByText("Choose 10 Mar 2026 or later.");
  expect(asked("POST /api/receipts/{id}/unapply")).toHaveLength(1);
});

test("a reversed receipt says so and offers neither", async () => {
  const user = userEvent.setup();
  const reversed = receipt({
    reversed_on: "2026-03-12",
    reversal_reason: "typed twice",
    whereabouts: "returned",
    applications: [],
  });
  stage(<ReceiptRoom />, "/receipts/5", { ...answers, "GET /api/receipts/{id}": reversed }, "/receipts/:id");
  await screen.findByText(/typed twice/);
  await user.keyboard("xu");
  expect(screen.queryByRole("dialog")).toBeNull();
});

test("what a reversed receipt said is there when it is entered again, by the company's own ways of paying", async () => {
  const ways = [
    { code: "giro", name: "giro", place: "Second bank", kind: "bank", currency: null },
    { code: "check", name: "check", place: "Checks", kind: "checks_in_hand", currency: null },
  ];
  stage(<NewReceiptRoom />, "/receipts/new?again=5", {
    ...answers,
    "GET /api/payment-methods": ways,
    "GET /api/customers": [],
  });
  await waitFor(() => expect((screen.getByLabelText(/Amount/) as HTMLInputElement).value).toBe("100.00"));
  expect((screen.getByLabelText(/Reference/) as HTMLInputElement).value).toBe("check 118");
  expect((screen.getByLabelText("Giro") as HTMLInputElement).checked).toBe(true);
  await userEvent.click(screen.getByLabelText("Check"));
  expect(screen.getByLabelText(/Check number/)).toBeTruthy();
});

test("open items of a past day, what is owed back negative, with their ages", async () => {
  const item = (over: object) => ({
    id: 1,
    customer: 7,
    customer_name: "Dunlin School Farm",
    document: { kind: "invoice", id: 12, number: "I-12" },
    purpose: "receivable",
    side: "owed_to_us",
    document_date: "2026-01-02",
    due_date: "2026-01-10",
    days_late: 64,
    currency: "EUR",
    amount: 5000,
    open: 5000,
    open_base: 5000,
    late_base: 5000,
    ...over,
  });
  const { asked } = stage(<OpenItemsRoom />, "/ledger/open-items?as_of=2026-03-15", {
    "GET /api/ledger/open-items": {
      as_of: "2026-03-15",
      items: [
        item({}),
        item({ id: 2, side: "owed_by_us", purpose: "unapplied", document: { kind: "receipt", id: 5, number: "C-5" } }),
      ],
      owed_base: 5000,
      unapplied_base: 5000,
      ageing: { not_due: 0, days_1_30: 0, days_31_60: 0, over_60: 5000 },
    },
  });
  await screen.findByText("I-12");
  expect(asked("GET /api/ledger/open-items")[0]?.params?.query).toEqual({ as_of: "2026-03-15" });
  expect(screen.getAllByText("−50.00")).toHaveLength(2);
  expect(screen.getByText("◆ 64 days")).toBeTruthy();
});

test("lines pasted from a spreadsheet become an opening, and what is wrong is said by line", async () => {
  expect(cells("1001\tinvoice\tA\n\n 2 ; 3 ")).toEqual([
    ["1001", "invoice", "A"],
    ["2", "3"],
  ]);
  const typed = {
    items: "1001;unapplied;OLD-5;2026-01-02;;1,200.50",
    stock: "HB-12;4;58.00",
    balances: "31000;-12.30",
  };
  expect(asOpening(typed, "")).toEqual({
    date: null,
    items: [
      {
        customer: "1001",
        side: "unapplied",
        number: "OLD-5",
        document_date: "2026-01-02",
        due_date: null,
        amount: "1200.50",
      },
    ],
    stock: [{ item: "HB-12", quantity: "4", cost: "58.00", warehouse: null }],
    balances: [{ account: "31000", amount: "-12.30" }],
  });
  const found = [{ field: "items.1.amount", sentence: "Enter an amount." }];
  expect(wrongIn("items", found)).toEqual(["Line 2: Enter an amount."]);
  expect(wrongIn("stock", found)).toEqual([]);
});

test("an opening is previewed as it is typed and posted once", async () => {
  const user = userEvent.setup();
  const preview = {
    tape: { heading: "Opening balances", subheading: "18 Mar 2026", currency: "EUR", lines: [] },
    entry: back().entries[0]?.entry,
    blockers: [],
    fingerprint: "mark",
  };
  const { asked } = stage(<OpeningRoom />, "/setup/opening", {
    "POST /api/openings/preview": preview,
    "POST /api/openings": { id: 1, number: "OB-1", entry: 9 },
  });
  await user.type(screen.getByLabelText("Other balances"), "31000;100");
  const post = await screen.findByRole("button", { name: /Post the opening · €100.00/ });
  await waitFor(() => expect((post as HTMLButtonElement).disabled).toBe(false));
  await user.click(post);
  await user.click(await screen.findByRole("button", { name: /^Post · €100.00/ }));
  await waitFor(() => expect(asked("POST /api/openings")).toHaveLength(1));
  expect(asked("POST /api/openings")[0]?.body).toMatchObject({
    seen: "mark",
    balances: [{ account: "31000", amount: "100" }],
  });
});

test("a side that is no word of ours is refused at its line, never taken for an invoice", () => {
  const lines = "1001;Invoice;A;2026-01-02;;1\n1001;credit;B;2026-01-02;;1\n1001;;C;2026-01-02;;1\n1001;unapplied;D";
  expect(wrongIn("items", wrongSides(lines))).toEqual([
    "Line 2: Write invoice or unapplied, not “credit”.",
    "Line 3: Write invoice or unapplied, not “”.",
  ]);
});

test("a receipt begins with what the payer wrote: an invoice number, or a payment reference", async () => {
  expect(numberIn("I-3291")).toBe("I-3291");
  expect(numberIn("rf87 i329 1")).toBe("rf87 i329 1");
  for (const words of ["", "Tern", "RF", "7"]) {
    expect(numberIn(words)).toBeUndefined();
  }
  const user = userEvent.setup();
  const customer = { id: 4, number: "1004", name: "Kestrel Moor", currency: "EUR" };
  const found = {
    document: { kind: "invoice", id: 12, number: "I-3291" },
    customer: 4,
    customer_name: "Kestrel Moor",
    open: 120748,
    early: null,
    by_amount: false,
    currency: "EUR",
  };
  const open = { item: 9, document: { kind: "invoice", id: 12, number: "I-3291" }, number: "I-3291", kind: "invoice" };
  const { asked } = stage(<NewReceiptRoom />, "/receipts/new", {
    "GET /api/customers": [customer, { ...customer, id: 5, number: "1005", name: "Quillback" }],
    "GET /api/payers": [found],
    "GET /api/customers/{id}": {
      ...customer,
      owes: 120748,
      credits: [],
      open_items: [
        {
          ...open,
          document_date: "2026-03-09",
          due_date: "2026-04-15",
          days_late: 0,
          total: 120748,
          open: 120748,
          currency: "EUR",
        },
      ],
    },
    "GET /api/deposits": { deposits: [], count: 0 },
    "GET /api/payment-methods": [{ code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null }],
    "POST /api/receipts/preview": no({ code: "invalid", field: "amount", title: "not asked about here" }),
  });
  await user.type(await screen.findByLabelText("Customer"), "RF87 I329 1");
  await user.click(await screen.findByText("I-3291 · Kestrel Moor"));
  // The customer is the invoice's, the amount what is open of it.
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Customer").value).toBe("Kestrel Moor · 1004"));
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Amount EUR").value).toBe("1207.48"));
  expect(asked("GET /api/payers").at(-1)?.params?.query).toEqual({ q: "RF87 I329 1" });
  await waitFor(() =>
    expect(asked("POST /api/receipts/preview").at(-1)?.body).toMatchObject({ customer: 4, first: 12 }),
  );
});

test("it begins with an amount: what came is what was typed, and the invoice takes its discount", async () => {
  for (const [words, amount] of [
    ["1,207.48", "1207.48"],
    ["984", "984"],
    ["I-3291", undefined],
    ["Tern", undefined],
    ["", undefined],
  ]) {
    expect(amountIn(words ?? "")).toBe(amount);
  }
  const user = userEvent.setup();
  const customer = { id: 4, number: "1004", name: "Kestrel Moor", currency: "EUR" };
  const { asked } = stage(<NewReceiptRoom />, "/receipts/new", {
    "GET /api/customers": [customer],
    "GET /api/payers": [
      {
        document: { kind: "invoice", id: 12, number: "I-3291" },
        customer: 4,
        customer_name: "Kestrel Moor",
        open: 20400,
        early: 19992,
        by_amount: true,
        currency: "EUR",
      },
      {
        document: { kind: "order", id: 2, number: "O-199" },
        customer: 4,
        customer_name: "Kestrel Moor",
        open: null,
        early: null,
        by_amount: false,
        currency: "EUR",
      },
    ],
    "GET /api/customers/{id}": { ...customer, owes: 20400, credits: [], open_items: [] },
    "GET /api/deposits": { deposits: [], count: 0 },
    "GET /api/payment-methods": [{ code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null }],
    "POST /api/receipts/preview": no({ code: "invalid", field: "amount", title: "not asked about here" }),
  });
  await user.type(await screen.findByLabelText("Customer"), "199.92");
  await screen.findByText("order");
  await user.click(await screen.findByText("€204.00 open, 199.92 with the discount"));
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Amount EUR").value).toBe("199.92"));
  expect(asked("GET /api/payers").at(-1)?.params?.query).toEqual({ q: "199.92", amount: "199.92" });
  await waitFor(() =>
    expect(asked("POST /api/receipts/preview").at(-1)?.body).toMatchObject({
      customer: 4,
      first: 12,
      amount: "199.92",
    }),
  );
});

test("a stack of checks is entered one after the other against its control total", async () => {
  const user = userEvent.setup();
  const customer = { id: 4, number: "1004", name: "Kestrel Moor", currency: "EUR" };
  let made = 0;
  const { asked } = stage(<NewReceiptRoom />, "/receipts/new?stack=1", {
    "GET /api/customers": [customer],
    "GET /api/payers": [
      {
        document: { kind: "invoice", id: 12, number: "I-12" },
        customer: 4,
        customer_name: "Kestrel Moor",
        open: 10000,
        early: null,
        by_amount: false,
        currency: "EUR",
      },
    ],
    "GET /api/customers/{id}": {
      ...customer,
      owes: 10000,
      credits: [],
      open_items: [
        {
          item: 9,
          document: { kind: "invoice", id: 12, number: "I-12" },
          number: "I-12",
          document_date: "2026-03-09",
          due_date: "2026-04-15",
          days_late: 0,
          total: 10000,
          open: 10000,
          currency: "EUR",
        },
      ],
    },
    "GET /api/deposits": { deposits: [], count: 0 },
    "GET /api/payment-methods": [
      { code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null },
      { code: "check", name: "check", place: "Checks in hand", kind: "checks_in_hand", currency: null },
    ],
    "POST /api/receipts/preview": ({ body }: Call) => {
      const amount = Math.round(Number((body as { amount: string }).amount) * 100);
      return back({
        currency: "EUR",
        with: [],
        settled_by: [],
        suggested: [],
        entry: null,
        document: {
          date: { date: "2026-03-18", typed: false },
          amount,
          amount_base: amount,
          applied: [],
          unapplied: amount,
          unapplied_base: amount,
        },
      });
    },
    "POST /api/receipts": () => {
      made += 1;
      return { id: made, number: `C-${made}` };
    },
  });
  const post = async (amount: string, total: string) => {
    await user.type(await screen.findByRole("combobox", { name: "Customer" }), "Kestrel");
    await user.click(await screen.findByText("Kestrel Moor · 1004"));
    await user.type(screen.getByLabelText("Amount EUR"), amount);
    await user.click(await screen.findByRole("button", { name: new RegExp(`Post the receipt · ${total}`) }));
    await user.click(await screen.findByRole("button", { name: new RegExp(`Post · ${total}`) }));
  };
  await user.type(await screen.findByLabelText("Control total EUR"), "150");
  // The first is begun with its invoice: what it says is not left over for the next.
  await user.type(screen.getByRole("combobox", { name: "Customer" }), "I-12");
  await user.click(await screen.findByText("I-12 · Kestrel Moor"));
  await user.click(await screen.findByRole("button", { name: /Post the receipt · €100.00/ }));
  await user.click(await screen.findByRole("button", { name: /^Post · €100.00/ }));
  await screen.findByText(/1 receipt · 100.00 EUR/);
  screen.getByText(/50.00 to go/);
  // The next begins anew, by the same way.
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Amount EUR").value).toBe(""));
  await post("50", "€50.00");
  await screen.findByText("● the stack is complete");
  await screen.findByRole("link", { name: "C-2" });
  expect(asked("POST /api/receipts").map((call) => (call.body as { method: string }).method)).toEqual([
    "check",
    "check",
  ]);
  await user.click(screen.getByRole("button", { name: /Finish the stack/ }));
  await screen.findByText(/Finish the stack\?/);
});
