// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
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
afterEach(cleanup);

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
    expect(open).toHaveBeenCalledExactlyOnceWith({ id: "R-1" });
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
