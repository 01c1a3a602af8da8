import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { type FormEvent, useRef, useState } from "react";
import { api, got, keyed, newKey, Problem } from "../api/client";
import { date, money, moneyWithCurrency, number, percent, price } from "../format";
import { type PageQuote, Row, Sheet } from "./bits";

/** What a quote asks for besides the name, in words. */
export function asksFor(what: PageQuote["asked"]["what"], amount: string): string {
  return what === "card" ? `a card for ${amount}` : `a deposit of ${amount}`;
}

/** A quote that waits for the customer's word, or was decided. */
export function QuoteSheet({ quote, changed }: { quote: PageQuote; changed: (said: string) => Promise<void> }) {
  const [accepting, setAccepting] = useState(false);
  const amount = moneyWithCurrency(quote.total, quote.currency);
  const asked =
    quote.asked.amount > 0 && asksFor(quote.asked.what, moneyWithCurrency(quote.asked.amount, quote.currency));
  return (
    <Sheet aria-label={`Quote ${quote.number}`}>
      <h3>
        Quote {quote.number} · {amount}
      </h3>
      <p className="dim">
        Dated {date(quote.quote_date)}, valid until {date(quote.valid_until)}
      </p>
      {quote.note && <p>{quote.note}</p>}
      {quote.lines.map((line, at) => (
        <Row key={at}>
          <span>
            {line.description}
            <small>
              {number(line.quantity)} {line.unit}
              {line.unit_price && ` at ${price(line.unit_price)}`}
              {line.discount && Number(line.discount) !== 0 && `, less ${percent(line.discount)}`}
            </small>
          </span>
          <span className="figure">{money(line.net, quote.currency)}</span>
        </Row>
      ))}
      <Row>
        <span>Tax</span>
        <span className="figure">{money(quote.total - quote.net, quote.currency)}</span>
      </Row>
      <Row className="sum">
        <span>Total {quote.currency}</span>
        <span className="figure">{money(quote.total, quote.currency)}</span>
      </Row>
      {quote.state === "open" && asked && <p>We ask for {asked} before your order is confirmed.</p>}
      {quote.state === "accepted" && <p className="done">● You have accepted this quote.</p>}
      {quote.state === "declined" && <p className="dim">○ This quote was declined.</p>}
      {quote.state === "expired" && <p className="heed">▲ This quote has expired. Ask us for a new one.</p>}
      {quote.state === "open" && !accepting && (
        <div className="acts">
          <Button variant="contained" onClick={() => setAccepting(true)}>
            Accept · {amount}…
          </Button>
        </div>
      )}
      {quote.state === "open" && accepting && (
        <Accepting quote={quote} changed={changed} close={() => setAccepting(false)} />
      )}
    </Sheet>
  );
}

interface Props {
  quote: PageQuote;
  changed: (said: string) => Promise<void>;
  close: () => void;
}

function Accepting({ quote, changed, close }: Props) {
  const [name, setName] = useState("");
  const [order, setOrder] = useState("");
  const [busy, setBusy] = useState(false);
  const [wrong, setWrong] = useState<Problem>();
  // The same for every try of what was typed, so that a second tap does nothing twice.
  const key = useRef(newKey());
  const accept = async (event: FormEvent) => {
    event.preventDefault();
    if (busy) {
      return;
    }
    setBusy(true);
    setWrong(undefined);
    try {
      await got(
        api.POST("/api/page/quotes/{id}/accept", {
          params: { path: { id: quote.id }, header: { Authorization: "", ...keyed(key.current) } },
          body: { version: quote.version, name, customer_order_number: order || null },
        }),
      );
      await changed(`You have accepted quote ${quote.number}. Thank you.`);
    } catch (error) {
      if (error instanceof Problem) {
        setWrong(error);
        if (error.code !== "unreachable") {
          key.current = newKey();
        }
      }
    } finally {
      setBusy(false);
    }
  };
  const atName = wrong?.field === "name";
  return (
    <form onSubmit={accept} noValidate>
      <TextField
        autoFocus
        label="Your name"
        autoComplete="name"
        value={name}
        onChange={(event) => setName(event.target.value)}
        error={atName}
        helperText={atName ? wrong.message : "You accept the quote for your company."}
      />
      <TextField
        label="Your PO number"
        value={order}
        onChange={(event) => setOrder(event.target.value)}
        error={wrong?.field === "customer_order_number"}
        helperText={wrong?.field === "customer_order_number" ? wrong.message : "It will stand on our invoice."}
      />
      {wrong && !atName && wrong.field !== "customer_order_number" && (
        <p className="stop" role="alert">
          ▲ {wrong.message}
        </p>
      )}
      <div className="acts">
        <Button type="submit" variant="contained" disabled={busy}>
          {busy ? "One moment…" : `Accept · ${moneyWithCurrency(quote.total, quote.currency)}`}
        </Button>
        <Button onClick={close}>Cancel</Button>
      </div>
    </form>
  );
}
