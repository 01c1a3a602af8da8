import Checkbox from "@mui/material/Checkbox";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { type PointerEvent, type ReactNode, useRef, useState } from "react";
import { money } from "../format";
import { useBase } from "./bits";
import type { Column } from "./Rows";
import type { useTable } from "./table";

/** A column's head: ordered by a click, widened at its edge. */
export function Head<T>({
  column,
  order,
  turn,
  widen,
}: {
  column: Column<T>;
  order: "ascending" | "descending" | undefined;
  turn: (() => void) | undefined;
  widen: ((width: number | undefined) => void) | undefined;
}) {
  const cell = useRef<HTMLDivElement>(null);
  const drag = (event: PointerEvent<HTMLSpanElement>) => {
    const { clientX } = event;
    const width = cell.current?.offsetWidth ?? 100;
    const handle = event.currentTarget;
    handle.setPointerCapture(event.pointerId);
    handle.onpointermove = (move) => widen?.(Math.max(40, Math.round(width + move.clientX - clientX)));
    handle.onpointerup = () => {
      handle.onpointermove = null;
    };
  };
  return (
    <div ref={cell} role="columnheader" aria-sort={order} className={column.right ? "right" : ""}>
      {turn ? (
        <button type="button" onClick={turn}>
          {column.head}
          {order && <span aria-hidden="true">{order === "ascending" ? " ↑" : " ↓"}</span>}
        </button>
      ) : (
        column.head
      )}
      {widen && (
        <span className="edge" aria-hidden="true" onPointerDown={drag} onDoubleClick={() => widen(undefined)} />
      )}
    </div>
  );
}

/** Which columns a list shows. */
export function ColumnChoice<T>({ all, table }: { all: Column<T>[]; table: ReturnType<typeof useTable<T>> }) {
  const [at, setAt] = useState<HTMLElement | null>(null);
  return (
    <>
      <button type="button" className="quietly" title="Columns" onClick={(event) => setAt(event.currentTarget)}>
        Columns
      </button>
      <Menu open={!!at} anchorEl={at} onClose={() => setAt(null)}>
        {all.slice(1).map(
          (column) =>
            column.head && (
              <MenuItem key={column.key} dense onClick={() => table.hide(column, !table.isHidden(column))}>
                <Checkbox checked={!table.isHidden(column)} tabIndex={-1} sx={{ marginRight: 1 }} />
                {column.head}
              </MenuItem>
            ),
        )}
        <MenuItem dense disabled={!table.touched} onClick={() => table.reset()}>
          Reset columns
        </MenuItem>
      </Menu>
    </>
  );
}

/** What is selected adds up to, or all that is shown; each currency by itself. */
export function Foot<T>({
  columns,
  rows,
  template,
  least,
  whole,
  choice,
  words,
}: {
  columns: Column<T>[];
  rows: T[];
  template: string;
  /** How narrow it may be, in pixels. */
  least: number;
  /** Whether the rows are all there are, or all that are selected: a part is not added up. */
  whole: boolean;
  choice: ReactNode;
  words: string;
}) {
  const base = useBase();
  const summed = columns.map((column) => {
    const sums = new Map<string, bigint>();
    for (const row of whole && column.sum ? rows : []) {
      const one = column.sum?.(row);
      if (one) {
        sums.set(one.currency, (sums.get(one.currency) ?? 0n) + BigInt(one.minor));
      }
    }
    // The currency of the books goes without saying, and first.
    const said = [...sums].filter(([, sum]) => sum !== 0n);
    return (said.length > 0 ? said : [...sums].slice(0, 1))
      .sort(([one], [other]) => Number(other === base) - Number(one === base))
      .map(([currency, sum]) => `${currency === base ? "" : `${currency} `}${money(Number(sum), currency)}`);
  });
  // What the foot says stands over all columns before the first sum.
  const first = summed.findIndex((sums) => sums.length > 0);
  const wide = first === -1 ? columns.length : first;
  return (
    <div className="grid foot" role="row" style={{ gridTemplateColumns: template, minWidth: least }}>
      <div style={{ gridColumn: `1 / ${wide + 2}` }} role="gridcell">
        <span role="status">{words}</span> {choice}
      </div>
      {columns.slice(wide).map((column, at) => {
        const sums = summed[wide + at] ?? [];
        return (
          <div key={column.key} className="sums" role="gridcell">
            {sums.map((one) => (
              <span key={one}>{one}</span>
            ))}
          </div>
        );
      })}
    </div>
  );
}

/** The box that shows and changes whether a row is selected; the keyboard uses Space on the row. */
export function PickBox({
  on,
  some,
  label,
  toggle,
}: {
  on: boolean;
  /** Where it stands for several rows of which only some are selected. */
  some?: boolean;
  label: string;
  toggle: () => void;
}) {
  return (
    <Checkbox
      checked={on}
      indeterminate={!!some}
      onChange={toggle}
      onClick={(event) => event.stopPropagation()}
      onDoubleClick={(event) => event.stopPropagation()}
      slotProps={{ input: { "aria-label": label, tabIndex: -1 } }}
    />
  );
}
