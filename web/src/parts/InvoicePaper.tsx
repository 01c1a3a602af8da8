import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { createPortal } from "react-dom";
import { api, got } from "../api/client";
import type { InvoiceView } from "../api/types";
import { date, money, number, percent, price } from "../format";
import { type Source, sourcesOf } from "../rooms/invoice/source";

const Sheet = styled("article")({
  color: "#242a1e",
  fontSize: "10.5pt",
  lineHeight: 1.35,
  "& header": { display: "flex", justifyContent: "space-between", alignItems: "flex-start", marginBottom: "14mm" },
  "& .company": { fontWeight: 700, fontSize: "13pt" },
  "& h1": { fontSize: "20pt", margin: "0 0 3mm", letterSpacing: "-.01em" },
  "& .to": { whiteSpace: "pre-line" },
  "& dl": { display: "grid", gridTemplateColumns: "auto auto", gap: "1mm 6mm", margin: 0 },
  "& dt": { color: "#555a4a" },
  "& dd": { margin: 0, textAlign: "right" },
  "& table": { width: "100%", borderCollapse: "collapse", fontVariantNumeric: "tabular-nums" },
  "& thead": { display: "table-header-group" },
  "& th": {
    textAlign: "left",
    fontWeight: 600,
    color: "#555a4a",
    borderBottom: "1pt solid #242a1e",
    padding: "1.5mm 2mm",
  },
  "& td": { padding: "1.6mm 2mm", borderBottom: ".5pt solid #c8ba9c", verticalAlign: "top" },
  "& tr": { breakInside: "avoid" },
  "& .right": { textAlign: "right", whiteSpace: "nowrap" },
  "& .from td": { fontWeight: 600, background: "#fbf5e6", borderBottom: 0 },
  "& .dim": { color: "#555a4a", fontSize: "9pt" },
  "& tfoot td": { borderBottom: 0, padding: "1mm 2mm" },
  "& tfoot .due td": { fontSize: "13pt", fontWeight: 700, borderTop: "1.5pt solid #242a1e" },
});

/** “Shipment S-1 of 3 Mar 2026, order O-1, your order PO 1”; nothing for what was typed. */
function headingOf(source: Source | undefined): string {
  if (!source?.order) {
    return "";
  }
  const from = source.shipment
    ? `Shipment ${source.shipment} of ${date(source.shippedOn ?? "")}, order ${source.order}`
    : `Order ${source.order}`;
  return source.theirs ? `${from}, your order ${source.theirs}` : from;
}

/** The invoice as it is printed, on A4 or Letter: in the page only for the printer. */
export function InvoicePaper({ invoice }: { invoice: InvoiceView }) {
  const spine = useQuery({ queryKey: ["spine"], queryFn: () => got(api.GET("/api/spine")) });
  const paper = invoice.document;
  if (!paper || !invoice.number) {
    return null;
  }
  const amount = (minor: number) => money(minor, paper.currency);
  const sources = sourcesOf(paper.lines);
  const groups = [...new Set(sources.map(headingOf))];
  return createPortal(
    <Sheet className="printed" aria-hidden="true">
      <header>
        <div>
          <div className="company">{spine.data?.company}</div>
          <p className="to">{`${invoice.customer.name}\n${invoice.customer.address.split(", ").join("\n")}`}</p>
        </div>
        <div>
          <h1>Invoice {invoice.number}</h1>
          <dl>
            <dt>Date</dt>
            <dd>{date(paper.document_date.date)}</dd>
            <dt>Due</dt>
            <dd>{date(paper.due_date)}</dd>
            <dt>Tax date</dt>
            <dd>{date(paper.tax_date)}</dd>
            <dt>Customer</dt>
            <dd>{invoice.customer.number}</dd>
            {invoice.customer.tax_id && (
              <>
                <dt>Your tax id</dt>
                <dd>{invoice.customer.tax_id}</dd>
              </>
            )}
          </dl>
        </div>
      </header>
      {paper.text_above && <p className="to">{paper.text_above}</p>}
      <table>
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Quantity</th>
            <th className="right">Price</th>
            <th className="right">Off</th>
            <th className="right">
              {paper.gross_priced ? "With tax" : "Net"} {paper.currency}
            </th>
          </tr>
        </thead>
        {groups.map((heading) => {
          const lines = paper.lines.filter((_, at) => headingOf(sources[at]) === heading);
          return (
            <tbody key={heading}>
              {heading && (
                <tr className="from">
                  <td colSpan={5}>{heading}</td>
                </tr>
              )}
              {lines.map((line) => (
                <tr key={`${line.code}${line.description}${line.quantity}${line.amount}`}>
                  <td>
                    {line.code} {line.description}
                    {line.still_to_come !== "0" && (
                      <div className="dim">
                        {number(line.still_to_come)} of {number(line.ordered)} still to come
                      </div>
                    )}
                  </td>
                  <td className="right">
                    {number(line.quantity)} {line.unit}
                  </td>
                  <td className="right">{price(line.unit_price)}</td>
                  <td className="right">{line.discount === "0" ? "" : percent(line.discount)}</td>
                  <td className="right">{amount(line.amount)}</td>
                </tr>
              ))}
            </tbody>
          );
        })}
        <tfoot>
          {paper.discount && (
            <tr>
              <td colSpan={4} className="right">
                Less{paper.discount.percent ? ` ${percent(paper.discount.percent)}` : ""}, {paper.discount.reason}
              </td>
              <td className="right">{amount(-paper.discount.amount)}</td>
            </tr>
          )}
          <tr>
            <td colSpan={4} className="right">
              Net
            </td>
            <td className="right">{amount(paper.net)}</td>
          </tr>
          {paper.taxes.map((tax) => (
            <tr key={tax.code}>
              <td colSpan={4} className="right">
                Tax {tax.category === "S" || tax.category === "Z" ? percent(tax.rate) : tax.category} of{" "}
                {amount(tax.base)}
              </td>
              <td className="right">{amount(tax.tax)}</td>
            </tr>
          ))}
          <tr className="due">
            <td colSpan={4} className="right">
              Due {date(paper.due_date)}, {paper.currency}
            </td>
            <td className="right">{amount(paper.total)}</td>
          </tr>
        </tfoot>
      </table>
      {paper.text_below && <p className="to">{paper.text_below}</p>}
    </Sheet>,
    document.body,
  );
}
