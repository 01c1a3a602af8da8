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

/** What the tape says of an invoice, draft or posted. */
export function InvoiceTape({ invoice }: { invoice: InvoiceView }) {
  const base = useBase();
  return (
    <Paper>
      <TapeLines tape={invoice.tape} />
      <BlockerLines blockers={invoice.blockers} />
      <Tear />
      {invoice.entry && <EntryLines entry={invoice.entry} base={base} title="Entry when posted" />}
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
  const shipments = [...new Set(document?.lines.map((line) => line.shipment_number))].join(", ");
  const theirs = [...new Set(document?.lines.map((line) => line.customer_order_number).filter(Boolean))].join(", ");
  return (
    <Facts
      facts={[
        ["Bill to", `${invoice.customer.name}, ${invoice.customer.address}`],
        ["Shipments", shipments],
        ["Their order", theirs],
        ["Due", document && date(document.due_date)],
      ]}
    />
  );
}

/** The headings of its lines. */
export function LineHead({ draft }: { draft?: boolean }) {
  return (
    <thead>
      <tr>
        <th>Item</th>
        <th className="right">Ordered</th>
        <th className="right">Billed before</th>
        <th className="right">This time</th>
        <th className="right">Still to come</th>
        <th className="right">Price</th>
        <th className="right">Off</th>
        <th className="right">Net</th>
        {draft && <th aria-label="Leave out" />}
      </tr>
    </thead>
  );
}

/** The cells of one line. */
export function LineCells({
  line,
  currency,
  quantity,
  reprice,
}: {
  line: InvoiceLine;
  currency: string;
  quantity: ReactNode;
  reprice?: () => void;
}) {
  const shown = price(line.unit_price);
  return (
    <>
      <td>
        <b>{line.code}</b> {line.description}
        <div>
          <Marked className="dim">
            {line.shipment_number} of {date(line.shipped_on)} · {line.order_number}
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
        {line.price_reason && (
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
      <td className="right">{money(line.net, currency)}</td>
    </>
  );
}
