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

import { NewReturnRoom } from "../src/rooms/returns/NewReturn";
import { ReturnRoom } from "../src/rooms/returns/Return";
import { nextWords, progressWords, waitsForUs } from "../src/rooms/returns/words";
import { ReturnsSetupRoom } from "../src/rooms/setup/Returns";
import { type Answers, type Call, no, stage } from "./stage";

afterEach(cleanup);

const settings = {
  reasons: [
    { code: "DAMAGED", name: "Damaged in transit", active: true },
    { code: "OLD", name: "Not said any more", active: false },
  ],
  dispositions: [
    { code: "RESTOCK", name: "Restock", outcome: "restock", active: true },
    { code: "SUPPLIER", name: "Back to the supplier", outcome: "supplier", active: true },
  ],
  days: 60,
  until: "2026-05-17",
  proof: "needed",
  limit: "line",
};

const billed = (line: number, code: string, obstacle: string | null = null) => ({
  line,
  shipment_line: null,
  document: { kind: "invoice", id: 12, number: "I-12" },
  number: "I-12",
  date: "2026-03-09",
  code,
  description: `${code} of cedar`,
  unit: "pc",
  billed: "4",
  left: obstacle ? "0" : "3",
  unit_price: "59",
  discount: "0",
  worth: 17700,
  currency: "EUR",
  tax_code: "S23",
  tax_rate: "0.23",
  order: "O-1",
  customer_po: "PO 7",
  shipment: "S-1",
  ship_to: "The Barn",
  obstacle,
});

type Wish = { lines: { line: number; quantity: string; reason: string; disposition: string | null }[] };

/** As the core would say it: a reason for each line, three at most. */
function previewed({ body }: Call) {
  const { lines } = body as Wish;
  const stops = (field: string, sentence: string) => ({ check: "x", effect: "stops", field, words: "", sentence });
  return {
    worth: lines.map((one) => Number(one.quantity) * 5900),
    expires_on: "2026-05-17",
    tape: { heading: "Orchard Lane", subheading: "return", currency: "EUR", lines: [] },
    blockers: lines.flatMap((one, at) => [
      ...(Number(one.quantity) > 3 ? [stops(`lines.${at}.quantity`, "3 may still come back.")] : []),
      ...(one.reason ? [] : [stops(`lines.${at}.reason`, "Say why it comes back.")]),
    ]),
    fingerprint: `seen ${lines.length}`,
  };
}

const answers: Answers = {
  "GET /api/customers": [{ id: 2, number: "1002", name: "Orchard Lane", currency: "EUR" }],
  "GET /api/return-settings": settings,
  "GET /api/returnable": { lines: [billed(41, "HIVE"), billed(42, "LID", "All of LID is credited.")], count: 2 },
  "POST /api/returns/preview": previewed,
  "POST /api/returns": { id: 5, number: "RA-5" },
};

test("a billed line is pointed at, with how much and why, and authorized as it was seen", async () => {
  const user = userEvent.setup();
  const till = stage(<NewReturnRoom />, "/returns/new?customer=2", answers);
  const quantity = await screen.findByLabelText("Quantity of HIVE of I-12 that comes back");
  // Where nothing may come back there is no field, and it says why.
  expect(screen.queryByLabelText("Quantity of LID of I-12 that comes back")).toBeNull();
  screen.getByText("All of LID is credited.");
  expect(screen.queryByLabelText("Why HIVE of I-12 comes back")).toBeNull();
  await user.type(quantity, "4");
  await screen.findAllByText("3 may still come back.");
  await user.clear(quantity);
  await user.type(quantity, "=");
  const why = await screen.findByLabelText("Why HIVE of I-12 comes back");
  await screen.findAllByText("Say why it comes back.");
  expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Authorize/ }).disabled).toBe(true);
  // What is not offered any more is not there to be chosen.
  expect(within(why).queryByText("Not said any more")).toBeNull();
  await user.selectOptions(why, "DAMAGED");
  await user.selectOptions(screen.getByLabelText("What is to become of HIVE of I-12"), "RESTOCK");
  await waitFor(() =>
    expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Authorize/ }).disabled).toBe(false),
  );
  await user.click(screen.getByRole("button", { name: /^Authorize/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Authorize/ }));
  await waitFor(() => expect(till.asked("POST /api/returns")).toHaveLength(1));
  expect(till.asked("POST /api/returns").at(-1)?.body).toEqual({
    customer: 2,
    lines: [{ line: 41, quantity: "3", reason: "DAMAGED", disposition: "RESTOCK" }],
    expires_on: null,
    reference: null,
    seen: "seen 1",
  });
});

test("goods that are not billed are pointed at by their shipment", async () => {
  const user = userEvent.setup();
  const unbilled = {
    ...billed(0, "HIVE"),
    line: null,
    shipment_line: 77,
    document: { kind: "shipment", id: 3, number: "S-3" },
  };
  const till = stage(<NewReturnRoom />, "/returns/new?customer=2&shipment=3", {
    ...answers,
    "GET /api/returnable": { lines: [unbilled], count: 1 },
  });
  await user.type(await screen.findByLabelText("Quantity of HIVE of S-3 that comes back"), "2");
  screen.getByText(/, not billed/);
  await user.selectOptions(await screen.findByLabelText("Why HIVE of S-3 comes back"), "DAMAGED");
  await waitFor(() =>
    expect(till.asked("POST /api/returns/preview").at(-1)?.body).toMatchObject({
      lines: [{ shipment_line: 77, quantity: "2", reason: "DAMAGED", disposition: null }],
    }),
  );
  expect(till.asked("GET /api/returnable").at(-1)?.params?.query).toMatchObject({ customer: 2, shipment: 3 });
  // Where the company asks for a document, nothing else can come back.
  expect(screen.queryByRole("button", { name: /Without a document/ })).toBeNull();
});

test("what no document shows is typed, at a price, with what it cost and why", async () => {
  const user = userEvent.setup();
  const till = stage(<NewReturnRoom />, "/returns/new?customer=2", {
    ...answers,
    "GET /api/return-settings": { ...settings, proof: "warn", limit: "line" },
    "GET /api/items": { items: [], count: 0 },
    "POST /api/returns/preview": (call: Call) => ({
      ...previewed(call),
      blockers: [
        {
          check: "proof_advised",
          effect: "warns",
          field: "lines.0.item",
          words: "",
          sentence: "No document shows it.",
        },
      ],
    }),
  });
  await user.click(await screen.findByRole("button", { name: /Without a document/ }));
  await user.type(await screen.findByLabelText("Item of line 1 without a document"), "HIVE");
  await user.type(screen.getByLabelText("Quantity of line 1 without a document"), "2");
  await user.type(screen.getByLabelText("Price of line 1 without a document"), "59.00");
  expect(screen.queryByLabelText("Why line 1 without a document cost that")).toBeNull();
  await user.type(screen.getByLabelText("Cost of line 1 without a document"), "20");
  await user.type(await screen.findByLabelText("Why line 1 without a document cost that"), "an old model");
  await user.selectOptions(screen.getByLabelText("Why line 1 without a document comes back"), "DAMAGED");
  await waitFor(() =>
    expect(till.asked("POST /api/returns/preview").at(-1)?.body).toMatchObject({
      lines: [
        { item: "HIVE", price: "59.00", quantity: "2", reason: "DAMAGED", cost: "20", cost_reason: "an old model" },
      ],
    }),
  );
  // It is warned of, and authorized all the same.
  await screen.findByText("No document shows it.");
  await waitFor(() =>
    expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Authorize/ }).disabled).toBe(false),
  );
});

const progress = { authorized: "3", received: "0", sent_back: "0", replaced: "0", credited: "0" };

const line = (more: object) => ({
  id: 31,
  billed_on: 41,
  position: 0,
  unbilled: false,
  document: { kind: "invoice", id: 12, number: "I-12" },
  item: 3,
  code: "HIVE",
  description: "Hive of cedar",
  unit: "pc",
  stock_unit: "pc",
  factor: "1",
  reason: "DAMAGED",
  reason_name: "Damaged in transit",
  disposition: null,
  progress,
  expected: "3",
  to_settle: "0",
  waiting: "0",
  waiting_cost: 0,
  ...more,
});

const view = (more: object) => ({
  id: 5,
  number: "RA-5",
  customer: { id: 2, number: "1002", name: "Orchard Lane", address: "", tax_id: null },
  reference: null,
  note: null,
  authorized_on: "2026-03-18",
  expires_on: "2026-05-17",
  closed_on: null,
  closed_reason: null,
  warehouse: "MAIN",
  warehouse_name: "Main warehouse",
  currency: "EUR",
  live: true,
  state: "open",
  next: "receive",
  lines: [line({})],
  steps: [],
  pictures: [],
  deliveries: [],
  credits: [],
  entries: [],
  trail: { steps: [] },
  version: 4,
  ...more,
});

const step = {
  costs: [9855],
  tape: { heading: "Orchard Lane", subheading: "RA-5", currency: "EUR", lines: [] },
  entry: null,
  changes: [],
  blockers: [],
  fingerprint: "step seen",
};

const room = (returned: object, more: Answers = {}) =>
  stage(
    <ReturnRoom />,
    "/returns/5",
    {
      "GET /api/returns/{id}": returned,
      "GET /api/return-settings": settings,
      "GET /api/papers/{kind}/{id}": "",
      "GET /api/record": [],
      "POST /api/returns/{id}/receive/preview": step,
      "POST /api/returns/{id}/inspect/preview": step,
      ...more,
    },
    "/returns/:id",
  );

test("what is expected is received, unless another quantity is typed", async () => {
  const user = userEvent.setup();
  const till = room(view({}), { "POST /api/returns/{id}/receive": { step: 1, version: 5 } });
  await user.click(await screen.findByRole("button", { name: /Receive goods/ }));
  const arrived = await screen.findByLabelText<HTMLInputElement>("Quantity of HIVE that arrived");
  expect(arrived.value).toBe("3");
  await user.clear(arrived);
  await user.type(arrived, "2");
  await waitFor(() => expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Receive/ }).disabled).toBe(false));
  await user.click(screen.getByRole("button", { name: /^Receive/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Receive/ }));
  await waitFor(() => expect(till.asked("POST /api/returns/{id}/receive")).toHaveLength(1));
  expect(till.asked("POST /api/returns/{id}/receive").at(-1)?.body).toEqual({
    lines: [{ line: 31, quantity: "2" }],
    date: null,
    note: null,
    version: 4,
    seen: "step seen",
  });
});

test("each quantity has its disposition, and what goes to the supplier its claim", async () => {
  const user = userEvent.setup();
  const back = {
    progress: { ...progress, received: "3" },
    expected: "0",
    to_settle: "3",
    waiting: "3",
    waiting_cost: 9855,
  };
  const till = room(view({ next: "inspect", lines: [line(back)] }), {
    "POST /api/returns/{id}/inspect": () => no({ title: "The figures have changed. Look again.", code: "moved" }),
  });
  await user.click(await screen.findByRole("button", { name: /Inspect/ }));
  await user.type(await screen.findByLabelText("Restock: quantity of HIVE"), "2");
  expect(screen.queryByLabelText("Claim on the supplier for HIVE")).toBeNull();
  await user.type(screen.getByLabelText("Back to the supplier: quantity of HIVE"), "1");
  await user.type(await screen.findByLabelText("Claim on the supplier for HIVE"), "30");
  await user.type(screen.getByLabelText("What was found"), "a corner is crushed");
  await waitFor(() =>
    expect(screen.getByRole<HTMLButtonElement>("button", { name: /Post the inspection/ }).disabled).toBe(false),
  );
  await user.click(screen.getByRole("button", { name: /Post the inspection/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.click(ask.getByRole("button", { name: /Post the inspection/ }));
  // Refused, what was typed stays.
  await ask.findByText(/The figures have changed/);
  expect(till.asked("POST /api/returns/{id}/inspect").at(-1)?.body).toEqual({
    lines: [
      { line: 31, quantity: "2", disposition: "RESTOCK", claim: null },
      { line: 31, quantity: "1", disposition: "SUPPLIER", claim: "30" },
    ],
    date: null,
    note: "a corner is crushed",
    version: 4,
    seen: "step seen",
  });
});

test("a return whose last day has passed says how it goes on", async () => {
  room(view({ live: false, next: "nothing", state: "expired", lines: [line({ expected: "0" })] }));
  await screen.findByText(/Its last day has passed/);
  expect(screen.getByRole("button", { name: /Extend/ })).toBeTruthy();
});

test("what a return still needs is said in words", () => {
  const row = (next: string, state: string) => ({ next, state, expires_on: "2026-05-17" }) as never;
  const said = [row("inspect", "open"), row("settle", "open"), row("receive", "open"), row("nothing", "done")];
  expect(said.map((one) => nextWords(one, "2026-03-18"))).toEqual([
    "inspect",
    "credit or replace",
    "arrives until 17 May",
    "done",
  ]);
  expect(nextWords(row("repair", "open"), "2026-03-18")).toBe("repair");
  expect(nextWords(row("nothing", "canceled"), "2026-03-18")).toBe("closed");
  expect(nextWords(row("nothing", "expired"), "2026-03-18")).toBe("expired");
  expect([row("inspect", "open"), row("repair", "open"), row("receive", "open")].map(waitsForUs)).toEqual([
    true,
    true,
    false,
  ]);
  const of = (more: object) => progressWords({ progress: { ...progress, ...more } } as never);
  expect(of({ received: "2", credited: "1", replaced: "1", sent_back: "1" })).toBe(
    "2 of 3 received, 1 credited, 1 replaced, 1 sent back",
  );
  expect(of({ for_repair: "2", repaired: "1" })).toBe("0 of 3 received, 2 in for repair, 1 back");
  expect(of({ for_repair: "2", repaired: "2" })).toBe("0 of 3 received, 2 repaired");
});

test("a company adds a reason of its own", async () => {
  const user = userEvent.setup();
  const till = stage(<ReturnsSetupRoom />, "/setup/returns", {
    "GET /api/return-settings": settings,
    "PUT /api/return-settings/reasons": true,
  });
  await screen.findByText("Damaged in transit");
  await user.click(screen.getByRole("button", { name: /Add a reason/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.type(ask.getByLabelText("Code"), "COLOR");
  await user.type(ask.getByLabelText("Name"), "Wrong color");
  await user.click(ask.getByRole("button", { name: /Save/ }));
  await waitFor(() => expect(till.asked("PUT /api/return-settings/reasons")).toHaveLength(1));
  expect(till.asked("PUT /api/return-settings/reasons").at(-1)?.body).toEqual({
    code: "COLOR",
    name: "Wrong color",
    active: true,
  });
});

test("goods come in for repair and go back, and what the repair costs is billed to their customer", async () => {
  const user = userEvent.setup();
  const till = room(
    view({
      next: "repair",
      lines: [line({ expected: "0", in_repair: "2", progress: { ...progress, for_repair: "2", repaired: "0" } })],
    }),
    {
      "POST /api/returns/{id}/repaired/preview": {
        costs: [0],
        tape: null,
        entry: null,
        changes: [],
        blockers: [],
        fingerprint: "step seen",
      },
      "POST /api/returns/{id}/repaired": { step: 8, version: 5 },
    },
  );
  await screen.findByText("2 in for repair");
  expect(screen.getByRole("button", { name: /Bill the repair/ })).toBeTruthy();
  await user.click(screen.getByRole("button", { name: /Send back repaired/ }));
  const quantity = await screen.findByLabelText<HTMLInputElement>("Quantity of HIVE that goes back");
  // What is here goes back, unless less is typed.
  expect(quantity.value).toBe("2");
  await user.clear(quantity);
  await user.type(quantity, "1");
  await waitFor(() =>
    expect(screen.getByRole<HTMLButtonElement>("button", { name: /^Send back/ }).disabled).toBe(false),
  );
  await user.click(screen.getByRole("button", { name: /^Send back/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Send back/ }));
  await waitFor(() => expect(till.asked("POST /api/returns/{id}/repaired")).toHaveLength(1));
  expect(till.asked("POST /api/returns/{id}/repaired").at(-1)?.body).toEqual({
    lines: [{ line: 31, quantity: "1" }],
    date: null,
    note: null,
    version: 4,
    seen: "step seen",
  });
});
