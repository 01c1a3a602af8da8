// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
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

import { CreditMemoRoom } from "../src/rooms/CreditMemo";
import { CreditAloneRoom } from "../src/rooms/invoice/CreditAlone";
import { ClaimsRoom } from "../src/rooms/returns/Claims";
import { ExpectedRoom } from "../src/rooms/returns/Expected";
import { Pictures } from "../src/rooms/returns/Pictures";
import { type Answers, type Call, no, stage } from "./stage";

afterEach(cleanup);

const tape = { heading: "Orchard Lane", subheading: "credit memo", currency: "EUR", lines: [] };
const stops = (field: string, sentence: string) => ({ check: "x", effect: "stops", field, words: "", sentence });
const customer = { id: 4, number: "1004", name: "Orchard Lane", currency: "EUR" };
const methods = [
  { code: "transfer", name: "Transfer", place: "Bank", kind: "bank", currency: null },
  { code: "check", name: "Check", place: "Checks in hand", kind: "checks_in_hand", currency: null },
];

/** As the server would: 1.23 for each euro of the lines. */
function alone({ body }: Call) {
  const { added } = body as { added: { unit_price?: string; tax_code?: string }[] };
  const nets = added.map((line) => Math.round(Number(line.unit_price ?? "0") * 100));
  const net = nets.reduce((sum, one) => sum + one, 0);
  return {
    currency: "EUR",
    total: Math.round(net * 1.23),
    added: nets,
    tape,
    entry: null,
    changes: [],
    blockers: net === 0 ? [stops("added", "It comes to nothing. Enter what is credited.")] : [],
    fingerprint: `seen ${net}`,
  };
}

const answers: Answers = {
  "GET /api/customers": [customer],
  "GET /api/goods-settings": { tax_codes: [{ code: "S21", name: "Standard" }], marks: { lists: [] } },
  "GET /api/items": { items: [], count: 0 },
  "GET /api/approvals": [],
  "GET /api/payment-methods": methods,
  "POST /api/credit-memos/preview": alone,
  "POST /api/credit-memos": { credit_memo: 66, number: "CM-66", waits: null },
};

test("a credit memo with no invoice behind it says what, why and how much, and posts what was seen", async () => {
  const user = userEvent.setup();
  const till = stage(<CreditAloneRoom />, "/credit-memos/new?customer=4", answers, "/credit-memos/new");
  await user.type(await screen.findByLabelText("Item or account of line 1"), "61000");
  await screen.findAllByText("It comes to nothing. Enter what is credited.");
  await user.type(screen.getByLabelText("Words of line 1"), "Goodwill");
  await user.type(screen.getByLabelText("Price of line 1"), "50");
  const action = await screen.findByRole("button", { name: /Credit €61.50/ });
  await waitFor(() => expect((action as HTMLButtonElement).disabled).toBe(false));
  await user.click(action);
  await screen.findByText(/Say why, in a few words/);
  expect(screen.queryByRole("dialog")).toBeNull();
  await user.type(screen.getByLabelText("Why"), "promised by phone");
  await user.click(screen.getByRole("button", { name: /Credit €61.50/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Credit · €61.50/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-memos")).toHaveLength(1));
  expect(till.asked("POST /api/credit-memos").at(-1)?.body).toEqual({
    customer: 4,
    added: [{ item: "61000", quantity: "1", description: "Goodwill", unit_price: "50" }],
    date: null,
    reason: "promised by phone",
    seen: "seen 5000",
  });
});

const memo = (open: number, more: object = {}) => ({
  id: 66,
  number: "CM-66",
  customer: { id: 4, number: "1004", name: "Orchard Lane", address: "Row 2", tax_id: null },
  invoice: null,
  whole: false,
  kept: { amount: 6150, open, applied: [], refunds: [], ...more },
  document: { currency: "EUR", gross_priced: false, lines: [], taxes: [], net: 5000, tax: 1150, total: 6150 },
  returned_on: [],
  date: "2026-03-18",
  reason: "promised by phone",
  tape,
  entries: [],
  deliveries: [],
  trail: { steps: [] },
  version: 3,
});
const owes = {
  id: 4,
  credits: [],
  open_items: [
    {
      item: 9,
      number: "I-9",
      kind: "invoice",
      branch: null,
      document_date: "2026-03-01",
      due_date: "2026-03-31",
      days_late: 0,
      total: 10000,
      open: 10000,
      currency: "EUR",
    },
  ],
};

const nothing = { amount: 0, base: 0 };

test("what is kept of a credit memo is applied from its own page", async () => {
  const user = userEvent.setup();
  const till = stage(
    <CreditMemoRoom />,
    "/credit-memos/66",
    {
      ...answers,
      "GET /api/credit-memos/{id}": memo(6150),
      "GET /api/customers/{id}": owes,
      "POST /api/credit-memos/{id}/applications/preview": {
        with: [],
        currency: "EUR",
        document: {
          applied: [
            {
              item: 9,
              credit_amount: 6150,
              open_after: 3850,
              document: { kind: "invoice", id: 9, number: "I-9" },
              beside: { discount: nothing, written_off: nothing, kept: nothing, taxes: [] },
            },
          ],
        },
        tape,
        entry: null,
        changes: [],
        blockers: [],
        fingerprint: "seen apply",
      },
      "POST /api/credit-memos/{id}/applications": { version: 4 },
    },
    "/credit-memos/:id",
  );
  await screen.findByText("none, it stands alone");
  await user.click(await screen.findByRole("button", { name: /Apply…/ }));
  await user.click(await screen.findByRole("button", { name: /Apply €61.50/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Apply · €61.50/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-memos/{id}/applications")).toHaveLength(1));
  expect(till.asked("POST /api/credit-memos/{id}/applications").at(-1)?.body).toEqual({
    date: null,
    applications: null,
    version: 3,
    seen: "seen apply",
  });
});

test("a refund names what it pays back; checks in hand are no way to send money", async () => {
  const user = userEvent.setup();
  const till = stage(
    <CreditMemoRoom />,
    "/credit-memos/66",
    {
      ...answers,
      "GET /api/credit-memos/{id}": memo(4150, {
        refunds: [
          {
            id: 1,
            number: "RF-1",
            date: "2026-03-18",
            amount: 2000,
            method: "Transfer",
            reason: "asked for",
            reversed_on: null,
          },
        ],
      }),
      "GET /api/customers/{id}": { ...owes, open_items: [] },
      "POST /api/credit-memos/{id}/refund/preview": ({ body }: Call) => ({
        currency: "EUR",
        amount: Math.round(Number((body as { amount: string }).amount) * 100),
        tape,
        entry: null,
        changes: [],
        blockers: [],
        fingerprint: "seen refund",
      }),
      "POST /api/credit-memos/{id}/refund": { number: "RF-2", waits: null, version: 4 },
    },
    "/credit-memos/:id",
  );
  await screen.findByRole("table", { name: "Refunds" });
  await user.click(await screen.findByRole("button", { name: /^Refund/ }));
  const ask = within(await screen.findByRole("dialog"));
  expect(ask.queryByText("Check")).toBeNull();
  await user.clear(ask.getByLabelText("Amount, EUR"));
  await user.type(ask.getByLabelText("Amount, EUR"), "10");
  await user.type(ask.getByLabelText("Why"), "asked for");
  await user.click(await ask.findByRole("button", { name: /Refund · €10.00/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-memos/{id}/refund")).toHaveLength(1));
  expect(till.asked("POST /api/credit-memos/{id}/refund").at(-1)?.body).toMatchObject({
    amount: "10",
    method: "transfer",
    reason: "asked for",
    version: 3,
    seen: "seen refund",
  });
});

const claim = {
  id: 5,
  returned: { kind: "return", id: 2, number: "RA-2" },
  code: "SM-ST",
  description: "Smoker",
  date: "2026-03-12",
  age: 6,
  claimed: 3000,
  settled: 0,
  refused: 0,
  open: 3000,
  answers: [],
};

test("a supplier's answer is entered with what it does in view, and what is too much is said at its field", async () => {
  const user = userEvent.setup();
  const till = stage(<ClaimsRoom />, "/returns/claims", {
    ...answers,
    "GET /api/claims": { open: 3000, claims: [claim] },
    "POST /api/claims/{id}/answer/preview": {
      tape,
      entry: null,
      changes: [],
      blockers: [],
      fingerprint: "seen answer",
    },
    "POST /api/claims/{id}/answer": ({ body }: Call) =>
      (body as { refused: string | null }).refused === "99"
        ? no({ code: "refused", field: "refused", title: "30.00 EUR of the claim are open." })
        : { open: 0 },
  });
  await screen.findByText("RA-2");
  await user.click(screen.getByRole("button", { name: /Enter the answer/ }));
  const ask = within(await screen.findByRole("dialog"));
  const paid = ask.getByLabelText<HTMLInputElement>("Paid, EUR");
  expect(paid.value).toBe("30.00");
  await user.clear(paid);
  await user.type(paid, "20");
  await user.type(ask.getByLabelText("Refused, EUR"), "99");
  await waitFor(() =>
    expect(till.asked("POST /api/claims/{id}/answer/preview").at(-1)?.body).toMatchObject({ refused: "99" }),
  );
  await user.click(ask.getByRole("button", { name: /Enter it/ }));
  await ask.findByText("30.00 EUR of the claim are open.");
  await user.clear(ask.getByLabelText("Refused, EUR"));
  await user.type(ask.getByLabelText("Refused, EUR"), "10");
  await waitFor(() =>
    expect(till.asked("POST /api/claims/{id}/answer/preview").at(-1)?.body).toMatchObject({ refused: "10" }),
  );
  await user.click(ask.getByRole("button", { name: /Enter it/ }));
  await waitFor(() => expect(till.asked("POST /api/claims/{id}/answer")).toHaveLength(2));
  expect(till.asked("POST /api/claims/{id}/answer").at(-1)?.body).toMatchObject({
    settled: "20",
    refused: "10",
    method: "transfer",
    seen: "seen answer",
  });
});

test("no claim is no empty table", async () => {
  stage(<ClaimsRoom />, "/returns/claims", { ...answers, "GET /api/claims": { open: 0, claims: [] } });
  await screen.findByText(/Nothing is claimed of suppliers/);
});

test("what is no picture is refused by name, the others are added", async () => {
  const till = stage(<Pictures returnId={2} pictures={[]} />, "/", {
    "POST /api/returns/{id}/pictures": ({ params }: Call) =>
      params?.query?.name === "slip.pdf"
        ? no({
            code: "invalid",
            field: "picture",
            title: "slip.pdf is not a picture. Choose a JPEG, PNG or WebP file.",
          })
        : { id: 1 },
  });
  const files = [new File(["%PDF"], "slip.pdf"), new File(["png"], "crate.png")];
  fireEvent.change(await screen.findByLabelText("Pictures to add"), { target: { files } });
  await screen.findByText(/slip.pdf is not a picture/);
  expect(till.asked("POST /api/returns/{id}/pictures")).toHaveLength(2);
});

test("a picture is removed only when asked", async () => {
  const user = userEvent.setup();
  const one = { id: 7, name: "crate.png", width: 360, height: 270, size: 900, added_on: "2026-03-18" };
  const till = stage(<Pictures returnId={2} pictures={[one]} />, "/", {
    "DELETE /api/returns/{id}/pictures/{picture}": true,
  });
  await user.click(await screen.findByRole("button", { name: "Remove picture crate.png" }));
  expect(till.asked("DELETE /api/returns/{id}/pictures/{picture}")).toHaveLength(0);
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Remove picture/ }));
  await waitFor(() => expect(till.asked("DELETE /api/returns/{id}/pictures/{picture}")).toHaveLength(1));
});

test("what is back and not credited is entered as it was seen, and the day is refused at its field", async () => {
  const user = userEvent.setup();
  const seen = { net: 5900, reversed_on: "2026-04-01", tape, entry: null, blockers: [], fingerprint: "seen" };
  const entry = { kind: "entry", id: 9, number: "E-9" };
  const estimates = {
    days: 90,
    standing: { net: 0, cost: 0 },
    billed: { net: 0, cost: 0 },
    came_back: "0",
    estimates: [],
  };
  const till = stage(<ExpectedRoom />, "/returns/expected", {
    "GET /api/expected-returns": { ...estimates, accruals: [] },
    "POST /api/expected-returns/back/preview": seen,
    "POST /api/expected-returns/back": ({ body }: Call) =>
      (body as { date: string | null }).date
        ? no({ code: "refused", field: "date", title: "February is closed." })
        : { kind: "estimate", id: 1, number: "AR-1" },
  });
  await user.click(await screen.findByRole("button", { name: /back, not credited/ }));
  const ask = within(screen.getByRole("dialog"));
  await ask.findByText(/59.00 EUR will be credited for them/);
  const day = ask.getByLabelText(/^Last day of a month/);
  fireEvent.change(day, { target: { value: "2026-02-28" } });
  await waitFor(() =>
    expect(till.asked("POST /api/expected-returns/back/preview").at(-1)?.body).toEqual({ date: "2026-02-28" }),
  );
  await user.click(ask.getByRole("button", { name: /Enter it/ }));
  await ask.findByText("February is closed.");
  fireEvent.change(day, { target: { value: "" } });
  till.now({
    "GET /api/expected-returns": {
      ...estimates,
      accruals: [{ number: "AR-1", date: "2026-03-31", reversed_on: "2026-04-01", net: 5900, entry }],
    },
  });
  await waitFor(() =>
    expect(till.asked("POST /api/expected-returns/back/preview").at(-1)?.body).toEqual({ date: null }),
  );
  await user.click(ask.getByRole("button", { name: /Enter it/ }));
  await screen.findByText("AR-1");
  expect(till.asked("POST /api/expected-returns/back").at(-1)?.body).toEqual({ date: null, seen: "seen" });
});
