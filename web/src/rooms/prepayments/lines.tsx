import type { InvoiceLine } from "../../api/types";
import { money, percent } from "../../format";
import { Marked } from "../../parts/bits";

/** The headings of the lines of a prepayment invoice. */
export function AdvanceHead({ gross }: { gross: boolean }) {
  return (
    <thead>
      <tr>
        <th>Item</th>
        <th className="right">Of</th>
        <th className="right">Share</th>
        <th className="right">Asked before</th>
        <th className="right">Used before</th>
        <th>Tax</th>
        <th className="right">{gross ? "In advance, with tax" : "In advance, net"}</th>
      </tr>
    </thead>
  );
}

/** A line of a prepayment invoice: what it asks for in advance of its order line. */
export function AdvanceCells({ line, currency }: { line: InvoiceLine; currency: string }) {
  if (line.from !== "prepaid") {
    return null;
  }
  const { asks } = line;
  return (
    <tr>
      <td>
        <b>{line.code}</b> {line.description}
        <div>
          <Marked className="dim">{line.order_number}, in advance</Marked>
        </div>
      </td>
      <td className="right">{money(asks.of, currency)}</td>
      <td className="right dim">{asks.percent ? percent(asks.percent) : ""}</td>
      <td className="right dim">{asks.before > 0 && money(asks.before, currency)}</td>
      <td className="right dim">{asks.used > 0 && money(asks.used, currency)}</td>
      <td>{line.tax.code}</td>
      <td className="right">{money(line.amount, currency)}</td>
    </tr>
  );
}
