// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api } from "../src/api/client";
import type { LineForm, OrderPreview } from "../src/api/types";
import { emptyLine, toSend } from "../src/rooms/order/form";
import { LineGrid } from "../src/rooms/order/LineGrid";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn() },
}));

const get = vi.mocked(api.GET) as unknown as ReturnType<typeof vi.fn>;
const shelf = [
  { id: 1, code: "HB-10", name: "Hive body, 10 frames", unit: "pc", kind: "goods", available: "3", list_price: "30" },
  { id: 2, code: "HB-12", name: "Hive body, 12 frames", unit: "pc", kind: "goods", available: "9", list_price: "32.5" },
  { id: 3, code: "WX-1", name: "Wax, block", unit: "kg", kind: "goods", available: "80", list_price: "9" },
];

async function find(_: string, call: { params: { query: { q: string } } }) {
  const words = call.params.query.q.toLowerCase();
  const items = shelf.filter((item) => `${item.code} ${item.name}`.toLowerCase().includes(words));
  return { data: { items, count: items.length }, response: { ok: true } };
}

afterEach(cleanup);
beforeEach(() => {
  get.mockReset();
  get.mockImplementation(find);
});

interface Given {
  preview?: object;
  wrong?: { field: string; sentence: string };
}
const kept: { lines: LineForm[] } = { lines: [] };

function Held({ start, given, leave }: { start: LineForm[]; given: Given; leave: () => void }) {
  const [lines, setLines] = useState(start);
  const [active, setActive] = useState(0);
  kept.lines = lines;
  return (
    <LineGrid
      lines={lines}
      setLines={setLines}
      preview={given.preview as OrderPreview | undefined}
      places={toSend({ customer: 4, lines, tags: [], marks: {} }).places}
      wrong={given.wrong}
      active={active}
      setActive={setActive}
      typing={() => undefined}
      unitsOf={(code) => (code === "HB-12" ? ["pc", "pallet"] : [])}
      remember={() => undefined}
      currency="EUR"
      leave={leave}
    />
  );
}

function show(start: LineForm[], given: Given = {}) {
  const leave = vi.fn();
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Held start={start} given={given} leave={leave} />
    </QueryClientProvider>,
  );
  return { kept, leave };
}

const cell = (name: string, line: number) => screen.getByLabelText<HTMLInputElement>(`${name} of line ${line}`);
const focused = (name: string, line: number) => waitFor(() => expect(document.activeElement).toBe(cell(name, line)));

test("lines are typed without leaving the keys: item, Enter, quantity, Enter, the next; Enter on nothing ends them", async () => {
  const user = userEvent.setup();
  const { kept, leave } = show([emptyLine()]);
  await user.click(cell("Item", 1));
  await user.type(cell("Item", 1), "12 fr");
  await screen.findByRole("option", { name: /HB-12/ });
  await user.keyboard("{Enter}");
  await focused("Quantity", 1);
  await user.keyboard("24{Enter}");
  await focused("Item", 2);
  await user.keyboard("wax{Enter}");
  await focused("Quantity", 2);
  await user.keyboard("{Enter}");
  await focused("Item", 3);
  await user.keyboard("{Enter}");
  expect(leave).toHaveBeenCalledTimes(1);
  expect(kept.lines).toEqual([
    { item: "HB-12", quantity: "24", unit: "pc" },
    { item: "WX-1", quantity: "", unit: "kg" },
    emptyLine(),
  ]);
});

test("the arrows choose among what fits, and only go from line to line when nothing lies open", async () => {
  const user = userEvent.setup();
  const { kept } = show([emptyLine(), { item: "WX-1", quantity: "2", unit: "kg" }]);
  await user.type(cell("Item", 1), "hive");
  await screen.findByRole("option", { name: /HB-10/ });
  await user.keyboard("{ArrowDown}");
  expect(screen.getByRole("option", { name: /HB-12/ }).getAttribute("aria-selected")).toBe("true");
  await user.keyboard("{Tab}");
  await focused("Quantity", 1);
  expect(kept.lines[0]?.item).toBe("HB-12");
  await user.keyboard("{ArrowDown}");
  await focused("Quantity", 2);
  await user.keyboard("{ArrowUp}");
  await focused("Quantity", 1);
  // Esc shuts the list and leaves what was typed.
  await user.click(cell("Item", 2));
  await user.type(cell("Item", 2), "{Backspace}");
  await screen.findByRole("option", { name: /Wax/ });
  await user.keyboard("{Escape}");
  expect(screen.queryByRole("option", { name: /Wax/ })).toBeNull();
  expect(kept.lines[1]?.item).toBe("WX-");
});

test("who types faster than the list comes gets what was typed, not what lay open before", async () => {
  const user = userEvent.setup();
  let late: (() => void) | undefined;
  show([emptyLine()]);
  await user.type(cell("Item", 1), "h");
  await screen.findByRole("option", { name: /HB-10/ });
  get.mockImplementation(async (...asked: Parameters<typeof find>) => {
    await new Promise<void>((resolve) => {
      const before = late;
      late = () => {
        before?.();
        resolve();
      };
    });
    return find(...asked);
  });
  fireEvent.change(cell("Item", 1), { target: { value: "wax" } });
  await user.keyboard("{Enter}");
  expect(cell("Item", 1).value).toBe("wax");
  await waitFor(() => expect(late).toBeTruthy());
  await new Promise((resolve) => setTimeout(resolve, 20));
  late?.();
  await waitFor(() => expect(cell("Item", 1).value).toBe("WX-1"));
});

test("a line is taken off with Ctrl and Del, and the last one is emptied", async () => {
  const user = userEvent.setup();
  const { kept } = show([
    { item: "HB-12", quantity: "1", unit: "pc" },
    { item: "WX-1", quantity: "2", unit: "kg" },
  ]);
  await user.click(cell("Quantity", 1));
  await user.keyboard("{Control>}{Delete}{/Control}");
  await focused("Item", 1);
  expect(kept.lines).toEqual([{ item: "WX-1", quantity: "2", unit: "kg" }]);
  await user.click(screen.getByRole("button", { name: "Take line 1 off" }));
  expect(kept.lines).toEqual([emptyLine()]);
});

test("units are those of the item, and figures of the preview stand beside the line they are of", () => {
  const priced = (code: string, net: number, short = "0") => ({
    code,
    description: `${code} in words`,
    net,
    short,
    price: { unit_price: "32.5", discount: "0.055", steps: [] },
  });
  const { kept } = show(
    [{ item: "HB-12", quantity: "2", unit: "pc" }, emptyLine(), { item: "WX-1", quantity: "1", unit: "kg" }],
    { preview: { blockers: [], lines: [priced("HB-12", 6_143), priced("WX-1", 900, "1")] } },
  );
  const rows = [...document.querySelectorAll("[data-line]")].map((row) => row.textContent);
  expect(rows[0]).toContain("61.43");
  expect(rows[1]).not.toContain("in words");
  expect(rows[2]).toContain("9.00");
  expect(rows[2]).toContain("1 short");
  expect(screen.getByLabelText<HTMLInputElement>("Discount of line 1 in percent").placeholder).toBe("5.5");
  const units = screen.getByLabelText<HTMLSelectElement>("Unit of line 1");
  expect([...units.options].map((option) => option.value)).toEqual(["pc", "pallet"]);
  fireEvent.change(units, { target: { value: "pallet" } });
  expect(kept.lines[0]?.unit).toBe("pallet");
});

test("what is wrong stands below the line it was typed in, though lines without an item are not sent", () => {
  show([emptyLine(), { item: "HB-12", quantity: "x", unit: "pc" }, { item: "WX-1", quantity: "1", unit: "kg" }], {
    wrong: { field: "lines.0.quantity", sentence: "“x” is not a number." },
    preview: {
      lines: [],
      blockers: [
        { check: "unit_or_step", effect: "stops", field: "lines.1.quantity", sentence: "It comes in steps of 5 kg." },
        { check: "credit_limit", effect: "asks", field: "customer", sentence: "Over the limit." },
      ],
    },
  });
  expect(cell("Quantity", 2).getAttribute("aria-invalid")).toBe("true");
  expect(cell("Quantity", 3).getAttribute("aria-invalid")).toBe("true");
  expect(cell("Quantity", 1).getAttribute("aria-invalid")).toBe("false");
  const alerts = screen.getAllByRole("alert").map((one) => one.textContent);
  expect(alerts).toEqual(["◆ “x” is not a number.", "◆ It comes in steps of 5 kg."]);
});
