import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got } from "../../api/client";
import type { ToBill, UnbilledShipment } from "../../api/types";
import { money, number, plural, typedDecimal } from "../../format";
import { Lines, Marked } from "../../parts/bits";
import type { Source } from "./source";

type Picks = ToBill["picks"];
type OrderPicks = ToBill["order_picks"];

/**
 * What of the customer is unbilled and not on the draft: a line, part of a line, a shipment or
 * everything is added.
 */
export function MoreOfCustomer({
  customer,
  taken,
  add,
  typing,
}: {
  customer: number;
  taken: Source[];
  add: (picks: Picks, orderPicks: OrderPicks) => void;
  /** Something is typed here: what was refused before is history. */
  typing: () => void;
}) {
  const [typed, setTyped] = useState<Record<string, string>>({});
  const others = useQuery({
    queryKey: ["unbilled", "of", customer],
    queryFn: () => got(api.GET("/api/unbilled", { params: { query: { customer } } })),
  });
  const keys = new Set(taken.map((source) => source.key));
  const keyOf = (line: UnbilledShipment["lines"][number]) =>
    line.shipment_line ? `s${line.shipment_line}` : `o${line.order_line}`;
  const shipments = (others.data?.customers ?? [])
    .flatMap((owner) => owner.shipments)
    .map((shipment) => ({ ...shipment, lines: shipment.lines.filter((line) => !keys.has(keyOf(line))) }))
    .filter((shipment) => shipment.lines.length > 0);
  if (shipments.length === 0) {
    return null;
  }
  const part = (line: UnbilledShipment["lines"][number]) => {
    const quantity = typedDecimal(typed[keyOf(line)] ?? "");
    return quantity ? { quantity } : {};
  };
  const addLines = (lines: UnbilledShipment["lines"]) => {
    add(
      lines.flatMap((line) => (line.shipment_line ? [{ shipment_line: line.shipment_line, ...part(line) }] : [])),
      lines.flatMap((line) => (line.shipment_line ? [] : [{ order_line: line.order_line, ...part(line) }])),
    );
    setTyped({});
  };
  const count = shipments.reduce((sum, shipment) => sum + shipment.lines.length, 0);
  return (
    <Lines label="More of this customer, unbilled">
      <thead>
        <tr>
          <th>More of this customer, unbilled</th>
          <th className="right">Unbilled</th>
          <th className="right">This time</th>
          <th className="right">Net</th>
          <th className="right">
            {count > 1 && (
              <button
                type="button"
                className="quietly"
                onClick={() => addLines(shipments.flatMap((shipment) => shipment.lines))}
              >
                Add everything
              </button>
            )}
          </th>
        </tr>
      </thead>
      <tbody>
        {shipments.map((shipment) =>
          shipment.lines.map((line, at) => (
            <tr key={keyOf(line)}>
              <td>
                <b>{line.code}</b> {line.description}{" "}
                <Marked className="dim">
                  {shipment.shipment
                    ? `${shipment.number} · ${shipment.order_number}`
                    : `${shipment.order_number}, not shipped`}
                </Marked>
              </td>
              <td className="right">{number(line.quantity)}</td>
              <td className="right">
                <TextField
                  value={typed[keyOf(line)] ?? number(line.quantity)}
                  onChange={(event) => {
                    typing();
                    setTyped((before) => ({ ...before, [keyOf(line)]: event.target.value }));
                  }}
                  onFocus={(event) => (event.target as HTMLInputElement).select()}
                  onKeyDown={(event) => {
                    if (event.key === "Enter" && !event.ctrlKey) {
                      event.preventDefault();
                      addLines([line]);
                    }
                    if (event.key === "Escape") {
                      event.preventDefault();
                      setTyped({});
                      (event.target as HTMLElement).blur();
                    }
                  }}
                  sx={{ width: 76 }}
                  slotProps={{
                    htmlInput: {
                      "aria-label": `Quantity of ${line.code} to add, ${line.quantity} unbilled`,
                      inputMode: "decimal",
                      style: { textAlign: "right" },
                    },
                  }}
                />
              </td>
              <td className="right">{money(line.net, shipment.currency)}</td>
              <td className="right">
                {at === 0 && shipment.lines.length > 1 && (
                  <>
                    <button type="button" className="quietly" onClick={() => addLines(shipment.lines)}>
                      Add {plural(shipment.lines.length, "line", "lines")} of {shipment.number}
                    </button>{" "}
                    ·{" "}
                  </>
                )}
                <button type="button" className="quietly" onClick={() => addLines([line])}>
                  Add to the draft
                </button>
              </td>
            </tr>
          )),
        )}
      </tbody>
    </Lines>
  );
}
