import type { ReactNode } from "react";
import type { InvoiceLine, InvoiceView } from "../../api/types";
import { date, money, number, percent, price } from "../../format";
import { Facts, Marked, useBase } from "../../parts/bits";
import {
  BlockerLines,
  ChangeLines,
  EntryLines,
  Paper,
  PostedEntries,
  TapeLines,
  Tear,
  TrailLines,
} from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { type Source, sourcesOf } from "./source";

/** What the tape says of an invoice, draft or posted. */
export function InvoiceTape({ invoice }: { invoice: InvoiceView }) {
  const base = useBase();
  return (
    <Paper>
      <TapeLines tape={invoice.tape} />
      <BlockerLines blockers={invoice.blockers} />
      <Tear />
      {invoice.entry && <EntryLines entry={invoice.entry} base={base} title="Entry when posted" />}
      {invoice.cost_entry && <EntryLines entry={invoice.cost_entry} base={base} title="Entry of the cost" />}
      <PostedEntries entries={invoice.entries} base={base} />
      <ChangeLines changes={invoice.changes} base={base} />
      <TrailLines trail={invoice.trail} />
      <RecordLines kind="invoice" id={invoice.id} />
    </Paper>
  );
}

/** Whom it goes to, what it is from, when it is due. */
export function Head({ invoice }: { invoice: InvoiceView }) {
  const document = invoice.document;
  const sources = sourcesOf(document?.lines ?? []);
  const shipments = [...new Set(sources.map((source) => source.shipment).filter(Boolean))].join(", ");
  const orders = [...new Set(sources.map((source) => source.order).filter(Boolean))].join(", ");
  const theirs = [...new Set(sources.map((source) => source.theirs).filter(Boolean))].join(", ");
  return (
    <Facts
      facts={[
        ["Bill to", `${invoice.customer.name}, ${invoice.customer.address}`],
        ["From", shipments || orders || "nothing but this invoice"],
        ["Customer PO", theirs],
        [
          "Due",
          document && (
            <>
              {date(document.due_date)}
              {invoice.payment_reference && <div className="dim nowrap">pay with {invoice.payment_reference}</div>}
            </>
          ),
        ],
      ]}
    />
  );
}

/** The headings of its lines. */
export function LineHead({ draft, gross }: { draft?: boolean; gross?: boolean }) {
  return (
    <thead>
      <tr>
        <th>Item</th>
        <th className="right">Ordered</th>
        <th className="right narrow">Billed before</th>
        <th className="right">This time</th>
        <th className="right narrow">Still to come</th>
        <th className="right">Price</th>
        <th className="right">Off</th>
        <th>Tax</th>
        <th className="right">{gross ? "With tax" : "Net"}</th>
        {draft && <th aria-label="Leave out" />}
      </tr>
    </thead>
  );
}

/** The cells of one line. */
export function LineCells({
  line,
  source,
  currency,
  quantity,
  reprice,
  retax,
}: {
  line: InvoiceLine;
  source: Source | undefined;
  currency: string;
  quantity: ReactNode;
  reprice?: () => void;
  retax?: () => void;
}) {
  const shown = price(line.unit_price);
  return (
    <>
      <td>
        <b>{line.code}</b> {line.description}
        <div style={{ whiteSpace: "nowrap" }}>
          <Marked className="dim">
            {source?.shipment
              ? `${source.shipment} of ${date(source.shippedOn ?? "")} · ${source.order}`
              : line.from === "prepaid"
                ? `${source?.order}, in advance`
                : source?.order
                  ? `${source.order}, not shipped`
                  : line.account
                    ? `to account ${line.account}`
                    : "typed here"}
          </Marked>
        </div>
      </td>
      <td className="right dim">{number(line.ordered)}</td>
      <td className="right dim">{line.billed_before === "0" ? "" : number(line.billed_before)}</td>
      <td className="right">{quantity}</td>
      <td className="right">
        {line.still_to_come === "0" ? "" : <Marked className="heed">▲ {number(line.still_to_come)}</Marked>}
      </td>
      <td className="right">
        {reprice ? (
          <button type="button" className="quietly" onClick={reprice} aria-label={`Price of ${line.code}, ${shown}`}>
            {shown}
          </button>
        ) : (
          shown
        )}
        {line.price_reason && source?.order && (
          <div>
            <Marked className="heed" title={line.price_reason}>
              ▲ {price(line.order_price)} on the order
            </Marked>
          </div>
        )}
      </td>
      <td className="right dim" title={line.discount_reason ?? undefined}>
        {line.discount === "0" ? "" : percent(line.discount)}
      </td>
      <td>
        {retax ? (
          <button
            type="button"
            className="quietly"
            onClick={retax}
            aria-label={`Tax of ${line.code}, ${line.tax.code}`}
          >
            {line.tax.code}
          </button>
        ) : (
          line.tax.code
        )}
        {line.tax_reason && (
          <div>
            <Marked className="heed" title={line.tax_reason}>
              ▲ not {line.order_tax_code}
            </Marked>
          </div>
        )}
      </td>
      <td className="right">
        {money(line.amount, currency)}
        {line.off !== 0 && (
          <div>
            <Marked className="dim">{money(-line.off, currency)}</Marked>
          </div>
        )}
        {(line.prepaid ?? []).map((used) => (
          <div key={used.prepaid}>
            <Marked className="dim" title={`Billed in advance on ${used.document.number}`}>
              {used.document.number} {money(-used.net, currency)}
            </Marked>
          </div>
        ))}
      </td>
    </>
  );
}
