// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render as renderBare, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeAll, describe, expect, it, vi } from "vitest";
import { usePicks } from "../src/parts/picks";
import { type Column, Rows } from "../src/parts/Rows";
import { sized } from "./stage";

interface Row {
  id: string;
  group?: boolean;
}

const columns: Column<Row>[] = [{ key: "id", head: "Number", width: "1fr", cell: (row) => row.id }];
const idOf = (row: Row) => row.id;

beforeAll(sized);
afterEach(() => {
  cleanup();
  localStorage.clear();
});

function Address() {
  return <output>{useLocation().search}</output>;
}

/** In a room: with an address, and books in euros. */
function render(element: React.ReactElement, address = "/rows") {
  const queries = new QueryClient();
  queries.setQueryDefaults([], { staleTime: Number.POSITIVE_INFINITY });
  queries.setQueryData(["spine"], { base: "EUR", base_currency: "EUR" });
  const inRoom = (one: React.ReactElement) => (
    <QueryClientProvider client={queries}>
      <MemoryRouter initialEntries={[address]}>
        {one}
        <Address />
      </MemoryRouter>
    </QueryClientProvider>
  );
  const { rerender } = renderBare(inRoom(element));
  return { rerender: (other: React.ReactElement) => rerender(inRoom(other)) };
}

function rowsOf(count: number): Row[] {
  return Array.from({ length: count }, (_, at) => ({ id: `R-${at}` }));
}

function current(): string {
  const grid = screen.getByRole("grid");
  const id = grid.getAttribute("aria-activedescendant") ?? "";
  return document.getElementById(id)?.getAttribute("data-row") ?? "";
}

function picked(): string[] {
  return screen.getAllByRole("row", { selected: true }).map((row) => row.getAttribute("data-row") ?? "");
}

function PickList({ rows, open }: { rows: Row[]; open?: (row: Row) => void }) {
  const { picks, onPick } = usePicks(rows, idOf);
  return (
    <Rows
      label="Rows"
      rows={rows}
      idOf={idOf}
      columns={columns}
      picks={picks}
      onPick={onPick}
      onOpen={open}
      empty="Nothing"
    />
  );
}

function Changing() {
  const [rows, setRows] = useState(rowsOf(3));
  return (
    <>
      <Rows label="Rows" rows={rows} idOf={idOf} columns={columns} empty="Nothing" />
      <button type="button" onClick={() => setRows([{ id: "new" }, ...rows])}>
        more
      </button>
    </>
  );
}

describe("a list the keyboard can drive", () => {
  it("takes the focus when its screen opens and starts at the first row", () => {
    render(<Rows label="Rows" rows={rowsOf(5)} idOf={idOf} columns={columns} empty="Nothing" />);
    expect(document.activeElement).toBe(screen.getByRole("grid"));
    expect(current()).toBe("R-0");
  });

  it("moves with arrows, Home and End, and stays within", async () => {
    const user = userEvent.setup();
    render(<Rows label="Rows" rows={rowsOf(5)} idOf={idOf} columns={columns} empty="Nothing" />);
    await user.keyboard("{ArrowDown}{ArrowDown}");
    expect(current()).toBe("R-2");
    await user.keyboard("{End}{ArrowDown}");
    expect(current()).toBe("R-4");
    await user.keyboard("{Home}{ArrowUp}");
    expect(current()).toBe("R-0");
  });

  it("opens with Enter, but leaves Ctrl Enter to the screen", async () => {
    const user = userEvent.setup();
    const open = vi.fn();
    render(<PickList rows={rowsOf(5)} open={open} />);
    await user.keyboard("{ArrowDown}{Control>}{Enter}{/Control}");
    expect(open).not.toHaveBeenCalled();
    await user.keyboard("{Enter}");
    expect(open).toHaveBeenCalledExactlyOnceWith({ id: "R-1" }, rowsOf(5));
  });

  it("picks and lets go with Space", async () => {
    const user = userEvent.setup();
    render(<PickList rows={rowsOf(5)} />);
    await user.keyboard(" {ArrowDown}{ArrowDown} ");
    expect(picked()).toEqual(["R-0", "R-2"]);
    await user.keyboard(" ");
    expect(picked()).toEqual(["R-0"]);
  });

  it("picks a range with Shift and the arrows", async () => {
    const user = userEvent.setup();
    render(<PickList rows={rowsOf(8)} />);
    await user.keyboard("{ArrowDown}{Shift>}{ArrowDown}{ArrowDown}{ArrowDown}{/Shift}");
    expect(picked()).toEqual(["R-1", "R-2", "R-3", "R-4"]);
    expect(current()).toBe("R-4");
  });

  it("passes over headings that cannot be picked", async () => {
    const user = userEvent.setup();
    const rows: Row[] = [{ id: "A", group: true }, { id: "a1" }, { id: "B", group: true }, { id: "b1" }];
    const isGroup = (row: Row) => row.group ?? false;
    render(
      <Rows
        label="Rows"
        rows={rows}
        idOf={idOf}
        columns={columns}
        isGroup={isGroup}
        groupCell={idOf}
        empty="Nothing"
      />,
    );
    expect(current()).toBe("a1");
    await user.keyboard("{ArrowDown}");
    expect(current()).toBe("b1");
    await user.keyboard("{ArrowUp}");
    expect(current()).toBe("a1");
  });

  it("stays on its row when rows come and go around it", async () => {
    const user = userEvent.setup();
    render(<Changing />);
    await user.keyboard("{ArrowDown}");
    await user.click(screen.getByText("more"));
    expect(current()).toBe("R-1");
  });

  it("tells the row it is on once, not with every drawing", async () => {
    const told = vi.fn();
    const rows = rowsOf(3);
    const { rerender } = render(
      <Rows label="Rows" rows={rows} idOf={idOf} columns={columns} onCurrent={told} empty="Nothing" />,
    );
    rerender(<Rows label="Rows" rows={[...rows]} idOf={idOf} columns={columns} onCurrent={told} empty="Nothing" />);
    expect(told).toHaveBeenCalledTimes(1);
  });

  it("asks for more when the end comes near, and draws only what is in sight", async () => {
    const user = userEvent.setup();
    const more = vi.fn();
    render(<Rows label="Rows" rows={rowsOf(1000)} idOf={idOf} columns={columns} more={more} empty="Nothing" />);
    expect(more).not.toHaveBeenCalled();
    expect(document.querySelectorAll("[data-row]").length).toBeLessThan(60);
    await user.keyboard("{End}");
    expect(more).toHaveBeenCalled();
  });

  it("says what to do when it is empty", () => {
    render(<Rows label="Rows" rows={[]} idOf={idOf} columns={columns} empty="Nothing fits. Clear the filter." />);
    expect(screen.getByText("Nothing fits. Clear the filter.")).toBeTruthy();
  });
});

interface Money {
  id: string;
  who: string;
  minor: number;
  currency: string;
}

const amounts: Money[] = [
  { id: "I-9", who: "Tern", minor: 30_01, currency: "EUR" },
  { id: "I-10", who: "orchard", minor: 5_00, currency: "EUR" },
  { id: "I-2", who: "Brack", minor: 100_00, currency: "GBP" },
];

const moneyColumns: Column<Money>[] = [
  { key: "id", head: "Invoice", width: "80px", cell: (row) => row.id, sort: (row) => row.id },
  { key: "who", head: "Customer", width: "1fr", cell: (row) => row.who, sort: (row) => row.who },
  { key: "note", head: "Note", width: "80px", cell: () => "none" },
  {
    key: "total",
    head: "Total",
    width: "90px",
    cell: (row) => row.minor,
    sort: (row) => row.minor,
    sum: (row) => row,
  },
];

function MoneyList({ count, open }: { count?: number; open?: (row: Money, rows: Money[]) => void }) {
  const { picks, onPick, onAll } = usePicks(amounts, (row) => row.id);
  return (
    <Rows
      label="Amounts"
      rows={amounts}
      idOf={(row) => row.id}
      columns={moneyColumns}
      picks={picks}
      onPick={onPick}
      onAll={onAll}
      nameOf={(row) => row.id}
      onOpen={open}
      count={count}
      empty="Nothing"
    />
  );
}

const order = () => [...document.querySelectorAll("[data-row]")].map((row) => row.getAttribute("data-row"));
const foot = () => screen.getByRole("grid").querySelector(".foot")?.textContent ?? "";

describe("a list with the mouse", () => {
  it("is ordered by a click on a head: upwards, downwards, as it comes; the address says so", async () => {
    const user = userEvent.setup();
    const open = vi.fn();
    render(<MoneyList open={open} />);
    expect(order()).toEqual(["I-9", "I-10", "I-2"]);
    await user.click(screen.getByRole("button", { name: "Invoice" }));
    // Numbers as numbers.
    expect(order()).toEqual(["I-2", "I-9", "I-10"]);
    expect(screen.getByRole("columnheader", { name: /Invoice/ }).getAttribute("aria-sort")).toBe("ascending");
    await user.click(screen.getByRole("button", { name: /Total/ }));
    await user.click(screen.getByRole("button", { name: /Total/ }));
    expect(order()).toEqual(["I-2", "I-9", "I-10"]);
    expect(screen.getAllByRole("status").map((one) => one.textContent)).toContain("?sort=-total");
    await user.dblClick(screen.getByText("orchard"));
    expect(open.mock.calls[0]?.[1].map((row: Money) => row.id)).toEqual(["I-2", "I-9", "I-10"]);
    await user.click(screen.getByRole("button", { name: /Total/ }));
    expect(order()).toEqual(["I-9", "I-10", "I-2"]);
    // What has nothing to be ordered by has no button.
    expect(screen.queryByRole("button", { name: "Note" })).toBeNull();
  });

  it("comes in the order of its address, and as it comes where that names no column", () => {
    render(<MoneyList />, "/rows?sort=who");
    expect(order()).toEqual(["I-2", "I-10", "I-9"]);
    cleanup();
    render(<MoneyList />, "/rows?sort=-dropped");
    expect(order()).toEqual(["I-9", "I-10", "I-2"]);
  });

  it("selects by boxes, all at once too, and adds up what is selected by currency", async () => {
    const user = userEvent.setup();
    render(<MoneyList />);
    expect(foot()).toMatch(/^3 rows Columns35\.01GBP 100\.00$/);
    await user.click(screen.getByRole("checkbox", { name: "I-10" }));
    expect(foot()).toMatch(/^1 row selected Columns5\.00$/);
    const all = screen.getByRole<HTMLInputElement>("checkbox", { name: "All rows" });
    expect([all.checked, all.dataset.indeterminate]).toEqual([false, "true"]);
    await user.click(all);
    expect(foot()).toMatch(/^3 rows selected/);
    await user.click(all);
    expect(foot()).toMatch(/^3 rows /);
    // The box opens nothing and leaves the keys where they are.
    expect(screen.queryAllByRole("row", { selected: true })).toEqual([]);
  });

  it("does not add up a part of what there is", () => {
    render(<MoneyList count={206} />);
    expect(foot()).toBe("the first 3 of 206 Columns");
  });

  it("hides columns and keeps it so; the first one stays", async () => {
    const user = userEvent.setup();
    render(<MoneyList />);
    await user.click(screen.getByRole("button", { name: "Columns" }));
    const menu = screen.getByRole("menu");
    expect(within(menu).queryByText("Invoice")).toBeNull();
    await user.click(within(menu).getByText("Note"));
    await user.keyboard("{Escape}");
    cleanup();
    render(<MoneyList />);
    expect(screen.getAllByRole("columnheader").map((head) => head.textContent)).toEqual([
      "",
      "Invoice",
      "Customer",
      "Total",
    ]);
    await user.click(screen.getByRole("button", { name: "Columns" }));
    await user.click(within(screen.getByRole("menu")).getByText("Reset columns"));
    expect(screen.getByText("Note", { selector: "[role=columnheader]" })).toBeTruthy();
  });
});
