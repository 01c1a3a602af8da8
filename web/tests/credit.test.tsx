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

import type { CreditLine } from "../src/api/types";
import { CreditRoom } from "../src/rooms/invoice/Credit";
import { type Answers, type Call, no, stage } from "./stage";

afterEach(cleanup);

const line = (code: string, quantity: string, amount: number) => ({
  code,
  description: `${code} of cedar`,
  quantity,
  unit: "each",
  amount,
  off: 0,
  net: amount,
});

const invoice = {
  id: 12,
  number: "I-12",
  version: 3,
  customer: { id: 2, name: "Orchard Lane Apiaries" },
  document: {
    currency: "EUR",
    gross_priced: false,
    lines: [line("HIVE", "4", 23600), line("FRT", "1", 1800), line("DRUM", "1", 1200)],
  },
};

const left = (position: number, quantity: string, amount: number, obstacle: string | null = null) => ({
  position,
  quantity,
  amount,
  credited: 0,
  now: 0,
  on_returns: "0",
  obstacle,
});

/** As the core would say it: 59.00 a hive, 23 % of tax. */
function previewed({ body }: Call) {
  const { lines } = body as { lines: CreditLine[] };
  const now = (at: number) => {
    const wish = lines.find((one) => one.position === at);
    return wish ? Number(wish.quantity ?? 0) * 5900 + Number(wish.amount ?? 0) * 100 : 0;
  };
  const net = now(0) + now(1);
  const over = lines.some((one) => Number(one.quantity) > 4);
  const stops = {
    check: "more_than_billed",
    effect: "stops",
    field: "lines.0.quantity",
    words: "",
    sentence: "4 are left.",
  };
  return {
    lines: [left(0, "4", 23600), left(1, "1", 1800), left(2, "1", 1200, "DRUM is owed back.")].map((one) => ({
      ...one,
      now: now(one.position),
    })),
    total: net + Math.round(net * 0.23),
    tape: { heading: "Orchard Lane Apiaries", subheading: "credit memo on I-12", currency: "EUR", lines: [] },
    entry: null,
    changes: [],
    blockers: over ? [stops] : [],
    fingerprint: `seen ${net}`,
  };
}

const answers: Answers = {
  "GET /api/invoices/{id}": invoice,
  "GET /api/approvals": [],
  "POST /api/invoices/{id}/credit/preview": previewed,
};

const room = (more: Answers = {}) =>
  stage(<CreditRoom />, "/invoices/12/credit", { ...answers, ...more }, "/invoices/:id/credit");

test("one of four and something off the freight, with what was seen, for a reason that is said", async () => {
  const user = userEvent.setup();
  const till = room({ "POST /api/invoices/{id}/credit": { credit_memo: 7, number: "CM-7", waits: null } });
  await user.type(await screen.findByLabelText("Quantity of HIVE to credit"), "1");
  await user.type(screen.getByLabelText("Amount off the price of FRT"), "8");
  const credit = await screen.findByRole("button", { name: /Credit €82.41/ });
  // Without a reason it asks for one, at the field.
  await user.click(credit);
  await screen.findByText(/Say why/);
  expect(screen.queryByRole("dialog")).toBeNull();
  await user.type(screen.getByLabelText("Why"), "a scratch on the lid");
  await user.click(await screen.findByRole("button", { name: /Credit €82.41/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Credit · €82.41/ }));
  await waitFor(() => expect(till.asked("POST /api/invoices/{id}/credit")).toHaveLength(1));
  expect(till.asked("POST /api/invoices/{id}/credit").at(-1)?.body).toEqual({
    lines: [
      { position: 0, quantity: "1", amount: null, return_line: null },
      { position: 1, quantity: null, amount: "8", return_line: null },
    ],
    added: [],
    date: null,
    reason: "a scratch on the lid",
    seen: "seen 6700",
  });
});

test("an equals sign takes all of a line, another key all that is left; what is owed back has no field", async () => {
  const user = userEvent.setup();
  const till = room();
  await user.type(await screen.findByLabelText("Amount off the price of HIVE"), "=");
  const asked = () => {
    const body = till.asked("POST /api/invoices/{id}/credit/preview").at(-1)?.body as
      | { lines: CreditLine[] }
      | undefined;
    return body?.lines;
  };
  await waitFor(() => expect(asked()).toEqual([{ position: 0, quantity: null, amount: "236.00", return_line: null }]));
  expect(screen.getByText("DRUM is owed back.")).toBeTruthy();
  expect(screen.queryByLabelText("Quantity of DRUM to credit")).toBeNull();
  await user.click(screen.getByRole("button", { name: /All that is left/ }));
  await waitFor(() =>
    expect(asked()).toEqual([
      { position: 0, quantity: "4", amount: null, return_line: null },
      { position: 1, quantity: "1", amount: null, return_line: null },
    ]),
  );
});

test("more than is left is refused at its line, and what is above the limit waits", async () => {
  const user = userEvent.setup();
  room({ "POST /api/invoices/{id}/credit": { credit_memo: null, number: null, waits: 5 } });
  const quantity = await screen.findByLabelText("Quantity of HIVE to credit");
  await user.type(quantity, "5");
  await screen.findAllByText("4 are left.");
  expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Credit/ }).disabled).toBe(true);
  await user.clear(quantity);
  await user.type(quantity, "4");
  await user.type(screen.getByLabelText("Why"), "all of them are cracked");
  await user.click(await screen.findByRole("button", { name: /Credit €290.28/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Credit · €290.28/ }));
  await screen.findByText(/waits for a supervisor/);
});

test("what the server refuses as it is posted stays in the question", async () => {
  const user = userEvent.setup();
  room({
    "POST /api/invoices/{id}/credit": () => no({ title: "The figures have changed. Look again.", code: "moved" }),
  });
  await user.type(await screen.findByLabelText("Quantity of HIVE to credit"), "1");
  await user.type(screen.getByLabelText("Why"), "a scratch");
  await user.click(await screen.findByRole("button", { name: /Credit €72.57/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.click(ask.getByRole("button", { name: /Credit · €72.57/ }));
  await ask.findByText(/The figures have changed/);
});

test("goods that came back on a return are credited as received on it, and nothing has to be typed", async () => {
  const returned = {
    id: 9,
    number: "RA-9",
    lines: [
      { id: 31, billed_on: 1, document: { id: 12 }, position: 0, to_settle: "2", unit: "each", reason_name: "Faulty" },
      { id: 32, billed_on: 2, document: { id: 99 }, position: 1, to_settle: "1", unit: "each", reason_name: "Faulty" },
    ],
  };
  const user = userEvent.setup();
  const till = stage(
    <CreditRoom />,
    "/invoices/12/credit?return=9",
    {
      ...answers,
      "GET /api/returns/{id}": returned,
      "POST /api/invoices/{id}/credit": { credit_memo: 7, number: "CM-7", waits: null },
    },
    "/invoices/:id/credit",
  );
  await screen.findByText("2 each received, to be credited");
  // All that is left is, of what came back, what came back.
  await user.click(screen.getByRole("button", { name: /All that is left/ }));
  const hive = screen.getByLabelText<HTMLInputElement>("Quantity of HIVE to credit");
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Quantity of FRT to credit").value).toBe("1"));
  expect(hive.value).toBe("2");
  await user.clear(screen.getByLabelText("Quantity of FRT to credit"));
  await user.click(await screen.findByRole("button", { name: /Credit €145.14/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Credit · €145.14/ }));
  await waitFor(() => expect(till.asked("POST /api/invoices/{id}/credit")).toHaveLength(1));
  expect(till.asked("POST /api/invoices/{id}/credit").at(-1)?.body).toMatchObject({
    lines: [{ position: 0, quantity: "2", amount: null, return_line: 31 }],
    reason: "Faulty, RA-9",
  });
});
