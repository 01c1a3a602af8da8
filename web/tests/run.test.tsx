// @vitest-environment jsdom
import { cleanup, fireEvent, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";
import { RunRoom } from "../src/rooms/runs/Run";
import { type Answers, type Call, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

afterEach(cleanup);

const invoice = (id: number, standing: string, more: object = {}) => ({
  id,
  standing,
  version: 1,
  customer: id,
  customer_name: `Customer ${id}`,
  currency: "EUR",
  source: `S-${id}`,
  lines: 1,
  net: 10_000,
  total: 12_300,
  blockers: [],
  held: null,
  ...more,
});

function run(ready: number, posted: number, more: object = {}) {
  const standing = [...Array(ready).fill("ready"), ...Array(posted).fill("posted")];
  return {
    id: 5,
    version: 1,
    name: "Run 5",
    state: "open",
    underway: false,
    base: "EUR",
    person: "Ines Calder",
    made_on: "2026-03-18",
    counts: { ready, posted, blocked: 0, left_out: 0 },
    count: standing.length,
    ready: ready > 0 ? [{ currency: "EUR", net: ready * 10_000, tax: ready * 2_300, total: ready * 12_300 }] : [],
    ready_base: ready * 12_300,
    posted: [],
    posted_base: posted * 12_300,
    accounts: [],
    customers: [1, 2],
    waiting: 0,
    seen: "what was seen",
    invoices: standing.map((each, at) => invoice(at + 1, each)),
    ...more,
  };
}

const show = (answers: Answers) => stage(<RunRoom />, "/runs/5", answers, "/runs/:id");
const button = (name: RegExp) => screen.findByRole<HTMLButtonElement>("button", { name });

test("is posted as it was seen, told how far it is, and read anew when it is done; and so again", async () => {
  const user = userEvent.setup();
  const room = show({ "GET /api/runs/{id}": run(2, 0), "POST /api/runs/{id}/post": { posted: 0, left: 2, held: 0 } });
  /** Posts what is ready: under way first, then done. */
  const post = async (version: number, before: number, words: RegExp) => {
    let done = false;
    room.now({
      "POST /api/runs/{id}/post": () => {
        room.now({ "GET /api/runs/{id}": run(2, before, { version: version + 1, state: "posting", underway: true }) });
        return { posted: 0, left: 2, held: 0 };
      },
      "GET /api/runs/{id}/progress": () => ({
        posted: before + (done ? 2 : 1),
        left: done ? 0 : 1,
        held: 0,
        underway: !done,
      }),
    });
    await user.click(await button(/Post 2 invoices · €246.00/));
    const ask = await screen.findByRole("dialog");
    await user.click(within(ask).getByRole("button", { name: /Post · €246.00/ }));
    await screen.findByText(words);
    room.now({ "GET /api/runs/{id}": run(0, before + 2, { version: version + 2, state: "posted" }) });
    done = true;
    await screen.findByText(`${before + 2} posted`);
    expect(room.asked("POST /api/runs/{id}/post").at(-1)?.body).toEqual({ version, seen: "what was seen" });
  };
  await post(1, 0, /Being posted: 1 of 2/);
  // What was held is put right and posted: what was heard of the first posting is not of this one.
  room.now({ "GET /api/runs/{id}": run(2, 2, { version: 8 }) });
  fireEvent.click(await button(/All/));
  fireEvent.click(await button(/Ready/));
  await post(8, 2, /Being posted: 3 of 4/);
});

test("a posting that was cut off is told with its figures, and goes on", async () => {
  const user = userEvent.setup();
  const room = show({
    "GET /api/runs/{id}": run(3, 1, { state: "posting" }),
    "POST /api/runs/{id}/go-on": () => {
      room.now({ "GET /api/runs/{id}": run(0, 4, { version: 3, state: "posted" }) });
      return { posted: 1, left: 3, held: 0, underway: true };
    },
  });
  await screen.findByText(/Posting was cut off after 1 of 4. Nothing is doubled/);
  expect((await button(/Exclude\b/)).disabled).toBe(true);
  expect((await button(/Delete run/)).disabled).toBe(true);
  await user.keyboard("p");
  await screen.findByText("4 posted");
  expect(room.asked("POST /api/runs/{id}/go-on")).toHaveLength(1);
});

test("what is picked is left out together, and taken in again when all of it is out", async () => {
  const user = userEvent.setup();
  const put = vi.fn((_: Call) => ({ version: 2 }));
  const room = show({ "GET /api/runs/{id}": run(3, 0), "PUT /api/runs/{id}/left-out": put });
  await user.click(await screen.findByRole("checkbox", { name: "Customer 1" }));
  await user.click(screen.getByRole("checkbox", { name: "Customer 3" }));
  await screen.findByText("2 selected");
  await user.click(await button(/Exclude\b/));
  expect(put.mock.calls[0]?.[0].body).toEqual({ version: 1, invoices: [1, 3], out: true });
  const left = run(1, 0, {
    version: 2,
    counts: { ready: 1, left_out: 2, blocked: 0, posted: 0 },
    count: 3,
    invoices: [invoice(1, "left_out"), invoice(2, "ready"), invoice(3, "left_out")],
  });
  room.now({ "GET /api/runs/{id}": left });
  await user.click(screen.getByRole("checkbox", { name: "Customer 2" }));
  await user.click(screen.getByRole("checkbox", { name: "Customer 2" }));
  fireEvent.click(await button(/Ready 3/));
  await user.click(await button(/Include/));
  expect(put.mock.calls.at(-1)?.[0].body).toEqual({ version: 2, invoices: [1, 3], out: false });
});

test("several currencies are said as one sum, and who waits for the rest of an order is told", async () => {
  show({
    "GET /api/runs/{id}": run(2, 0, {
      waiting: 3,
      ready: [
        { currency: "EUR", net: 10_000, tax: 2_300, total: 12_300 },
        { currency: "GBP", net: 10_000, tax: 0, total: 10_000 },
      ],
      ready_base: 24_000,
    }),
  });
  await button(/Post 2 invoices · €240.00 in all/);
  expect(screen.getByText(/3 shipments are not in it/)).toBeTruthy();
});

test("what is held says why, where it stands, and is not posted again by leaving it", async () => {
  const held = "Its figures have changed since the run was posted. Look at it again, then post it.";
  show({
    "GET /api/runs/{id}": run(0, 1, {
      counts: { ready: 0, posted: 1, blocked: 1, left_out: 0 },
      count: 2,
      invoices: [invoice(1, "posted", { number: "I-1" }), invoice(2, "blocked", { held })],
    }),
  });
  await screen.findByText(/Its figures have changed/);
  expect((await button(/Nothing ready to post/)).disabled).toBe(true);
  expect((await button(/Delete run/)).disabled).toBe(false);
});
