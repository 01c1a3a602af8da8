import { styled } from "@mui/material/styles";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useEffect, useId, useRef, useState } from "react";
import { plural } from "../format";
import { ColumnChoice, Foot, Head, PickBox } from "./around";
import { useTable } from "./table";

/** A column of a list. */
export interface Column<T> {
  key: string;
  head: ReactNode;
  /** A CSS grid track: `80px`, `minmax(0, 1fr)`. */
  width: string;
  right?: boolean;
  cell: (row: T) => ReactNode;
  /** What it is ordered by; a list can be ordered by the columns that have one. */
  sort?: (row: T) => string | number | null | undefined;
  /** What the foot of the list adds up, each currency by itself. */
  sum?: (row: T) => { minor: number; currency: string } | null | undefined;
}

interface Props<T> {
  /** What the list is, for screen readers. */
  label: string;
  rows: T[];
  idOf: (row: T) => string;
  columns: Column<T>[];
  /** A heading between rows, over all columns but the last `groupTail`. */
  isGroup?: (row: T) => boolean;
  groupCell?: (row: T) => ReactNode;
  groupTail?: number;
  picks?: ReadonlySet<string>;
  onPick?: (rows: T[], at: T) => void;
  /** Selects all rows, or none; where it is there each row has a box, and so has the head. */
  onAll?: (on: boolean) => void;
  /** What a row is, for its box. */
  nameOf?: (row: T) => string;
  onOpen?: (row: T, rows: T[]) => void;
  onCurrent?: (row: T | undefined) => void;
  /** What to say when there is nothing. */
  empty: ReactNode;
  /** Asks for more rows when the end comes near. */
  more?: () => void;
  /** How many rows there are in all, where they come in stretches. */
  count?: number;
  rowHeight?: number;
}

/** A track that takes what is left keeps enough to be read. */
function roomy(track: string): string {
  return track.replace(/^minmax\(0(px)?,/, "minmax(112px,");
}

/** Height of the headings; they stay in sight while the rows scroll below them. */
const HEAD = 33;

const Sheet = styled("div")({
  background: "var(--sheet)",
  border: "1px solid var(--line)",
  borderRadius: 8,
  overflow: "hidden",
  display: "flex",
  flexDirection: "column",
  minHeight: 0,
  marginBottom: 12,
  "& .head": {
    borderBottom: "1px solid var(--line-strong)",
    position: "sticky",
    top: 0,
    zIndex: 1,
    height: HEAD,
    background: "var(--sheet)",
  },
  "& .head > div": {
    position: "relative",
    fontSize: 12.5,
    fontWeight: 600,
    color: "var(--ink-3)",
    padding: "7px 8px",
  },
  "& .head button": {
    border: 0,
    background: "none",
    font: "inherit",
    color: "inherit",
    padding: 0,
    cursor: "pointer",
    minHeight: 20,
    textAlign: "inherit",
  },
  "& .head button:hover": { color: "var(--ink)", textDecoration: "underline", textUnderlineOffset: 3 },
  "& .head [aria-sort]": { color: "var(--ink)" },
  "& .head .edge": { position: "absolute", right: -3, top: 6, bottom: 6, width: 7, cursor: "col-resize", zIndex: 1 },
  "& .head .edge:hover": { borderRight: "2px solid var(--control)" },
  "& .foot": {
    position: "sticky",
    bottom: 0,
    zIndex: 1,
    background: "var(--sheet)",
    borderTop: "1px solid var(--line-strong)",
    fontWeight: 600,
    fontSize: 14,
  },
  "& .foot > .sums": {
    display: "flex",
    flexDirection: "column",
    alignItems: "flex-end",
    overflow: "visible",
    fontSize: 13.5,
  },
  "& .foot > div": { padding: "5px 8px", whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" },
  "& .scroll": { overflowY: "auto", minHeight: 0, outline: "none" },
  "& .row > div:first-of-type:not(:last-of-type)": { textOverflow: "clip" },
  "&:focus-within": { borderColor: "var(--line-strong)" },
  "& .grid": { display: "grid", alignItems: "center" },
  "& .row": { position: "absolute", left: 0, right: 0, borderBottom: "1px solid var(--line)", cursor: "default" },
  "& .row > div": {
    padding: "0 8px",
    whiteSpace: "nowrap",
    overflow: "hidden",
    textOverflow: "ellipsis",
    minWidth: 0,
  },
  "& .right": { textAlign: "right" },
  "& .row > .box, & .head > .box": { padding: "0 0 0 8px" },
  "& .head > .box": { alignSelf: "center" },
  "& .group": { background: "var(--roll)", fontWeight: 650 },
  "& .group .sub": { fontWeight: 400, color: "var(--ink-2)" },
  "& .picked": { background: "var(--here-wash)" },
  "& .scroll:focus .current, & .scroll:focus-visible .current": { boxShadow: "inset 3px 0 0 var(--here)" },
  "& .current": { boxShadow: "inset 3px 0 0 var(--line-strong)" },
  "& .empty": { padding: "22px 14px", color: "var(--ink-2)" },
});

/**
 * A list the keyboard can drive: arrows move, Space picks, Shift picks a range, Enter opens.
 * Only the rows in sight are drawn, however many there are.
 */
export function Rows<T>(props: Props<T>) {
  const { idOf, rowHeight = 36 } = props;
  const table = useTable(props.label, props.rows, props.columns, !!props.isGroup);
  const { rows, columns } = table;
  const scroll = useRef<HTMLDivElement>(null);
  const base = useId();
  const [currentId, setCurrentId] = useState<string>();
  const found = rows.findIndex((row) => idOf(row) === currentId);
  // Headings are passed over, unless they can be picked with all that stands below them.
  const skips = (at: number) => {
    const candidate = rows[at];
    return !props.picks && candidate !== undefined && (props.isGroup?.(candidate) ?? false);
  };
  const current = found >= 0 ? found : skips(0) ? 1 : 0;
  const anchor = useRef<number | undefined>(undefined);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 8,
    scrollMargin: HEAD,
    scrollPaddingStart: HEAD,
  });
  const { onCurrent, more } = props;
  const row = rows[current];
  const rowId = row === undefined ? undefined : idOf(row);
  useEffect(() => {
    onCurrent?.(row);
  }, [row, onCurrent]);
  const lastShown = virtual.getVirtualItems().at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && Math.max(current, lastShown) > rows.length - 30) {
      more();
    }
  }, [more, current, lastShown, rows.length]);
  // The list takes the focus when the screen opens, so that keys act at once.
  useEffect(() => {
    if (document.activeElement === document.body) {
      scroll.current?.focus();
    }
  }, []);
  const move = (to: number) => {
    let bounded = Math.max(0, Math.min(rows.length - 1, to));
    if (skips(bounded)) {
      bounded = to < current && bounded > 0 ? bounded - 1 : bounded + 1;
    }
    const target = rows[bounded];
    if (target !== undefined) {
      setCurrentId(idOf(target));
      virtual.scrollToIndex(bounded);
    }
    return bounded;
  };
  const press = (event: KeyboardEvent) => {
    const page = Math.max(1, Math.floor((scroll.current?.clientHeight ?? 300) / rowHeight) - 1);
    const steps: Record<string, number> = {
      ArrowDown: current + 1,
      ArrowUp: current - 1,
      PageDown: current + page,
      PageUp: current - page,
      Home: 0,
      End: rows.length - 1,
    };
    const target = steps[event.key];
    if (target !== undefined) {
      event.preventDefault();
      if (event.shiftKey && props.onPick) {
        anchor.current ??= current;
        const at = move(target);
        const [from, to] = [Math.min(anchor.current, at), Math.max(anchor.current, at)];
        const last = rows[at];
        if (last !== undefined) {
          props.onPick(rows.slice(from, to + 1), last);
        }
      } else {
        anchor.current = undefined;
        move(target);
      }
    } else if (event.key === " " && props.onPick && row !== undefined) {
      event.preventDefault();
      props.onPick([row], row);
    } else if (event.key === "Enter" && !event.ctrlKey && !event.metaKey && props.onOpen && row !== undefined) {
      event.preventDefault();
      props.onOpen(row, rows);
    }
  };
  const boxes = !!props.picks && !!props.onAll;
  const tracks = [...(boxes ? ["34px"] : []), ...columns.map(table.track)].map(roomy);
  const template = tracks.join(" ");
  // Where the window has no room for all of it the list scrolls sideways, and nothing lies over anything else.
  const least = tracks.reduce((sum, track) => sum + Number(/(\d+)px/.exec(track)?.[1] ?? 120), 0);
  const selectable = props.isGroup ? rows.filter((one) => !props.isGroup?.(one)) : rows;
  const selected = boxes ? selectable.filter((one) => props.picks?.has(idOf(one))).length : 0;
  const box = (one: T, on: boolean) => (
    <div role="gridcell" className="box">
      <PickBox
        on={on}
        label={props.nameOf?.(one) ?? `Row ${rows.indexOf(one) + 1}`}
        toggle={() => props.onPick?.([one], one)}
      />
    </div>
  );
  return (
    <Sheet>
      <div
        className="scroll"
        role="grid"
        ref={scroll}
        tabIndex={0}
        aria-label={props.label}
        aria-rowcount={rows.length + 1}
        aria-multiselectable={!!props.onPick}
        aria-activedescendant={rowId === undefined ? undefined : `${base}${rowId}`}
        onKeyDown={press}
      >
        <div
          className="grid head"
          role="row"
          aria-rowindex={1}
          style={{ gridTemplateColumns: template, minWidth: least }}
        >
          {boxes && (
            <div role="columnheader" className="box">
              <PickBox
                on={selected > 0 && selected === selectable.length}
                some={selected > 0 && selected < selectable.length}
                label="All rows"
                toggle={() => props.onAll?.(selected < selectable.length)}
              />
            </div>
          )}
          {columns.map((column, at) => (
            <Head
              key={column.key}
              column={column}
              order={table.orderOf(column)}
              turn={column.sort && !props.isGroup ? () => table.turn(column) : undefined}
              widen={at === columns.length - 1 ? undefined : (width) => table.widen(column, width)}
            />
          ))}
        </div>
        <div role="rowgroup">
          {rows.length === 0 ? (
            <div role="row" className="empty">
              <div role="gridcell">{props.empty}</div>
            </div>
          ) : (
            <div role="presentation" style={{ height: virtual.getTotalSize(), minWidth: least, position: "relative" }}>
              {virtual.getVirtualItems().map((item) => {
                const shown = rows[item.index];
                if (shown === undefined) {
                  return null;
                }
                const id = idOf(shown);
                const group = props.isGroup?.(shown) ?? false;
                const tail = props.groupTail ?? 0;
                const picked = props.picks?.has(id) ?? false;
                return (
                  // biome-ignore lint/a11y/useKeyWithClickEvents: the keys are those of the list.
                  <div
                    key={id}
                    id={`${base}${id}`}
                    role="row"
                    aria-rowindex={item.index + 2}
                    aria-selected={props.picks ? picked : undefined}
                    data-row={id}
                    className={`grid row ${group ? "group" : ""} ${picked ? "picked" : ""} ${item.index === current ? "current" : ""}`}
                    style={{
                      gridTemplateColumns: template,
                      height: item.size,
                      transform: `translateY(${item.start - HEAD}px)`,
                    }}
                    onClick={() => {
                      anchor.current = undefined;
                      setCurrentId(id);
                    }}
                    onDoubleClick={() => props.onOpen?.(shown, rows)}
                  >
                    {group && props.groupCell ? (
                      <>
                        {boxes && box(shown, picked)}
                        <div
                          role="gridcell"
                          style={{ gridColumn: `${boxes ? 2 : 1} / ${columns.length - tail + (boxes ? 2 : 1)}` }}
                        >
                          {props.groupCell(shown)}
                        </div>
                        {columns.slice(columns.length - tail).map((column) => (
                          <div key={column.key} role="gridcell" className={column.right ? "right" : ""}>
                            {column.cell(shown)}
                          </div>
                        ))}
                      </>
                    ) : (
                      <>
                        {boxes && box(shown, picked)}
                        {columns.map((column) => (
                          <div key={column.key} role="gridcell" className={column.right ? "right" : ""}>
                            {column.cell(shown)}
                          </div>
                        ))}
                      </>
                    )}
                  </div>
                );
              })}
            </div>
          )}
        </div>
        {boxes && rows.length > 0 && (
          <Foot
            columns={columns}
            rows={selected > 0 ? selectable.filter((one) => props.picks?.has(idOf(one))) : selectable}
            template={template}
            least={least}
            whole={selected > 0 || (props.count ?? selectable.length) <= selectable.length}
            choice={props.columns.length > 3 && <ColumnChoice all={props.columns} table={table} />}
            words={
              selected > 0
                ? `${plural(selected, "row", "rows")} selected`
                : (props.count ?? selectable.length) > selectable.length
                  ? `the first ${selectable.length} of ${props.count}`
                  : plural(selectable.length, "row", "rows")
            }
          />
        )}
      </div>
    </Sheet>
  );
}
