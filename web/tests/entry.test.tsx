// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { ChangeOrderRoom, NewOrderRoom } from "../src/rooms/order/Entry";
import { keepOrder } from "../src/rooms/order/form";
import { type Answers, type Call, no, silence, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

afterEach(cleanup);
beforeEach(() => sessionStorage.clear());

interface Sent {
  customer: number;
  lines: { item: string; quantity: string }[];
}

const priced = (form: Sent) => ({
  customer: form.customer,
  customer_name: "Dunlin School Farm",
  currency: "EUR",
  net: 10_000,
  total: 12_300,
  taxes: [],
  tape: { title: "Dunlin", subtitle: "", currency: "EUR", rows: [], lines: [] },
  blockers: [],
  changes: [],
  fingerprint: "mark",
  lines: form.lines.map((line) => ({
    code: line.item,
    description: `${line.item} in words`,
    net: 10_000,
    short: "0",
    kind: "goods",
    unit: "pc",
    quantity: line.quantity,
    can_go: line.quantity,
    factor: "1",
    over: "0",
    amount: 10_000,
    stock: null,
    tax: { code: "S23", category: "S", rate: "0.23" },
    tax_source: "of the item",
    price: { unit_price: "10", list_price: "10", discount: "0", surcharge: "0", full: 10_000, net: 10_000, steps: [] },
  })),
});

const answers: Answers = {
  "GET /api/customers": [{ id: 4, number: "1004", name: "Dunlin School Farm", currency: "EUR" }],
  "GET /api/customers/{id}/file": { ship_tos: [], contacts: [] },
  "GET /api/call-offs": [],
  "GET /api/contacts": [],
  "GET /api/prices": { promotions: [], lists: [], breaks: [] },
  "GET /api/goods-settings": {
    warehouse: "MAIN",
    warehouses: [],
    delivery_terms: [],
    tax_codes: [],
    marks: { fields: [], lists: [] },
  },
  "GET /api/items": { items: [], count: 0 },
  "POST /api/orders/preview": (call: Call) => priced((call.body as { form: Sent }).form),
};

/** An order that was typed and left. */
const typed = {
  customer: 4,
  lines: [{ item: "HB-12", quantity: "10" }],
  tags: [],
  marks: {},
};
const button = (name: RegExp) => screen.findByRole<HTMLButtonElement>("button", { name });
const show = (more: Answers = {}) => stage(<NewOrderRoom />, "/orders/new", { ...answers, ...more });

test("what was typed before is there again, is kept once, and then forgotten", async () => {
  const user = userEvent.setup();
  keepOrder("order", typed);
  let answer: () => unknown = silence;
  const room = show({ "POST /api/orders": () => answer() });
  const keep = await button(/Save draft · €123.00/);
  await user.click(keep);
  await screen.findByText(/cannot be reached/);
  expect(sessionStorage.getItem("till.order.new.order")).toContain("HB-12");
  // No answer came: the same key goes again, so that there is one order at most.
  answer = () => 77;
  await user.click(keep);
  await waitFor(() => expect(room.place()).toBe("/orders/77"));
  const keys = room.asked("POST /api/orders").map((call) => call.params?.header?.["Idempotency-Key"]);
  expect(keys[0]).toBe(keys[1]);
  expect(sessionStorage.getItem("till.order.new.order")).toBeNull();
});

test("what is refused gets a new key, and the cursor stands where it is wrong", async () => {
  const user = userEvent.setup();
  keepOrder("order", { ...typed, lines: [{ item: "", quantity: "" }, ...typed.lines] });
  let refuse = true;
  const room = show({
    "POST /api/orders": () =>
      refuse ? no({ title: "It comes in steps of 12 pc.", code: "refused", field: "lines.0.quantity" }) : 77,
  });
  await user.click(await button(/Save draft · €123.00/));
  await screen.findByText(/It comes in steps of 12 pc./);
  // The first line is empty and was not sent: what was sent as the first stands second.
  const quantity = screen.getByLabelText("Quantity of line 2");
  await waitFor(() => expect(document.activeElement).toBe(quantity));
  expect(quantity.getAttribute("aria-invalid")).toBe("true");
  refuse = false;
  fireEvent.change(quantity, { target: { value: "12" } });
  expect(screen.queryByText(/It comes in steps of 12 pc./)).toBeNull();
  await user.click(await button(/Save draft/));
  await waitFor(() => expect(room.asked("POST /api/orders")).toHaveLength(2));
  const keys = room.asked("POST /api/orders").map((call) => call.params?.header?.["Idempotency-Key"]);
  expect(keys[0]).not.toBe(keys[1]);
  const sent = room.asked("POST /api/orders")[1]?.body as Sent;
  expect(sent.lines.map((line) => line.quantity)).toEqual(["12"]);
});

test("what is wrong under the fold opens it", async () => {
  keepOrder("order", { ...typed, order_date: "0026-03-18" } as never);
  show({
    "POST /api/orders/preview": () => no({ title: "This day is too long ago.", code: "invalid", field: "order_date" }),
  });
  await screen.findByText("This day is too long ago.");
  const fold = document.querySelector("details") as HTMLDetailsElement;
  await waitFor(() => expect(fold.open).toBe(true));
  expect((await button(/Save draft/)).disabled).toBe(true);
});

test("sold over the counter it is kept first, and the sale goes on at the order", async () => {
  const user = userEvent.setup();
  keepOrder("order", typed);
  const room = show({ "POST /api/orders": 78 });
  await button(/Save draft · €123.00/);
  await user.click(await button(/Sell over the counter/));
  await waitFor(() => expect(room.place()).toBe("/orders/78?sell"));
});

test("a line whose item is half typed is not asked about, and the others keep their prices", async () => {
  const user = userEvent.setup();
  keepOrder("order", typed);
  const room = show();
  await button(/Save draft · €123.00/);
  const before = room.asked("POST /api/orders/preview").length;
  await user.click(await button(/Next line/));
  await waitFor(() => expect(document.activeElement).toBe(screen.getByLabelText("Item of line 2")));
  await user.keyboard("hi");
  for (const call of room.asked("POST /api/orders/preview").slice(before)) {
    expect((call.body as { form: Sent }).form.lines.map((line) => line.item)).toEqual(["HB-12"]);
  }
  expect(screen.getByText(/HB-12 in words/)).toBeTruthy();
});

test("an open order is amended as the version that was seen, and says where its change waits", async () => {
  const user = userEvent.setup();
  const packed = { id: 3, item: "DRUM", quantity: "2" };
  const order = {
    id: 9,
    version: 6,
    number: "O-9",
    state: "open",
    currency: "EUR",
    lines: [
      { id: 1, kind: "goods" },
      { id: 3, kind: "packaging" },
    ],
    form: { ...typed, lines: [{ id: 1, item: "HB-12", quantity: "10" }, packed] },
  };
  const room = stage(
    <ChangeOrderRoom />,
    "/orders/9/change",
    { ...answers, "GET /api/orders/{id}": order, "PUT /api/orders/{id}": { version: 7, waits: 31 } },
    "/orders/:id/change",
  );
  await screen.findByText("Amend O-9");
  await button(/Save order · €123.00/);
  await user.click(await button(/Reprice/));
  await user.click(await button(/Save order/));
  await screen.findByText(/The change of O-9 is pending approval. The order stands as it was until then./);
  expect(screen.getByText("Look at the request").getAttribute("href")).toBe("/approvals/31");
  const sent = room.asked("PUT /api/orders/{id}")[0]?.body as { version: number; form: Sent & { reprice: boolean } };
  expect([sent.version, sent.form.reprice]).toEqual([6, true]);
  // Packaging goes along by itself and is not sent.
  expect(sent.form.lines.map((line) => line.item)).toEqual(["HB-12"]);
});
