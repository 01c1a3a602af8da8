// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { UnbilledRoom } from "../src/rooms/Unbilled";
import { type Answers, type Call, no, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

afterEach(cleanup);
beforeEach(() => sessionStorage.clear());

const nothing = { ordered: 1000, shipped: 1000, billed: 0, paid: 0 };
const shipment = (id: number, lines: number[], more: object = {}) => ({
  shipment: id,
  number: `S-${id}`,
  order: id * 10,
  order_number: `O-${id}`,
  what: `goods of ${id}`,
  track: nothing,
  days: id,
  net_base: id * 1_000,
  currency: "EUR",
  blockers: [],
  lines: lines.map((line) => ({
    shipment_line: line,
    order_line: line + 500,
    code: "HB-12",
    quantity: "1",
    net: 1_000,
  })),
  ...more,
});
const owner = (id: number, shipments: object[]) => ({
  customer: id,
  number: `100${id}`,
  name: `Customer ${id}`,
  terms: "30 days net",
  habit: "shipment",
  when_complete: false,
  days: 3,
  count: shipments.length,
  net_base: 5_000,
  shipments,
});
/** Work of an order that has no goods: billed by its order line. */
const work = shipment(7, [], {
  shipment: null,
  order: 70,
  lines: [{ shipment_line: null, order_line: 77, code: "ASM" }],
});

const page = { customers: [owner(1, [shipment(1, [11, 12]), shipment(2, [21])]), owner(2, [work])] };
const list = { ...page, shipments: 3, net_base: 10_000, next: null };

interface Bill {
  picks: { shipment_line: number }[];
  order_picks: { order_line: number }[];
}

/** One invoice of a hundred for each shipment line, its mark the line. */
const previews = (call: Call) => {
  const { picks, order_picks } = call.body as Bill;
  return [...picks.map((one) => one.shipment_line), ...order_picks.map((one) => one.order_line)].map((line) => ({
    customer: 1,
    customer_name: "Customer 1",
    document: { total: 10_000, currency: "EUR" },
    tape: { title: `line ${line}`, subtitle: "", currency: "EUR", rows: [], lines: [] },
    blockers: [],
    changes: [],
    entry: null,
    fingerprint: `mark ${line}`,
  }));
};

const answers: Answers = {
  "GET /api/unbilled": list,
  "GET /api/views": [],
  "POST /api/invoices/preview": previews,
};

const show = (more: Answers = {}) => stage(<UnbilledRoom />, "/billing", { ...answers, ...more });
const button = (name: RegExp) => screen.findByRole<HTMLButtonElement>("button", { name });
const picks = (name: string) => screen.findByRole<HTMLInputElement>("checkbox", { name });

test("what is picked is billed together: lines of shipments, and work of orders as such", async () => {
  const user = userEvent.setup();
  const room = show({ "POST /api/invoices/post": [{ id: 31, number: "I-31" }] });
  await user.click(await picks("S-1"));
  await user.click(await picks("All of Customer 2"));
  const post = await button(/Post 3 invoices · €300.00/);
  await waitFor(() => expect(post.disabled).toBe(false));
  expect(screen.getByText(/2 of 3 selected/)).toBeTruthy();
  await user.click(post);
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Post · €300.00/ }));
  await screen.findByText(/I-31 posted · €300.00. It is owed from now on./);
  const sent = room.asked("POST /api/invoices/post")[0]?.body as Bill & { seen: string[] };
  expect(sent.picks).toEqual([{ shipment_line: 11 }, { shipment_line: 12 }]);
  expect(sent.order_picks).toEqual([{ order_line: 77 }]);
  expect(sent.seen).toEqual(["mark 11", "mark 12", "mark 77"]);
  expect(screen.getByText(/0 of 3 selected/)).toBeTruthy();
});

test("a customer's box takes all of its shipments, and lets go of them", async () => {
  const user = userEvent.setup();
  show();
  await user.click(await picks("All of Customer 1"));
  expect((await picks("S-2")).checked).toBe(true);
  await user.click(await picks("S-2"));
  expect((await picks("All of Customer 1")).checked).toBe(false);
  await user.click(await picks("S-2"));
  await user.click(await picks("All of Customer 1"));
  expect((await picks("S-1")).checked).toBe(false);
  expect(screen.getByText(/0 of 3 selected/)).toBeTruthy();
});

test("what stops an invoice stops the posting of all that is picked, not the draft", async () => {
  const user = userEvent.setup();
  const blocker = { check: "order_number_missing", effect: "stops", field: "x", words: "", sentence: "Ask for it." };
  show({
    "POST /api/invoices/preview": (call: Call) => previews(call).map((one) => ({ ...one, blockers: [blocker] })),
  });
  await user.click(await picks("S-2"));
  const post = await button(/Post 1 invoice/);
  await screen.findByText(/Ask for it./);
  expect(post.disabled).toBe(true);
  expect((await button(/Open the draft/)).disabled).toBe(false);
});

test("a second Enter on the way to the draft makes no second one, and what is refused is said", async () => {
  let answer: ((drafts: unknown) => void) | undefined;
  const room = show({
    "POST /api/invoices": () =>
      new Promise((resolve) => {
        answer = resolve;
      }),
  });
  const grid = await screen.findByRole("grid");
  await waitFor(() => expect(room.asked("POST /api/invoices/preview").length).toBeGreaterThan(0));
  fireEvent.keyDown(grid, { key: "Enter" });
  fireEvent.keyDown(grid, { key: "Enter" });
  expect(room.asked("POST /api/invoices")).toHaveLength(1);
  await act(async () => answer?.(no({ title: "S-1 is on another draft. Open that one.", code: "refused" })));
  await screen.findByText(/S-1 is on another draft/);
  fireEvent.keyDown(grid, { key: "Enter" });
  expect(room.asked("POST /api/invoices")).toHaveLength(2);
  await act(async () => answer?.([41, 42]));
  await waitFor(() => expect(room.place()).toBe("/invoices/41"));
  // The other draft is the next document.
  expect(JSON.parse(sessionStorage.getItem("till.sequence") ?? "")).toEqual(["/invoices/41", "/invoices/42"]);
});

test("a run takes what is picked, or what the list is filtered to", async () => {
  const user = userEvent.setup();
  const room = stage(<UnbilledRoom />, "/billing?q=hive&over_days=4&habit=weekly", {
    ...answers,
    "POST /api/runs": 5,
  });
  await screen.findByText(/Customer 1/);
  await user.click(await button(/Make a run/));
  await user.type(await screen.findByLabelText("Name"), "Hives");
  await user.click(screen.getByRole("button", { name: /Make the run/ }));
  await waitFor(() => expect(room.place()).toBe("/runs/5"));
  expect(room.asked("POST /api/runs")[0]?.body).toEqual({
    name: "Hives",
    combine: "habit",
    document_date: null,
    picks: [],
    order_picks: [],
    filter: { search: "hive", over_days: 4, customer: null, habit: "weekly", blocked: null, currency: null },
  });
});

test("a customer that goes on over a page stands once, with all of it", async () => {
  const second = { ...list, customers: [owner(1, [shipment(3, [31])])], next: null };
  const room = show({
    "GET /api/unbilled": (call: Call) => (call.params?.query?.offset === 0 ? { ...list, next: 3 } : second),
  });
  await waitFor(() => expect(room.asked("GET /api/unbilled")).toHaveLength(2));
  await picks("S-3");
  expect(screen.getAllByRole("checkbox", { name: "All of Customer 1" })).toHaveLength(1);
  fireEvent.click(await picks("All of Customer 1"));
  await waitFor(() => {
    const sent = room.asked("POST /api/invoices/preview").at(-1)?.body as Bill;
    expect(sent.picks.map((one) => one.shipment_line)).toEqual([11, 12, 21, 31]);
  });
});

test("what is not in the list is looked for, and where it is said", async () => {
  const why = { sentence: "O-9 is billed on I-3.", at: { kind: "invoice", id: 3, number: "I-3" } };
  stage(<UnbilledRoom />, "/billing?q=O-9", {
    ...answers,
    "GET /api/unbilled": { customers: [], shipments: 0, net_base: 0, next: null },
    "GET /api/unbilled/why": [why],
  });
  await screen.findByText(/O-9 is billed on I-3./);
  expect(screen.getByText("Open I-3").getAttribute("href")).toBe("/invoices/3");
  expect((await button(/Make a run/)).disabled).toBe(true);
});
