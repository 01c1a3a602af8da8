import { styled } from "@mui/material/styles";
import { type KeyboardEvent, useEffect, useRef } from "react";
import type { Blocker, ItemRow, LineForm, OrderPreview } from "../../api/types";
import { money, number, price } from "../../format";
import { Marked } from "../../parts/bits";
import { emptyLine, typedField } from "./form";
import { ItemInput } from "./ItemInput";

const Grid = styled("div")({
  background: "var(--sheet)",
  border: "1px solid var(--line)",
  borderRadius: 8,
  marginBottom: 10,
  "& .row": {
    display: "grid",
    gridTemplateColumns: "22px 96px minmax(0, 1fr) 74px 62px 84px 58px 92px 26px",
    alignItems: "center",
    borderBottom: "1px solid var(--line)",
    minHeight: 36,
    paddingLeft: 6,
  },
  "& .row > *": { padding: "0 5px" },
  "& .row.head": {
    minHeight: 30,
    fontSize: 12.5,
    fontWeight: 600,
    color: "var(--ink-3)",
    borderBottomColor: "var(--line-strong)",
  },
  "& .row.on": { boxShadow: "inset 3px 0 0 var(--here)" },
  "& .row:last-of-type": { borderBottom: 0 },
  "& .right": { textAlign: "right" },
  "& .what": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", color: "var(--ink-2)" },
  "& input, & select": {
    font: "inherit",
    width: "100%",
    border: "1px solid transparent",
    borderRadius: 5,
    background: "none",
    color: "inherit",
    padding: "3px 5px",
    fontVariantNumeric: "tabular-nums",
  },
  "& .row:hover input, & .row:hover select, & .row.on input, & .row.on select": { borderColor: "var(--line-strong)" },
  "& input[aria-invalid=true]": { borderColor: "var(--stop)" },
  "& .no": { color: "var(--ink-3)", fontSize: 13, textAlign: "right", padding: 0 },
  "& .say": { padding: "0 8px 5px 30px", fontSize: 13.5, borderBottom: "1px solid var(--line)" },
  "& button.off": {
    border: 0,
    background: "none",
    color: "var(--ink-3)",
    cursor: "pointer",
    font: "inherit",
    padding: 2,
  },
});

interface Props {
  lines: LineForm[];
  setLines: (lines: LineForm[]) => void;
  preview: OrderPreview | undefined;
  places: number[];
  /** What the server could not read, by field. */
  wrong: { field: string; sentence: string } | undefined;
  active: number;
  setActive: (at: number) => void;
  /** Told which line has an item half typed. */
  typing: (at: number | undefined) => void;
  unitsOf: (code: string) => string[];
  remember: (item: ItemRow) => void;
  currency: string;
  /** Where the cursor goes when the lines are done. */
  leave: () => void;
  startAt?: boolean;
}

const id = (at: number, part: string) => `line-${at}-${part}`;

/** Puts the cursor into a cell. */
export function focusCell(at: number, part: string): void {
  setTimeout(() => {
    const cell = document.getElementById(id(at, part));
    cell?.focus();
    if (cell instanceof HTMLInputElement) {
      cell.select();
    }
  }, 0);
}

/** Lines typed one below the other: item, Enter, quantity, Enter, next item. */
export function LineGrid(props: Props) {
  const { lines, setLines, preview, places, wrong, active, setActive, typing, unitsOf, remember, currency } = props;
  const wanted = useRef<number | undefined>(undefined);
  useEffect(() => {
    if (wanted.current !== undefined && lines.length > wanted.current) {
      focusCell(wanted.current, "item");
      wanted.current = undefined;
    }
  }, [lines.length]);
  const change = (at: number, part: Partial<LineForm>) =>
    setLines(lines.map((line, place) => (place === at ? { ...line, ...part } : line)));
  const next = (at: number) => {
    if (at === lines.length - 1) {
      if ((lines[at]?.item ?? "") === "") {
        props.leave();
        return;
      }
      wanted.current = at + 1;
      setLines([...lines, emptyLine()]);
      setActive(at + 1);
    } else {
      focusCell(at + 1, "item");
    }
  };
  const drop = (at: number) => {
    const left = lines.filter((_, place) => place !== at);
    setLines(left.length > 0 ? left : [emptyLine()]);
    const to = Math.max(0, Math.min(at, left.length - 1));
    setActive(to);
    focusCell(to, "item");
  };
  const move = (event: KeyboardEvent<HTMLElement>, at: number, part: string) => {
    if (event.key === "ArrowDown" && at < lines.length - 1) {
      event.preventDefault();
      focusCell(at + 1, part);
    } else if (event.key === "ArrowUp" && at > 0) {
      event.preventDefault();
      focusCell(at - 1, part);
    } else if (event.key === "Enter" && !event.ctrlKey) {
      event.preventDefault();
      next(at);
    } else if (event.key === "Delete" && event.ctrlKey) {
      event.preventDefault();
      drop(at);
    }
  };
  const found = (at: number): Blocker[] =>
    (preview?.blockers ?? []).filter((blocker) => typedField(blocker.field, places).startsWith(`lines.${at}.`));
  return (
    <Grid role="group" aria-label="Lines">
      <div className="row head">
        <span />
        <span>Item</span>
        <span />
        <span className="right">Quantity</span>
        <span>Unit</span>
        <span className="right">Price</span>
        <span className="right">Off %</span>
        <span className="right">Net {currency}</span>
        <span />
      </div>
      {lines.map((line, at) => {
        const sent = places.indexOf(at);
        const priced = sent >= 0 ? preview?.lines[sent] : undefined;
        const build = priced?.price;
        const blockers = found(at);
        const bad = (part: string) =>
          (wrong && typedField(wrong.field, places) === `lines.${at}.${part}`) ||
          blockers.some((one) => one.effect === "stops" && one.field.endsWith(`.${part}`));
        const sentences = [
          ...(wrong && typedField(wrong.field, places).startsWith(`lines.${at}.`)
            ? [{ effect: "stops" as const, sentence: wrong.sentence }]
            : []),
          ...blockers.filter(
            (one) => one.effect === "stops" || one.check === "stock_short" || one.check === "price_zero",
          ),
        ];
        return (
          <div key={at}>
            <div className={`row ${at === active ? "on" : ""}`} data-line={at}>
              <span className="no">{at + 1}</span>
              <ItemInput
                id={id(at, "item")}
                label={`Item of line ${at + 1}`}
                value={line.item}
                wrong={bad("item")}
                onFocus={() => setActive(at)}
                onType={(item) => {
                  change(at, { item });
                  typing(at);
                }}
                onChoose={(item) => {
                  remember(item);
                  change(at, { item: item.code, unit: item.unit });
                  typing(undefined);
                  focusCell(at, "quantity");
                }}
                onEnter={() => (line.item ? focusCell(at, "quantity") : next(at))}
                onKey={(event) => move(event, at, "item")}
              />
              <span className="what" title={priced?.description}>
                {priced?.description ?? ""}
                {priced && priced.short !== "0" && <Marked className="heed"> · ▲ {number(priced.short)} short</Marked>}
              </span>
              <span>
                <input
                  id={id(at, "quantity")}
                  aria-label={`Quantity of line ${at + 1}`}
                  aria-invalid={bad("quantity")}
                  inputMode="decimal"
                  className="right"
                  value={line.quantity}
                  placeholder={line.item ? "1" : ""}
                  onFocus={() => setActive(at)}
                  onChange={(event) => change(at, { quantity: event.target.value })}
                  onKeyDown={(event) => move(event, at, "quantity")}
                />
              </span>
              <span>
                {line.item && (
                  <select
                    id={id(at, "unit")}
                    aria-label={`Unit of line ${at + 1}`}
                    value={line.unit ?? ""}
                    onFocus={() => setActive(at)}
                    onChange={(event) => change(at, { unit: event.target.value })}
                  >
                    {[...new Set([line.unit ?? "", ...unitsOf(line.item)])].filter(Boolean).map((unit) => (
                      <option key={unit}>{unit}</option>
                    ))}
                  </select>
                )}
              </span>
              <span>
                <input
                  id={id(at, "price")}
                  aria-label={`Price of line ${at + 1}`}
                  aria-invalid={bad("unit_price")}
                  inputMode="decimal"
                  className="right"
                  value={line.unit_price ?? ""}
                  placeholder={build ? price(build.unit_price) : ""}
                  onFocus={() => setActive(at)}
                  onChange={(event) => change(at, { unit_price: event.target.value })}
                  onKeyDown={(event) => move(event, at, "price")}
                />
              </span>
              <span>
                <input
                  id={id(at, "discount")}
                  aria-label={`Discount of line ${at + 1} in percent`}
                  aria-invalid={bad("discount")}
                  inputMode="decimal"
                  className="right"
                  value={line.discount ?? ""}
                  placeholder={build && build.discount !== "0" ? percentOf(build.discount) : ""}
                  onFocus={() => setActive(at)}
                  onChange={(event) => change(at, { discount: event.target.value })}
                  onKeyDown={(event) => move(event, at, "discount")}
                />
              </span>
              <span className="right">{build && priced ? money(priced.net, currency) : ""}</span>
              <span>
                {(lines.length > 1 || line.item) && (
                  <button
                    type="button"
                    className="off"
                    tabIndex={-1}
                    title="Take the line off (Ctrl Del)"
                    aria-label={`Take line ${at + 1} off`}
                    onClick={() => drop(at)}
                  >
                    ×
                  </button>
                )}
              </span>
            </div>
            {sentences.length > 0 && (
              <div className="say" role="alert">
                {sentences.slice(0, 2).map((one) => (
                  <div key={one.sentence}>
                    <Marked className={one.effect === "stops" ? "stop" : "heed"}>
                      {one.effect === "stops" ? "◆" : "▲"} {one.sentence}
                    </Marked>
                  </div>
                ))}
              </div>
            )}
          </div>
        );
      })}
      {preview?.lines.slice(places.length).map((line) => (
        <div className="row" key={line.code}>
          <span />
          <span>
            <b>{line.code}</b>
          </span>
          <span className="what">{line.description}, goes along by itself and is owed back</span>
          <span className="right">{number(line.quantity)}</span>
          <span>{line.unit}</span>
          <span className="right">{line.price ? price(line.price.unit_price) : ""}</span>
          <span />
          <span className="right">{money(line.net, currency)}</span>
          <span />
        </div>
      ))}
    </Grid>
  );
}

/** A rate such as 0.055 as 5.5. */
function percentOf(rate: string): string {
  const [whole = "0", fraction = ""] = rate.split(".");
  const digits = fraction.padEnd(6, "0");
  return `${whole}${digits.slice(0, 2)}.${digits.slice(2)}`.replace(/^0+(?=\d)/, "").replace(/\.?0+$/, "");
}
