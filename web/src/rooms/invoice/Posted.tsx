import { useNavigate } from "react-router";
import type { InvoiceView } from "../../api/types";
import { date, money, moneyWithCurrency, number } from "../../format";
import { Lines } from "../../parts/bits";
import { InvoicePaper } from "../../parts/InvoicePaper";
import { Worktop } from "../../shell/Worktop";
import { Head, InvoiceTape, LineCells, LineHead } from "./lines";

/** A posted invoice, as it is and stays. */
export function Posted({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const document = invoice.document;
  if (!document) {
    return null;
  }
  const open = invoice.open ?? 0;
  return (
    <Worktop
      title={invoice.number}
      sum={
        open === 0
          ? `${invoice.customer.name} · settled`
          : `${invoice.customer.name} · ${moneyWithCurrency(open, document.currency)} open, due ${date(document.due_date)}`
      }
      back="/billing/invoices"
      actions={[
        {
          key: "n",
          label: `Receive payment · ${moneyWithCurrency(open, document.currency)}`,
          run: () => navigate(`/receipts/new?customer=${invoice.customer.id}&invoice=${invoice.id}`),
          primary: true,
          disabled: open === 0,
          needs: "post_money",
        },
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${invoice.customer.id}`) },
        { key: "w", label: "Print", run: () => window.print() },
      ]}
      tape={<InvoiceTape invoice={invoice} />}
    >
      <InvoicePaper invoice={invoice} />
      <Head invoice={invoice} />
      <Lines label="Lines of the invoice">
        <LineHead />
        <tbody>
          {document.lines.map((line) => (
            <tr key={line.shipment_line}>
              <LineCells line={line} currency={document.currency} quantity={`${number(line.quantity)} ${line.unit}`} />
            </tr>
          ))}
        </tbody>
        <tfoot>
          {(
            [
              ["Net", document.net],
              ["Tax", document.tax],
              [`Total ${document.currency}`, document.total],
            ] as const
          ).map(([label, amount]) => (
            <tr key={label}>
              <td colSpan={7} className="right">
                {label}
              </td>
              <td className="right">{money(amount, document.currency)}</td>
            </tr>
          ))}
        </tfoot>
      </Lines>
    </Worktop>
  );
}
