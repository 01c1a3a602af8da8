// @vitest-environment jsdom

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api } from "../src/api/client";
import { MoreOfCustomer } from "../src/rooms/invoice/more";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn() },
}));

const get = vi.mocked(api.GET) as unknown as ReturnType<typeof vi.fn>;
const line = (shipment_line: number | null, order_line: number, code: string, quantity: string) => ({
  shipment_line,
  order_line,
  code,
  description: `${code} in words`,
  quantity,
  net: 1000,
});
const shipments = [
  {
    shipment: 1,
    number: "S-1",
    order_number: "O-1",
    currency: "EUR",
    lines: [line(11, 21, "HB-12", "40"), line(12, 22, "FL-PI", "12")],
  },
  { shipment: null, number: "O-2", order_number: "O-2", currency: "EUR", lines: [line(null, 23, "ASM", "3")] },
];

afterEach(cleanup);
beforeEach(() => {
  get.mockReset();
  get.mockImplementation(async () => ({ data: { customers: [{ shipments }] }, response: { ok: true } }));
});

function show(taken: string[] = []) {
  const add = vi.fn();
  const typing = vi.fn();
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MoreOfCustomer customer={4} taken={taken.map((key) => ({ key }))} add={add} typing={typing} />
    </QueryClientProvider>,
  );
  return { add, typing };
}

test("a line is added whole, or the part that is typed", async () => {
  const user = userEvent.setup();
  const { add, typing } = show();
  const field = await screen.findByLabelText(/Quantity of HB-12 to add, 40 unbilled/);
  await user.click(field);
  await user.clear(field);
  await user.type(field, "7.5{Enter}");
  expect(add).toHaveBeenLastCalledWith([{ shipment_line: 11, quantity: "7.5" }], []);
  expect(typing).toHaveBeenCalled();
  // What was typed is used once.
  await user.click(screen.getAllByRole("button", { name: "Add to the draft" })[0] as HTMLElement);
  expect(add).toHaveBeenLastCalledWith([{ shipment_line: 11 }], []);
});

test("a shipment and everything are added at once, work of orders as such", async () => {
  const user = userEvent.setup();
  const { add } = show();
  await user.click(await screen.findByRole("button", { name: "Add 2 lines of S-1" }));
  expect(add).toHaveBeenLastCalledWith([{ shipment_line: 11 }, { shipment_line: 12 }], []);
  await user.click(screen.getByRole("button", { name: "Add everything" }));
  expect(add).toHaveBeenLastCalledWith([{ shipment_line: 11 }, { shipment_line: 12 }], [{ order_line: 23 }]);
  expect(screen.getByText(/O-2, not shipped/)).toBeTruthy();
});

test("Space picks a line, and Esc forgets what was typed", async () => {
  const user = userEvent.setup();
  const { add } = show(["s11"]);
  const field = await screen.findByLabelText<HTMLInputElement>(/Quantity of FL-PI to add/);
  await user.click(field);
  await user.type(field, "9");
  await user.keyboard("{Escape}");
  expect(field.value).toBe("12");
  screen.getAllByRole("button", { name: "Add to the draft" })[0]?.focus();
  await user.keyboard(" ");
  expect(add).toHaveBeenLastCalledWith([{ shipment_line: 12 }], []);
});

test("what is on the draft is not offered again; with nothing left there is no table", async () => {
  show(["s11", "s12", "o23"]);
  await vi.waitFor(() => expect(get).toHaveBeenCalled());
  expect(screen.queryByText("More of this customer, unbilled")).toBeNull();
  cleanup();
  show(["s11"]);
  await screen.findByLabelText(/FL-PI to add/);
  expect(screen.queryByLabelText(/HB-12 to add/)).toBeNull();
});
