import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem } from "../api/client";
import { date, learnExponents, money, moneyWithCurrency, number } from "../format";
import { Frame, type Page, type PageInvoice, type PageOrder, type PageReturn, Row, Sheet } from "./bits";
import { typing } from "./link";
import { PayButtons } from "./Paying";
import { asksFor, QuoteSheet } from "./Quote";

/** The customer's own page. */
export function CustomerPage() {
  const page = useQuery({
    queryKey: ["page"],
    queryFn: async () => {
      const page = await got(api.GET("/api/page", { params: { header: { Authorization: "" } } }));
      learnExponents(page.exponents);
      document.title = `${page.company}: ${page.customer}`;
      return page;
    },
  });
  if (page.error) {
    return <Nowhere error={page.error} again={() => void page.refetch()} />;
  }
  return page.data ? <Shown page={page.data} /> : <Frame aria-busy="true" />;
}

/** A link that leads nowhere, or no more. */
function Nowhere({ error, again }: { error: Error; again: () => void }) {
  const code = error instanceof Problem ? error.code : "";
  const over = code === "link_over" || code === "link_unknown";
  return (
    <Frame>
      <header>
        <h1>{over ? "This page cannot be opened" : "One moment, please"}</h1>
        <p role="alert">{error.message}</p>
      </header>
      {!over && (
        <button type="button" className="quietly" onClick={again}>
          Try again
        </button>
      )}
    </Frame>
  );
}

function Shown({ page }: { page: Page }) {
  const client = useQueryClient();
  const [said, setSaid] = useState("");
  // Thanks stand beside the figures they changed, never beside the old ones.
  const changed = async (words: string) => {
    await client.invalidateQueries();
    setSaid(words);
  };
  // The quote the link went with comes first.
  const quotes = [...page.quotes].sort((a, b) => Number(b.id === page.quote) - Number(a.id === page.quote));
  const open = quotes.filter((quote) => quote.state === "open" || quote.id === page.quote);
  const missing = page.orders.filter((order) => order.missing.amount > 0);
  const onTheWay = page.orders.filter((order) => order.missing.amount === 0);
  return (
    <Frame>
      <header>
        <h1>{page.company}</h1>
        <p>
          {page.customer} · customer number {page.number}
        </p>
      </header>
      <div aria-live="polite">{said && <Sheet className="said">● {said}</Sheet>}</div>
      {(open.length > 0 || missing.length > 0) && <h2>Waiting for you</h2>}
      {missing.map((order) => (
        <MissingSheet key={order.id} order={order} page={page} changed={changed} />
      ))}
      {open.map((quote) => (
        <QuoteSheet key={quote.id} quote={quote} changed={changed} />
      ))}
      <h2>To pay</h2>
      <Owed page={page} changed={changed} />
      <h2>On the way</h2>
      {onTheWay.length === 0 && <p className="dim">No open orders.</p>}
      {onTheWay.map((order) => (
        <OrderSheet key={order.id} order={order} />
      ))}
      {page.returns.length > 0 && <h2>Coming back</h2>}
      {page.returns.map((one) => (
        <ReturnSheet key={one.id} one={one} page={page} />
      ))}
      <h2>Papers</h2>
      <Papers page={page} />
      <footer>
        This page opens with the link we sent you, until {date(page.works_until.slice(0, 10))}. Whoever has the link
        sees what you see.
      </footer>
    </Frame>
  );
}

interface Changing {
  page: Page;
  changed: (said: string) => Promise<void>;
}

/** An accepted order that waits for a card or a deposit. */
function MissingSheet({ order, page, changed }: Changing & { order: PageOrder }) {
  const amount = moneyWithCurrency(order.missing.amount, order.currency);
  return (
    <Sheet aria-label={`Order ${order.number}`}>
      <h3>
        Order {order.number} waits for {asksFor(order.missing.what, amount)}
      </h3>
      <p className="dim">
        It is confirmed as soon as that is there. You can also pay by transfer, naming {order.number}.
      </p>
      {page.cards_taken && (
        <PayButtons
          page={page}
          wish={{ pays: "order", id: order.id, amount: order.missing.amount }}
          currency={order.currency}
          atOnce={order.missing.what === "deposit"}
          changed={changed}
        />
      )}
    </Sheet>
  );
}

function Owed({ page, changed }: Changing) {
  if (page.invoices.length === 0 && page.sums.length === 0) {
    return <p className="dim">Nothing is open. Thank you.</p>;
  }
  return (
    <>
      {page.sums.map((sum) => (
        <Sheet key={sum.currency}>
          <Row>
            <span>Balance due</span>
            <span className="figure due">{moneyWithCurrency(sum.owed, sum.currency)}</span>
          </Row>
          {sum.late > 0 && (
            <Row>
              <span className="heed">▲ of it past due</span>
              <span className="figure">{moneyWithCurrency(sum.late, sum.currency)}</span>
            </Row>
          )}
          {sum.held > 0 && (
            <Row>
              <span>Deposits and payments we hold for you</span>
              <span className="figure">{moneyWithCurrency(sum.held, sum.currency)}</span>
            </Row>
          )}
        </Sheet>
      ))}
      {page.invoices.map((invoice) => (
        <InvoiceSheet key={invoice.id} invoice={invoice} page={page} changed={changed} />
      ))}
    </>
  );
}

function InvoiceSheet({ invoice, page, changed }: Changing & { invoice: PageInvoice }) {
  // Back from the processor's page, the invoice that the card was typed for goes on.
  const [paying, setPaying] = useState(() => {
    const back = typing();
    return page.invoices.length === 1 || (back?.pays === "invoice" && back.id === invoice.id);
  });
  const name = `${invoice.prepayment ? "Prepayment invoice" : "Invoice"} ${invoice.number}`;
  const payable = page.cards_taken && invoice.payable > 0;
  return (
    <Sheet aria-label={name}>
      <Row>
        <span>
          <b>{name}</b>
          <small>
            {invoice.late ? (
              <span className="heed">▲ was due {date(invoice.due_date)}</span>
            ) : (
              `due ${date(invoice.due_date)}`
            )}
            , dated {date(invoice.document_date)}
            {invoice.open < invoice.total && `, of ${moneyWithCurrency(invoice.total, invoice.currency)}`}
          </small>
        </span>
        <span className="figure due">{moneyWithCurrency(invoice.open, invoice.currency)}</span>
      </Row>
      {payable && !paying && (
        <button type="button" className="quietly" onClick={() => setPaying(true)}>
          Pay by card…
        </button>
      )}
      {payable && paying && (
        <PayButtons
          page={page}
          wish={{ pays: "invoice", id: invoice.id, amount: invoice.payable }}
          currency={invoice.currency}
          atOnce
          changed={changed}
        />
      )}
      {page.cards_taken && invoice.payable < invoice.open && invoice.payable === 0 && (
        <p className="dim">A card payment for it is being processed.</p>
      )}
    </Sheet>
  );
}

function OrderSheet({ order }: { order: PageOrder }) {
  return (
    <Sheet aria-label={`Order ${order.number}`}>
      <h3>
        Order {order.number}
        {order.customer_order_number && ` · your PO ${order.customer_order_number}`}
      </h3>
      <p className="dim">
        {order.confirmed ? `Ordered ${date(order.order_date)}` : "We are looking at your order and will confirm it."}
        {order.promised_date && `, promised for ${date(order.promised_date)}`}
      </p>
      {order.lines.map((line, at) => (
        <Row key={at}>
          <span>
            {line.description}
            {line.expected_on && <small>expected {date(line.expected_on)}</small>}
          </span>
          <span className="figure">
            {number(line.shipped)} of {number(line.quantity)} {line.unit} shipped
          </span>
        </Row>
      ))}
      {order.shipments.map((one) => (
        <p key={one.number} className="dim">
          {one.number} left {date(one.left_on)}
          {one.carrier && ` with ${one.carrier}`}
          {one.tracking_number && `, tracking number ${one.tracking_number}`}
        </p>
      ))}
    </Sheet>
  );
}

/** A return that is not done: what may come back, what has arrived, and the slip that goes with it. */
function ReturnSheet({ one, page }: { one: PageReturn; page: Page }) {
  const awaited = one.live && one.lines.some((line) => Number(line.arrived) < Number(line.authorized));
  const slip = page.addresses.find((at) => at.kind === "return" && at.id === one.id)?.address;
  return (
    <Sheet aria-label={`Return ${one.number}`}>
      <h3>
        Return {one.number}
        {one.reference && ` · your ${one.reference}`}
      </h3>
      <p className="dim">
        {awaited
          ? `May arrive until ${date(one.expires_on)}. Put the slip into the parcel.`
          : "We have it, and will write to you."}{" "}
        {awaited && (
          <a href={slip} target="_blank" rel="noreferrer">
            Open the slip
          </a>
        )}
      </p>
      {one.lines.map((line, at) => (
        <Row key={at}>
          <span>{line.description}</span>
          <span className="figure">
            {number(line.arrived)} of {number(line.authorized)} {line.unit} arrived
          </span>
        </Row>
      ))}
    </Sheet>
  );
}

const kinds: Record<string, string> = { invoice: "Invoice", credit_memo: "Credit memo", deposit: "Deposit receipt" };

function Papers({ page }: { page: Page }) {
  if (page.papers.length === 0) {
    return <p className="dim">No papers yet.</p>;
  }
  const at = new Map(page.addresses.map((one) => [`${one.kind} ${one.id}`, one.address]));
  return (
    <Sheet>
      {page.papers.map((paper) => {
        const name = `${kinds[paper.document.kind]} ${paper.document.number}`;
        const address = at.get(`${paper.document.kind} ${paper.document.id}`);
        return (
          <Row key={name}>
            <span>
              <a href={address} target="_blank" rel="noreferrer">
                {name}
              </a>
              <small>
                {date(paper.date)} ·{" "}
                <a href={address} download={`${paper.document.number}.html`} aria-label={`Download ${name}`}>
                  download
                </a>
              </small>
            </span>
            <span className="figure">
              {money(paper.total, paper.currency)} {paper.currency}
            </span>
          </Row>
        );
      })}
    </Sheet>
  );
}
