// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { DirectRoom } from "../src/rooms/Direct";
import { type Answers, type Call, no, silence, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

afterEach(cleanup);
beforeEach(() => sessionStorage.clear());

interface Sent {
  customer: number | null;
  added: { item?: string; account?: string; quantity: string; unit_price?: string }[];
}

/** A hundred for every row, with tax; what has no customer is refused where it is typed. */
function preview(call: Call) {
  return (call.body as Sent[]).map((row, at) =>
    row.customer
      ? {
          preview: {
            document: { total: 12_300, currency: "EUR" },
            tape: { title: `tape ${at + 1}`, subtitle: "", currency: "EUR", rows: [], lines: [] },
            blockers: [],
            entry: null,
            fingerprint: `mark ${at + 1}`,
          },
        }
      : { sentence: "Say for whom it is.", field: "customer" },
  );
}

const answers: Answers = {
  "GET /api/customers": [
    { id: 4, number: "1004", name: "Dunlin School Farm" },
    { id: 8, number: "1008", name: "Kestrel Moor Bee Supplies" },
  ],
  "GET /api/goods-settings": { tax_codes: [{ code: "S23" }, { code: "Z0" }] },
  "POST /api/invoices/grid/preview": preview,
};

function type(row: number, name: string, text: string) {
  fireEvent.change(screen.getByLabelText(`${name}, row ${row}`), { target: { value: text } });
}

async function two() {
  await screen.findByLabelText("Customer, row 1");
  type(1, "Customer", "1004");
  type(1, "Item or account", "64000");
  type(1, "Price", "1,000.50");
  fireEvent.keyDown(screen.getByLabelText("Price, row 1"), { key: "Enter" });
  await screen.findByLabelText("Customer, row 2");
  type(2, "Customer", "kestrel moor bee supplies");
  type(2, "Item or account", "HB-12");
}

test("rows are invoices: customers by number or name, the books tell items and accounts apart, and all posted as seen", async () => {
  const user = userEvent.setup();
  const room = stage(<DirectRoom />, "/billing/direct", {
    ...answers,
    "POST /api/invoices/grid": [
      { id: 31, number: "I-31" },
      { id: 32, number: "I-32" },
    ],
  });
  await two();
  const post = await screen.findByRole("button", { name: /Post 2 invoices · €246.00/ });
  await waitFor(() => expect((post as HTMLButtonElement).disabled).toBe(false));
  const sent = room.asked("POST /api/invoices/grid/preview").at(-1)?.body as Sent[];
  expect(sent.map((row) => row.customer)).toEqual([4, 8]);
  expect(sent[0]?.added[0]).toMatchObject({ item: "64000", quantity: "1", unit_price: "1000.50" });
  expect(sent[1]?.added[0]).toMatchObject({ item: "HB-12", quantity: "1" });
  expect(sent[1]?.added[0]).not.toHaveProperty("unit_price");
  await user.click(post);
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Post · €246.00/ }));
  await screen.findByText(/I-31, I-32 posted · €246.00/);
  expect(room.asked("POST /api/invoices/grid")[0]?.body).toMatchObject({ seen: ["mark 1", "mark 2"] });
  // The grid is empty again, for the next ones.
  expect(screen.queryByLabelText("Customer, row 2")).toBeNull();
  expect(screen.getByLabelText<HTMLInputElement>("Customer, row 1").value).toBe("");
});

test("what is wrong with a row stands below it, and nothing is posted until it is right", async () => {
  stage(<DirectRoom />, "/billing/direct", answers);
  await two();
  type(2, "Customer", "Kestrl");
  await screen.findByText(/No such customer. Choose one of the list./);
  expect(screen.getByLabelText("Customer, row 2").getAttribute("aria-invalid")).toBe("true");
  expect(screen.getByRole<HTMLButtonElement>("button", { name: /Post 2 invoices/ }).disabled).toBe(true);
  // A row that nobody has typed into is none.
  fireEvent.click(screen.getByLabelText("Take row 2 away"));
  const post = await screen.findByRole<HTMLButtonElement>("button", { name: /Post 1 invoice · €123.00/ });
  await waitFor(() => expect(post.disabled).toBe(false));
});

test("drafts are made row by row: what was made is no row any more, what was not can be tried again", async () => {
  const user = userEvent.setup();
  let second: (() => unknown) | undefined = () => no({ title: "I-2 cannot be.", code: "refused" });
  const room = stage(<DirectRoom />, "/billing/direct", {
    ...answers,
    "POST /api/invoices": (call: Call) => ((call.body as Sent).customer === 8 && second ? second() : [41]),
  });
  await two();
  const open = await screen.findByRole<HTMLButtonElement>("button", { name: /Open them as drafts/ });
  await waitFor(() => expect(open.disabled).toBe(false));
  await user.click(open);
  await screen.findByText(/1 draft made, then: I-2 cannot be./);
  expect(screen.getByText("Open a draft").getAttribute("href")).toBe("/invoices/41");
  expect(screen.getByLabelText<HTMLInputElement>("Customer, row 1").value).toBe("kestrel moor bee supplies");
  expect(screen.queryByLabelText("Customer, row 2")).toBeNull();
  // No answer at all: the same key goes again, so that one draft comes of both.
  second = silence;
  await user.click(await screen.findByRole("button", { name: /Open as a draft/ }));
  await screen.findByText(/cannot be reached/);
  second = undefined;
  await user.click(await screen.findByRole("button", { name: /Open as a draft/ }));
  await waitFor(() => expect(screen.getByLabelText<HTMLInputElement>("Customer, row 1").value).toBe(""));
  const keys = room.asked("POST /api/invoices").map((call) => call.params?.header?.["Idempotency-Key"]);
  expect(keys).toHaveLength(4);
  expect(keys[2]).toBe(keys[3]);
  expect(new Set(keys).size).toBe(2);
});
