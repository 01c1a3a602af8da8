import {
  type ColumnDef,
  getCoreRowModel,
  getSortedRowModel,
  type SortingFn,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { useCallback, useMemo, useRef, useState } from "react";
import { useFilter } from "./bits";
import type { Column } from "./Rows";

/** O-9 before O-10, and no matter of capitals. */
const natural = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

/** What is empty stands last, whichever way. */
const byValue: SortingFn<unknown> = (one, other, id) => {
  const [a, b] = [one.getValue(id), other.getValue(id)];
  return typeof a === "number" && typeof b === "number" ? a - b : natural.compare(String(a), String(b));
};

/** How someone has set a list: which columns are hidden, and how wide the others are. */
interface Set {
  hidden: string[];
  /** In pixels, by column; none for as it comes. */
  widths: Record<string, number>;
}

function read(place: string): Set {
  try {
    const kept = JSON.parse(localStorage.getItem(place) ?? "") as Partial<Set>;
    return { hidden: kept.hidden ?? [], widths: kept.widths ?? {} };
  } catch {
    return { hidden: [], widths: {} };
  }
}

/** The rows of a list in the order asked for, and its columns as they were set. The order lives in the address. */
export function useTable<T>(label: string, rows: T[], columns: Column<T>[], grouped: boolean) {
  const [order, setOrder] = useFilter("sort");
  const place = `till.list.${label}`;
  const [set, setSet] = useState(() => read(place));
  const change = useCallback(
    (next: (now: Set) => Set) =>
      setSet((now) => {
        const then = next(now);
        localStorage.setItem(place, JSON.stringify(then));
        return then;
      }),
    [place],
  );
  const key = order.replace(/^-/, "");
  // A column that is not there, as in an address of before, orders nothing.
  const known = !grouped && columns.some((column) => column.key === key && column.sort);
  const sorting: SortingState = useMemo(
    () => (known ? [{ id: key, desc: order.startsWith("-") }] : []),
    [known, key, order],
  );
  // What a row is ordered by is that of its column, however often the columns are made anew: the rows are not ordered again.
  const present = useRef(columns);
  present.current = columns;
  const definitions = useMemo(
    (): ColumnDef<T>[] => [
      {
        id: key,
        accessorFn: (row) => present.current.find((column) => column.key === key)?.sort?.(row) ?? undefined,
        sortingFn: byValue as SortingFn<T>,
        sortUndefined: "last",
      },
    ],
    [key],
  );
  const table = useReactTable({
    data: rows,
    columns: definitions,
    state: { sorting },
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const sorted = sorting.length > 0 ? table.getSortedRowModel().rows.map((row) => row.original) : rows;
  const shown = columns.filter((column, at) => at === 0 || !set.hidden.includes(column.key));
  return {
    rows: sorted,
    columns: shown,
    /** A CSS grid track of a column. */
    track: (column: Column<T>) => (set.widths[column.key] ? `${set.widths[column.key]}px` : column.width),
    /** The order of a column, as a screen reader is told it. */
    orderOf: (column: Column<T>) =>
      sorting[0]?.id !== column.key ? undefined : sorting[0].desc ? ("descending" as const) : ("ascending" as const),
    /** Upwards, downwards, as it comes. */
    turn: (column: Column<T>) =>
      setOrder(key !== column.key ? column.key : order.startsWith("-") ? "" : `-${column.key}`),
    isHidden: (column: Column<T>) => set.hidden.includes(column.key),
    hide: (column: Column<T>, hidden: boolean) =>
      change((now) => ({
        ...now,
        hidden: hidden ? [...now.hidden, column.key] : now.hidden.filter((one) => one !== column.key),
      })),
    widen: (column: Column<T>, width: number | undefined) =>
      change((now) => {
        const { [column.key]: _, ...others } = now.widths;
        return { ...now, widths: width === undefined ? others : { ...others, [column.key]: width } };
      }),
    /** Whether anything is other than it comes. */
    touched: set.hidden.length > 0 || Object.keys(set.widths).length > 0,
    reset: () => change(() => ({ hidden: [], widths: {} })),
  };
}
