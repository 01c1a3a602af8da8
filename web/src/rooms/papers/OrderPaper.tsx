import type { OrderView, QuoteView } from "../../api/types";
import { date, money, number, percent, price } from "../../format";
import { asksFor } from "../../page/Quote";
import { PaperSheet } from "./Sheet";

/** The order confirmation; of a draft, what is about to be confirmed. */
export function OrderPaper({ order }: { order: OrderView }) {
  const same = order.goes_to.name === order.bill_to.name && order.goes_to.address === order.bill_to.address;
  return (
    <PaperSheet
      title={`${order.state === "draft" ? "Order" : "Order confirmation"} ${order.number}`}
      addresses={
        same
          ? [["To", order.bill_to]]
          : [
              ["Bill to", order.bill_to],
              ["Goods to", order.goes_to],
            ]
      }
      facts={[
        ["Date", date(order.order_date)],
        ["Your order", order.customer_order_number],
        ["Promised", order.promised_date && date(order.promised_date)],
        ["Delivery", [order.form.delivery_terms, order.form.delivery_place].filter(Boolean).join(" ")],
        ["Carrier", order.form.carrier],
        ["For", order.contact_name],
        ["Terms", order.terms_words],
        ["Blanket order", order.from.find((one) => one.kind === "call_off")?.number],
      ]}
    >
      <table>
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Quantity</th>
            <th className="right">Price</th>
            <th className="right">Off</th>
            <th className="right">Net {order.currency}</th>
          </tr>
        </thead>
        <tbody>
          {order.lines
            .filter((line) => line.ordered !== line.cancelled)
            .map((line) => (
              <tr key={line.id}>
                <td>
                  {line.code} {line.description}
                  {line.back_ordered !== "0" && (
                    <div className="dim">
                      {number(line.back_ordered)} to follow
                      {line.expected_on && `, expected ${date(line.expected_on)}`}
                    </div>
                  )}
                </td>
                <td className="right">
                  {number(line.ordered)} {line.unit}
                </td>
                <td className="right">{price(line.unit_price)}</td>
                <td className="right">{line.discount === "0" ? "" : percent(line.discount)}</td>
                <td className="right">{money(line.value, order.currency)}</td>
              </tr>
            ))}
        </tbody>
        <Totals net={order.net} total={order.total} currency={order.currency} />
      </table>
      {order.form.note && <p className="note">{order.form.note}</p>}
    </PaperSheet>
  );
}

/** The quote, as it was written. */
export function QuotePaper({ quote }: { quote: QuoteView }) {
  return (
    <PaperSheet
      title={`Quote ${quote.number}`}
      addresses={[["For", { name: quote.name, address: "", country: "" }]]}
      facts={[
        ["Date", date(quote.quote_date)],
        ["Valid until", date(quote.valid_until)],
      ]}
    >
      <table>
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Quantity</th>
            <th className="right">Price</th>
            <th className="right">Off</th>
            <th className="right">Net {quote.currency}</th>
          </tr>
        </thead>
        <tbody>
          {quote.lines.map((line, at) => (
            <tr key={at}>
              <td>
                {line.code} {line.description}
              </td>
              <td className="right">
                {number(line.quantity)} {line.unit}
              </td>
              <td className="right">{line.price && price(line.price.unit_price)}</td>
              <td className="right">{line.price && line.price.discount !== "0" ? percent(line.price.discount) : ""}</td>
              <td className="right">{money(line.net, quote.currency)}</td>
            </tr>
          ))}
        </tbody>
        <Totals net={quote.net} total={quote.total} currency={quote.currency} />
      </table>
      {quote.asked.amount > 0 && (
        <p className="note">
          We ask for {asksFor(quote.asked.what, `${money(quote.asked.amount, quote.currency)} ${quote.currency}`)}{" "}
          before the order is confirmed.
        </p>
      )}
      {quote.form.note && <p className="note">{quote.form.note}</p>}
    </PaperSheet>
  );
}

function Totals({ net, total, currency }: { net: number; total: number; currency: string }) {
  return (
    <tfoot>
      <tr>
        <td colSpan={4} className="right">
          Net
        </td>
        <td className="right">{money(net, currency)}</td>
      </tr>
      <tr>
        <td colSpan={4} className="right">
          Tax
        </td>
        <td className="right">{money(total - net, currency)}</td>
      </tr>
      <tr className="due">
        <td colSpan={4} className="right">
          Total {currency}
        </td>
        <td className="right">{money(total, currency)}</td>
      </tr>
    </tfoot>
  );
}
