import Autocomplete from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useState } from "react";
import { api, got } from "../../api/client";
import type { AddedLine, ItemRow } from "../../api/types";
import { money, number, price, typedDecimal } from "../../format";
import { Lines, useSettled } from "../../parts/bits";

/** A line that goes the other way, as typed. */
export interface OtherLine {
  item: string;
  quantity: string;
  price: string;
}

export const nothingYet: OtherLine = { item: "", quantity: "", price: "" };

/** The lines that say something, as the server takes them. */
export function addedLines(typed: OtherLine[]): AddedLine[] {
  return typed
    .filter((line) => line.item.trim() !== "")
    .map((line) => ({
      item: line.item.trim(),
      quantity: typedDecimal(line.quantity) || "1",
      ...(line.price.trim() && { unit_price: typedDecimal(line.price) }),
    }));
}

/** What goes the other way on a credit: goods in exchange, a restocking fee, freight. The last line is always free. */
export function OtherWay({
  typed,
  type,
  amounts,
  errors,
  currency,
  goods,
}: {
  typed: OtherLine[];
  type: (lines: OtherLine[]) => void;
  /** What each comes to, in the order of those that say something. */
  amounts: number[];
  /** What is wrong, by field: “added.0.quantity”. */
  errors: Record<string, string>;
  currency: string;
  /** Whether goods may go out. */
  goods: boolean;
}) {
  const rows = [...typed.filter((line) => line.item !== "" || line.quantity !== "" || line.price !== ""), nothingYet];
  const change = (at: number, what: Partial<OtherLine>) =>
    type(rows.map((line, place) => (place === at ? { ...line, ...what } : line)));
  const said = rows.map((line) => line.item.trim() !== "");
  return (
    <Lines label="What goes the other way">
      <thead>
        <tr>
          <th style={{ width: "46%" }}>{goods ? "Goes out, or is charged" : "Is charged"}</th>
          <th className="right">Quantity</th>
          <th className="right">Price for one</th>
          <th className="right">Amount {currency}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((line, at) => {
          const place = said.slice(0, at).filter(Boolean).length;
          const wrong = said[at]
            ? Object.entries(errors).find(([field]) => field.startsWith(`added.${place}.`))?.[1]
            : undefined;
          const cell = (what: "quantity" | "price", label: string, hint: string) => (
            <TextField
              value={line[what]}
              onChange={(event) => change(at, { [what]: event.target.value })}
              placeholder={said[at] ? hint : ""}
              sx={{ width: what === "quantity" ? 84 : 112 }}
              slotProps={{
                htmlInput: { "aria-label": label, inputMode: "decimal", style: { textAlign: "right" } },
              }}
            />
          );
          return (
            <tr key={at}>
              <td>
                <ItemChoice value={line.item} goods={goods} choose={(item) => change(at, { item })} wrong={!!wrong} />
                {wrong && (
                  <div className="wrong" role="alert">
                    {wrong}
                  </div>
                )}
              </td>
              <td className="right">{cell("quantity", `Quantity of line ${at + 1} that goes the other way`, "1")}</td>
              <td className="right">{cell("price", `Price of line ${at + 1} that goes the other way`, "list")}</td>
              <td className="right">{said[at] && !wrong ? money(amounts[place] ?? 0, currency) : ""}</td>
            </tr>
          );
        })}
      </tbody>
    </Lines>
  );
}

/** An item by code or words. */
export function ItemChoice({
  value,
  choose,
  goods,
  wrong,
  label = goods ? "Item that goes out, or charge" : "Charge",
  onlyGoods,
  caption,
}: {
  value: string;
  choose: (code: string) => void;
  goods: boolean;
  wrong: boolean;
  label?: string;
  /** Whether charges and work are left out. */
  onlyGoods?: boolean;
  /** A label and a hint in sight, where it stands in a form. */
  caption?: [string, string];
}) {
  const [words, setWords] = useState(value);
  const wanted = useSettled(words.trim());
  const found = useQuery({
    queryKey: ["item-search", wanted],
    queryFn: () => got(api.GET("/api/items", { params: { query: { q: wanted, sold: true, limit: 8 } } })),
    placeholderData: keepPreviousData,
  });
  const fits = (item: ItemRow) => (onlyGoods ? item.kind === "goods" : goods || item.kind !== "goods");
  return (
    <Autocomplete<ItemRow, false, false, true>
      freeSolo
      options={(found.data?.items ?? []).filter(fits)}
      filterOptions={(options) => options}
      inputValue={words}
      getOptionLabel={(option) => (typeof option === "string" ? option : option.code)}
      onInputChange={(_, text) => {
        setWords(text);
        choose(text);
      }}
      autoHighlight
      onKeyDown={(event: KeyboardEvent & { defaultMuiPrevented?: boolean }) => {
        // Ctrl Enter is the main action of the room, whatever list is open.
        event.defaultMuiPrevented = event.ctrlKey;
      }}
      renderOption={({ key, ...props }, option) => (
        <li key={key} {...props} style={{ display: "flex", gap: 10 }}>
          <b>{option.code}</b>
          <span style={{ flex: 1 }}>{option.name}</span>
          <span className="dim">
            {option.kind === "goods" ? `${number(option.available)} ${option.unit} free` : price(option.list_price)}
          </span>
        </li>
      )}
      renderInput={(input) => (
        <TextField
          {...input}
          error={wrong}
          label={caption?.[0]}
          helperText={caption?.[1]}
          placeholder={
            caption
              ? ""
              : onlyGoods
                ? "its code or words"
                : goods
                  ? "an item, or a charge"
                  : "a charge, such as freight"
          }
          slotProps={{ ...input.slotProps, htmlInput: { ...input.slotProps.htmlInput, "aria-label": label } }}
        />
      )}
    />
  );
}
