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

import { AuthorizeAsk } from "../src/rooms/cards/AuthorizeAsk";
import { CardRoom } from "../src/rooms/cards/Card";
import { CardsRoom } from "../src/rooms/cards/Cards";
import { PayoutRoom } from "../src/rooms/cards/Payouts";
import { became } from "../src/rooms/cards/words";
import { CloseAsk } from "../src/rooms/order/CloseAsk";
import { NoticeStrip } from "../src/shell/notices";
import { type Call, no, sized, stage } from "./stage";

sized();
afterEach(cleanup);

const row = (over: object = {}) => ({
  id: 5,
  number: "CA-5",
  customer: 2,
  customer_name: "Tern Point",
  target: { kind: "order", id: 7, number: "O-7" },
  last_four: "1231",
  asked_on: "2026-03-18",
  valid_until: "2026-03-25",
  currency: "EUR",
  amount: 29028,
  captured: 0,
  left: 29028,
  to_capture: 29028,
  state: "authorized",
  next: "capture",
  ...over,
});

const card = (over: object = {}) => ({
  ...row(),
  words: null,
  waits_for: null,
  captures: [],
  entries: [],
  version: 3,
  ...over,
});

const tape = {
  heading: "Tern Point",
  subheading: "card of 18 Mar 2026",
  currency: "EUR",
  lines: [{ style: "line", label: "to I-3", amount: -29028, of: null, assumed: false }],
};

const preview = {
  currency: "EUR",
  amount: 29028,
  goes: "to_invoices",
  entry: null,
  tape,
  changes: [],
  blockers: [],
  fingerprint: "seen",
};

const capture = (over: object = {}) => ({
  id: 8,
  reference: "capture_8",
  amount: 29028,
  left: 29028,
  captured_on: "2026-03-18",
  document: { kind: "receipt", id: 4, number: "C-4" },
  payout: null,
  returns: [],
  ...over,
});

const at = (answers: Parameters<typeof stage>[2]) => stage(<CardRoom />, "/cards/5", answers, "/cards/:id");

test("what has gone out is captured, with the version and what was seen", async () => {
  const user = userEvent.setup();
  const done = card({ state: "captured", captured: 29028, left: 0, captures: [capture()] });
  const stageOf = at({
    "GET /api/cards/{id}": card(),
    "POST /api/cards/{id}/capture/preview": preview,
    "POST /api/cards/{id}/capture": { card: done, waits: null },
  });
  await user.click(await screen.findByRole("button", { name: /Capture · €290.28/ }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByText(/a receipt for the open invoices of the order/);
  await user.click(await ask.findByRole("button", { name: /Capture · €290.28/ }));
  await screen.findByText(/€290.28 is captured: C-4/);
  expect(stageOf.asked("POST /api/cards/{id}/capture").at(-1)?.body).toEqual({
    version: 3,
    amount: "290.28",
    seen: "seen",
  });
});

test("what is refused stands at its field, and what was typed stays", async () => {
  const user = userEvent.setup();
  at({
    "GET /api/cards/{id}": card(),
    "POST /api/cards/{id}/capture/preview": preview,
    "POST /api/cards/{id}/capture": () =>
      no({ title: "290.28 EUR of CA-5 is left. Capture that or less.", code: "refused", field: "amount" }),
  });
  await user.click(await screen.findByRole("button", { name: /Capture · €290.28/ }));
  const ask = within(await screen.findByRole("dialog"));
  const amount = ask.getByLabelText("Amount EUR") as HTMLInputElement;
  await user.clear(amount);
  await user.type(amount, "300");
  await user.click(await ask.findByRole("button", { name: /^Capture/ }));
  await ask.findByText(/290.28 EUR of CA-5 is left/);
  expect(amount.value).toBe("300");
});

test("no answer yet: it says so, and is asked again", async () => {
  const user = userEvent.setup();
  const stageOf = at({
    "GET /api/cards/{id}": card({ next: "ask_again", waits_for: "capture" }),
    "POST /api/cards/{id}/ask-again": { card: card({ captured: 29028, left: 0 }), waits: null },
  });
  await screen.findByText(/nothing is charged twice/);
  expect(screen.queryByRole("button", { name: /^Capture/ })).toBeNull();
  await user.click(screen.getByRole("button", { name: /Ask again/ }));
  await waitFor(() => expect(stageOf.asked("POST /api/cards/{id}/ask-again")).toHaveLength(1));
});

test("a charge back is booked as it was seen, a capture is sent back to its card", async () => {
  const user = userEvent.setup();
  const back = {
    id: 6,
    charged_back: true,
    number: null,
    amount: 5000,
    fee: 1500,
    happened_on: "2026-03-18",
    reason: "goods not received",
    payout: null,
  };
  const stageOf = at({
    "GET /api/cards/{id}": card({ captures: [capture({ left: 24028, returns: [back] })] }),
    "POST /api/card-returns/{id}/book/preview": { number: "CB-1", entries: [], tape, fingerprint: "seen" },
    "POST /api/card-returns/{id}/book": { number: "CB-1", entries: [], tape, fingerprint: "seen" },
    "POST /api/card-captures/{id}/refund/preview": { ...preview, amount: 24028 },
    "POST /api/card-captures/{id}/refund": { card: card(), waits: 3 },
  });
  await screen.findByText(/charged back/);
  await user.click(screen.getByRole("button", { name: "Book the charge back of €50.00" }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByRole("region");
  await user.click(ask.getByRole("button", { name: /Book · €50.00/ }));
  await screen.findByText(/charge back of €50.00 is in the books: CB-1/);
  expect(stageOf.asked("POST /api/card-returns/{id}/book").at(-1)?.body).toEqual({ date: null, seen: "seen" });
  await user.click(screen.getByRole("button", { name: "Refund C-4" }));
  const refund = within(await screen.findByRole("dialog"));
  await refund.findByRole("button", { name: /Refund · €240.28/ });
  await user.type(refund.getByLabelText("Why"), "one came broken");
  await user.click(refund.getByRole("button", { name: /Refund · €240.28/ }));
  await screen.findByText(/A supervisor is asked/);
  expect(stageOf.asked("POST /api/card-captures/{id}/refund").at(-1)?.body).toEqual({
    amount: null,
    reason: "one came broken",
    seen: "seen",
  });
});

const order = { id: 7, number: "O-7", version: 2, state: "open" } as never;

const form = (over: object = {}) => ({
  customer: 2,
  currency: "EUR",
  total: 29028,
  paid: 0,
  authorized: 0,
  room: 29028,
  cards: [{ id: 4, last_four: "1231", valid_through: "2029-05" }],
  blockers: [],
  processor: true,
  ...over,
});

test("a card is authorized for what nothing stands for yet", async () => {
  const user = userEvent.setup();
  const asking = (
    <>
      <NoticeStrip />
      <AuthorizeAsk order={order} close={() => undefined} />
    </>
  );
  const stageOf = stage(asking, "/", {
    "GET /api/orders/{id}/card": form(),
    "POST /api/cards": { card: card(), waits: null },
  });
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByText(/O-7 comes to €290.28 with tax/);
  await user.click(ask.getByRole("button", { name: /^Authorize/ }));
  await screen.findByText(/CA-5 · €290.28 is authorized for O-7/);
  expect(stageOf.asked("POST /api/cards").at(-1)?.body).toEqual({ order: 7, card: 4, amount: "290.28" });
});

test("without a card the processor's own page takes one", async () => {
  const user = userEvent.setup();
  const opened = vi.spyOn(window, "open").mockReturnValue(null);
  const typed = [{ card: null }, { card: { id: 4, last_four: "1231", valid_through: "2029-05" } }];
  const stageOf = stage(<AuthorizeAsk order={order} close={() => undefined} />, "/", {
    "GET /api/orders/{id}/card": form({ cards: [] }),
    "POST /api/customers/{id}/cards/new": { session: "s1", address: "http://127.0.0.1:1/cards/new/s1" },
    "POST /api/customers/{id}/cards": (call: Call) => ((call.body as { session: string }).session ? typed.shift() : {}),
  });
  await user.click(await screen.findByRole("button", { name: "Add a card" }));
  expect(opened).toHaveBeenCalledWith("http://127.0.0.1:1/cards/new/s1", "_blank", "noopener");
  await user.click(await screen.findByRole("button", { name: "It is typed" }));
  await screen.findByText("No card was typed there yet.");
  stageOf.now({ "GET /api/orders/{id}/card": form() });
  await user.click(screen.getByRole("button", { name: "It is typed" }));
  await screen.findByLabelText("Card");
});

test("without a processor it says what to do", async () => {
  stage(<AuthorizeAsk order={order} close={() => undefined} />, "/", {
    "GET /api/orders/{id}/card": form({ processor: false }),
  });
  await screen.findByText(/No card processor is set up/);
});

test("the list says state and next step of each", async () => {
  stage(<CardsRoom />, "/prepayments/cards", {
    "GET /api/cards": {
      count: 2,
      cards: [row(), row({ id: 6, number: "CA-6", state: "expiring", next: "ship_soon", to_capture: 0 })],
    },
  });
  await screen.findByText("capture €290.28");
  await screen.findByText(/expires soon/);
  await screen.findByText(/ship by 25 Mar/);
});

const payout = (over: object = {}) => ({
  id: 1,
  reference: "payout_8",
  number: null,
  paid_on: "2026-03-18",
  currency: "EUR",
  gross: 29028,
  fee: 406,
  net: 28622,
  booked_on: null,
  entries: [],
  lines: [
    {
      kind: "capture",
      reference: "capture_8",
      gross: 29028,
      fee: 406,
      document: { kind: "receipt", id: 4, number: "C-4" },
      customer: "Tern Point",
      unmatched: null,
    },
  ],
  ...over,
});

test("a payout is booked once each of its lines is matched", async () => {
  const user = userEvent.setup();
  const stray = { ...payout().lines[0], document: null, unmatched: "capture_8 of 290.28 is not in the books." };
  const bank = { code: "transfer", name: "transfer", place: "Bank", kind: "bank", currency: null };
  const answers = (shown: unknown) => ({
    "GET /api/card-payouts/{id}": shown,
    "GET /api/payment-methods": [bank],
    "POST /api/card-payouts/{id}/book/preview": {
      currency: "EUR",
      entry: null,
      tape,
      blockers: [],
      fingerprint: "seen",
    },
    "POST /api/card-payouts/{id}/book": { number: "CP-1" },
  });
  stage(<PayoutRoom />, "/card-payouts/1", answers(payout({ lines: [stray] })), "/card-payouts/:id");
  const book = await screen.findByRole("button", { name: /Book · €286.22/ });
  expect((book as HTMLButtonElement).disabled).toBe(true);
  await screen.findByText(/is not in the books/);
  cleanup();
  stage(<PayoutRoom />, "/card-payouts/1", answers(payout()), "/card-payouts/:id");
  await user.click(await screen.findByRole("button", { name: /Book · €286.22/ }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByRole("region");
  await user.click(ask.getByRole("button", { name: /Book · €286.22/ }));
  await screen.findByText(/CP-1 is booked: €286.22 is at the bank/);
});

test("what the processor said becomes a notice", () => {
  expect(became({ card: card({ state: "declined", words: "No." }) as never, waits: null }, "done").text).toMatch(
    /No\./,
  );
  expect(became({ card: card({ waits_for: "void" }) as never, waits: null }, "done").kind).toBe("stop");
  expect(became({ card: card() as never, waits: null }, "done")).toEqual({ kind: "done", text: "done" });
});

const hanging = (step: string, what = "to_ship") => ({ what, amount: 29028, words: "1 line to ship.", step });

test("nobody closes an order by hand: what hangs, and the step that goes on", async () => {
  const user = userEvent.setup();
  const finish = vi.fn();
  const asked = (steps: string[]) => {
    const order = {
      id: 7,
      number: "O-7",
      currency: "EUR",
      customer: 2,
      hanging: steps.map((one) => hanging(one, one)),
    };
    cleanup();
    return stage(<CloseAsk order={order as never} close={() => undefined} finish={finish} />, "/", {});
  };
  asked(["ship_bill_and_receive"]);
  await screen.findByText("O-7 closes by itself");
  await screen.findByText("€290.28");
  await user.click(screen.getByRole("button", { name: /Ship, bill and receive the rest/ }));
  expect(finish).toHaveBeenLastCalledWith(true);
  // A card stands for it: its money is captured afterwards.
  asked(["ship_and_bill", "capture"]);
  await user.click(await screen.findByRole("button", { name: /Ship and bill, then capture/ }));
  expect(finish).toHaveBeenLastCalledWith(false);
  const leads: [string, RegExp, string][] = [
    ["bill", /Bill what has shipped/, "/billing?q=O-7"],
    ["receive", /Receive the rest/, "/receipts/new?customer=2"],
    ["clear_deposits", /Open the deposits/, "/prepayments?q=O-7"],
    ["credit", /Open the prepayment invoices/, "/prepayments/invoices?q=O-7"],
    ["capture", /Open the card/, "/prepayments/cards?q=O-7"],
  ];
  for (const [step, words, place] of leads) {
    const stageOf = asked([step]);
    await user.click(await screen.findByRole("button", { name: words }));
    await waitFor(() => expect(stageOf.place()).toBe(place));
  }
});
