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

import { AdvanceRoom } from "../src/rooms/prepayments/Advance";
import { PrepaymentLines } from "../src/rooms/prepayments/OfOrder";
import { PrepaymentInvoicesRoom } from "../src/rooms/prepayments/Register";
import { type Answers, type Call, no, sized, stage } from "./stage";

sized();
afterEach(cleanup);

const line = (id: number, code: string, over: object = {}) => ({
  order_line: id,
  code,
  description: "",
  kind: "goods",
  wanted: "10",
  unit: "pc",
  billed: "0",
  included: true,
  percent: null,
  from: "order",
  of: 240000,
  room: 240000,
  before: 0,
  used: 0,
  now: 0,
  lower: 0,
  ...over,
});

const nothing = {
  check: "nothing_to_do",
  effect: "stops",
  field: "percent",
  words: "nothing to do",
  sentence: "Nothing more is asked for. Enter a percentage or an amount, and choose lines.",
  at: null,
};

const plan = (over: object = {}) => ({
  order: { kind: "order", id: 7, number: "O-7" },
  version: 3,
  customer: 2,
  customer_name: "Tern Point",
  currency: "EUR",
  gross_priced: false,
  usual: null,
  saved: { percent: null, lines: [] },
  lines: [line(1, "HIVE"), line(2, "BOOK"), line(3, "DRUM", { kind: "packaging", included: false })],
  now: 0,
  lower: 0,
  invoices: [],
  requests: [],
  preview: null,
  blockers: [nothing],
  ...over,
});

const tape = {
  heading: "Tern Point",
  subheading: "one prepayment invoice for O-7",
  currency: "EUR",
  lines: [{ style: "due", label: "Due 17 Apr 2026", amount: 73800, of: null, assumed: false }],
};

const asked = plan({
  now: 60000,
  lines: [line(1, "HIVE", { percent: "0.25", now: 60000 }), line(2, "BOOK", { included: false })],
  blockers: [],
  preview: {
    customer: 2,
    customer_name: "Tern Point",
    document: { total: 73800, tax: 13800, currency: "EUR" },
    entry: null,
    cost_entry: null,
    deposits: [],
    tape,
    changes: [],
    blockers: [],
    fingerprint: "seen",
  },
});

const row = (over: object = {}) => ({
  id: 9,
  number: "P-18",
  customer: 2,
  customer_name: "Tern Point",
  order: { kind: "order", id: 7, number: "O-7" },
  order_state: "open",
  document_date: "2026-03-03",
  due_date: "2026-04-02",
  days_late: 0,
  currency: "EUR",
  total: 73800,
  open: 0,
  net: 60000,
  used: 24000,
  credited: 0,
  left: 36000,
  left_base: 36000,
  to_credit: [],
  all_left: [{ position: 0, quantity: null, amount: "360.00" }],
  ...over,
});

const room = (answers: Answers) => stage(<AdvanceRoom />, "/orders/7/advance", answers, "/orders/:id/advance");

test("a percentage with a line out becomes a prepayment invoice, with what was seen", async () => {
  const user = userEvent.setup();
  const stageOf = room({
    "GET /api/orders/{id}/advance": plan(),
    "POST /api/orders/{id}/advance/preview": (call: Call) =>
      (call.body as { percent: string | null }).percent === "25" ? asked : plan(),
    "POST /api/orders/{id}/advance": { id: 9, number: "P-18" },
  });
  const share = await screen.findByLabelText("Advance %");
  // Nothing is wrong before anything was typed, and nothing can be posted.
  expect(screen.queryByText(/Nothing more is asked for/)).toBeNull();
  expect((screen.getByRole("button", { name: /Post prepayment invoice/ }) as HTMLButtonElement).disabled).toBe(true);
  expect((screen.getByLabelText("DRUM in") as HTMLInputElement).disabled).toBe(true);
  await user.click(screen.getByLabelText("BOOK in"));
  await user.type(share, "25");
  await user.click(await screen.findByRole("button", { name: /Post prepayment invoice · €738.00/ }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByText(/owes €738.00, with €138.00 of tax/);
  await user.click(ask.getByRole("button", { name: /Post · €738.00/ }));
  await screen.findByText(/P-18 posted · €738.00/);
  expect(stageOf.asked("POST /api/orders/{id}/advance").at(-1)?.body).toEqual({
    ask_as: "percent",
    percent: "25",
    amount: null,
    lines: [{ order_line: 2, included: false, percent: null }],
    document_date: null,
    seen: "seen",
  });
});

test("what is refused stands at its field", async () => {
  const user = userEvent.setup();
  const tooMuch = { ...nothing, field: "amount", sentence: "The lines of O-7 that are in have 2,400.00 left to bill." };
  const stageOf = room({
    "GET /api/orders/{id}/advance": plan(),
    "POST /api/orders/{id}/advance/preview": (call: Call) =>
      (call.body as { ask_as: string }).ask_as === "net" ? plan({ blockers: [tooMuch] }) : plan(),
  });
  await user.click(await screen.findByLabelText("Amount, net"));
  await user.type(screen.getByLabelText("Amount EUR"), "5000");
  await screen.findByText(/have 2,400.00 left to bill/);
  stageOf.now({
    "POST /api/orders/{id}/advance/preview": () =>
      no({ title: "Enter a number.", code: "invalid", field: "lines.0.percent" }),
  });
  await user.click(screen.getByLabelText("Share of the lines"));
  await user.type(screen.getByLabelText("Advance % of HIVE"), "x");
  await screen.findByText("Enter a number.");
});

test("the percentages are saved with the order of the version seen", async () => {
  const user = userEvent.setup();
  const stageOf = room({
    "GET /api/orders/{id}/advance": plan({ saved: { percent: "30", lines: [] } }),
    "POST /api/orders/{id}/advance/preview": asked,
    "PUT /api/orders/{id}/advance": { version: 4 },
  });
  const share = (await screen.findByLabelText("Advance %")) as HTMLInputElement;
  expect(share.value).toBe("30");
  await user.type(screen.getByLabelText("Advance % of HIVE"), "50");
  await user.click(screen.getByRole("button", { name: /^Save/ }));
  await screen.findByText(/is saved with it/);
  expect(stageOf.asked("PUT /api/orders/{id}/advance").at(-1)?.body).toEqual({
    version: 3,
    percent: "30",
    lines: [{ order_line: 1, included: null, percent: "50" }],
  });
});

test("what was canceled is credited, or all that is left", async () => {
  const user = userEvent.setup();
  const canceled = row({ to_credit: [{ position: 0, quantity: null, amount: "120.00" }] });
  const preview = { tape, entry: null, changes: [], blockers: [], fingerprint: "seen" };
  const stageOf = stage(<PrepaymentLines rows={[canceled as never]} currency="EUR" />, "/", {
    "POST /api/invoices/{id}/credit/preview": preview,
    "POST /api/invoices/{id}/credit": { credit_memo: 12, number: "CM-12", waits: null },
  });
  await user.click(await screen.findByRole("button", { name: /Credit…/ }));
  const ask = within(await screen.findByRole("dialog"));
  await ask.findByRole("button", { name: /Credit · €738.00/ });
  await user.selectOptions(ask.getByRole("combobox"), "all");
  await user.type(ask.getByLabelText("Why"), "given up");
  await waitFor(() =>
    expect(stageOf.asked("POST /api/invoices/{id}/credit/preview").at(-1)?.body).toMatchObject({
      lines: canceled.all_left,
    }),
  );
  await user.click(await ask.findByRole("button", { name: /Credit · €738.00/ }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  expect(stageOf.asked("POST /api/invoices/{id}/credit").at(-1)?.body).toEqual({
    lines: canceled.all_left,
    reason: "given up",
    date: null,
    seen: "seen",
  });
});

test("where less is asked for an amount is credited; a refusal stands at its line", async () => {
  const user = userEvent.setup();
  const left = [
    { position: 0, quantity: null, amount: "300.00" },
    { position: 2, quantity: null, amount: "60.00" },
  ];
  const preview = { tape, entry: null, changes: [], blockers: [], fingerprint: "seen" };
  const refused = { title: "60.00 EUR of BOOK are neither used nor credited.", field: "lines.0.amount" };
  const stageOf = stage(<PrepaymentLines rows={[row({ all_left: left }) as never]} currency="EUR" />, "/", {
    "POST /api/invoices/{id}/credit/preview": preview,
    "POST /api/invoices/{id}/credit": no(refused),
  });
  await user.click(await screen.findByRole("button", { name: /Credit…/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.selectOptions(ask.getByRole("combobox"), "amount");
  await user.type(ask.getByLabelText("Amount of line 3"), "61.00");
  await user.type(ask.getByLabelText("Why"), "less is asked for");
  const wanted = [{ position: 2, quantity: null, amount: "61.00" }];
  await waitFor(() =>
    expect(stageOf.asked("POST /api/invoices/{id}/credit/preview").at(-1)?.body).toMatchObject({ lines: wanted }),
  );
  await user.click(await ask.findByRole("button", { name: /Credit · €738.00/ }));
  await ask.findByText(refused.title);
  expect(ask.getByLabelText("Amount of line 3").getAttribute("aria-invalid")).toBe("true");
  expect(stageOf.asked("POST /api/invoices/{id}/credit").at(-1)?.body).toMatchObject({ lines: wanted });
});

test("the register says the next step of each", async () => {
  const user = userEvent.setup();
  const rows = [
    row({ id: 1, number: "P-1", open: 73800 }),
    row({ id: 2, number: "P-2", open: 73800, days_late: 4 }),
    row({ id: 3, number: "P-3", to_credit: [{ position: 0, quantity: null, amount: "1.00" }] }),
    row({ id: 4, number: "P-4", order_state: "filled" }),
    row({ id: 5, number: "P-5" }),
  ];
  const list = { rows, count: 5, open_base: 147600, left_base: 180000 };
  const stageOf = stage(<PrepaymentInvoicesRoom />, "/prepayments/invoices", { "GET /api/prepayments": list });
  await screen.findByText("due 2 Apr 2026");
  for (const words of [/4 days/, "▲ to credit", "▲ to credit, O-7 is done", "used as O-7 is billed"]) {
    expect(screen.getByText(words)).toBeTruthy();
  }
  await user.click(screen.getByRole("button", { name: "To credit" }));
  await waitFor(() => expect(stageOf.asked("GET /api/prepayments").at(-1)?.params?.query?.state).toBe("to_credit"));
});
