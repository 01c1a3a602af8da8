// @vitest-environment jsdom
import { act, cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";
import { ShipmentRoom } from "../src/rooms/Shipment";
import { type Answers, type Call, no, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

afterEach(cleanup);

const line = (id: number, quantity: string) => ({
  id,
  order_line: id + 500,
  code: `I-${id}`,
  description: `item ${id}`,
  unit: "pc",
  kind: "goods",
  ordered: "10",
  asked: "10",
  quantity,
  to_come: "0",
  on_draft: "0",
  billed: "0",
  returned: "0",
  cost: 1_000,
});
const shipment = (more: object = {}) => ({
  id: 9,
  version: 1,
  number: "S-9",
  state: "picking",
  order: 90,
  order_number: "O-9",
  customer: 4,
  customer_name: "Dunlin School Farm",
  currency: "EUR",
  warehouse: "MAIN",
  packed_date: "2026-03-18",
  ship_to: { name: "The shed", address: "2 Lane", country: "IE" },
  carrier: null,
  consignment_number: null,
  freight: null,
  blockers: [],
  changes: [],
  entries: [],
  entry: null,
  tape: null,
  trail: { steps: [] },
  lines: [line(1, "10"), line(2, "4")],
  unbilled: true,
  ...more,
});

interface Kept {
  version: number;
  form: { carrier: string | null; freight: string | null; lines: { order_line: number; quantity: string }[] };
}

/** A server that keeps what it is sent, each with a version of its own. */
function keeping() {
  let now = shipment();
  const put = vi.fn((call: Call) => {
    const sent = call.body as Kept;
    now = { ...now, version: now.version + 1, carrier: sent.form.carrier as null, lines: now.lines };
    now.lines = now.lines.map((one, at) => ({ ...one, quantity: sent.form.lines[at]?.quantity ?? "0" }));
    return { version: now.version };
  });
  const answers: Answers = { "GET /api/shipments/{id}": () => now, "PUT /api/shipments/{id}": put };
  return { put, answers, now: () => now };
}

const sent = (put: ReturnType<typeof keeping>["put"], at = 0) => put.mock.calls[at]?.[0].body as Kept;
const show = (answers: Answers) => stage(<ShipmentRoom />, "/shipments/9", answers, "/shipments/:id");
const picked = (code: string) => screen.findByLabelText<HTMLInputElement>(`Picked of ${code}`);
const button = (name: RegExp) => screen.findByRole<HTMLButtonElement>("button", { name });

test("what was picked is kept as it is typed, Enter by Enter, and posted as kept last", async () => {
  const user = userEvent.setup();
  const { put, answers } = keeping();
  const room = show({ ...answers, "POST /api/shipments/{id}/post": {} });
  await user.click(await picked("I-1"));
  await user.keyboard("8{Enter}");
  expect(document.activeElement).toBe(await picked("I-2"));
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  const first = sent(put);
  expect(first.version).toBe(1);
  expect(first.form.lines).toEqual([
    { order_line: 501, quantity: "8" },
    { order_line: 502, quantity: "4" },
  ]);
  // Nothing typed, nothing sent.
  await user.keyboard("{Enter}");
  await user.click(await button(/Post the shipment/));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Post the shipment/ }));
  await screen.findByText(/S-9 posted. It can be billed now./);
  expect(put).toHaveBeenCalledTimes(1);
  expect(room.asked("POST /api/shipments/{id}/post")[0]?.body).toEqual({ version: 2 });
});

test("what is typed back while the first is on its way is kept too", async () => {
  const { put, answers, now } = keeping();
  let let_go: (() => void) | undefined;
  const held = new Promise<void>((resolve) => {
    let_go = resolve;
  });
  const room = show(answers);
  room.now({
    "PUT /api/shipments/{id}": async (call: Call) => {
      if (put.mock.calls.length === 0) {
        put(call);
        await held;
        return { version: 2 };
      }
      return put(call);
    },
  });
  const field = await picked("I-1");
  fireEvent.change(field, { target: { value: "7" } });
  fireEvent.blur(field);
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  fireEvent.change(field, { target: { value: "10" } });
  fireEvent.blur(field);
  await act(async () => let_go?.());
  await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
  expect(now().lines[0]?.quantity).toBe("10");
  expect(sent(put, 1).version).toBe(2);
});

test("the carrier is kept when its field is left, freight as a plain number", async () => {
  const user = userEvent.setup();
  const { put, answers } = keeping();
  show(answers);
  await user.type(await screen.findByLabelText("Carrier"), "Sea Road{Tab}");
  await waitFor(() => expect(put).toHaveBeenCalledTimes(1));
  await user.type(screen.getByLabelText(/Freight to charge EUR/), "1,240.50{Enter}");
  await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
  expect(sent(put, 1).form).toMatchObject({ carrier: "Sea Road", freight: "1240.50" });
});

test("more than was ordered is refused at its line, and the shipment is not posted meanwhile", async () => {
  const user = userEvent.setup();
  const { answers } = keeping();
  const blocker = {
    check: "more_than_ordered",
    effect: "stops",
    field: "lines.1.quantity",
    words: "",
    sentence: "4 of I-2 can still be shipped.",
  };
  show({
    ...answers,
    "PUT /api/shipments/{id}": () => no({ title: blocker.sentence, code: "refused", blockers: [blocker] } as never),
  });
  await user.click(await picked("I-2"));
  await user.keyboard("40{Enter}");
  expect((await screen.findByRole("alert")).textContent).toBe("◆ 4 of I-2 can still be shipped.");
  expect((await picked("I-2")).getAttribute("aria-invalid")).toBe("true");
  expect((await picked("I-1")).getAttribute("aria-invalid")).toBe("false");
  await user.click(await button(/Post the shipment/));
  expect(screen.queryByRole("dialog")).toBeNull();
});

test("a posted one is billed or taken back with a reason; what is billed of it stays out", async () => {
  const user = userEvent.setup();
  const room = show({
    "GET /api/shipments/{id}": shipment({ state: "posted", posting_date: "2026-03-18" }),
    "POST /api/shipments/{id}/take-back": { version: 2 },
  });
  await user.click(await button(/Reverse shipment/));
  const ask = await screen.findByRole("dialog");
  await user.type(within(ask).getByLabelText("Why"), "wrong door");
  await user.click(within(ask).getByRole("button", { name: /Reverse shipment/ }));
  await screen.findByText(/its goods are in stock, its entry is reversed/);
  expect(room.asked("POST /api/shipments/{id}/take-back")[0]?.body).toEqual({ version: 1, reason: "wrong door" });
  cleanup();
  show({
    "GET /api/shipments/{id}": shipment({
      state: "posted",
      unbilled: false,
      lines: [{ ...line(1, "10"), billed: "10" }],
    }),
  });
  expect((await button(/Reverse shipment/)).disabled).toBe(true);
  expect((await button(/Bill it/)).disabled).toBe(true);
});
