import Autocomplete from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { QuoteRow, QuoteView } from "../../api/types";
import { date, money, moneyWithCurrency, number, percent, plural, price, shortDate } from "../../format";
import { asksFor } from "../../page/Quote";
import {
  Chips,
  Facts,
  FilterField,
  Lines,
  Marked,
  RoomLinks,
  Scroll,
  useBase,
  useEverythingChanged,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { type Column, Rows } from "../../parts/Rows";
import { Paper, TapeLines } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { rememberSequence } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { MakeLinkAsk } from "../customers/PageLinks";
import { Amount } from "../Invoices";
import { QuotePaper } from "../papers/OrderPaper";
import { orderLinks } from "./links";

function QuoteState({ state }: { state: QuoteRow["state"] }) {
  switch (state) {
    case "accepted":
      return <Marked className="done">● accepted</Marked>;
    case "declined":
      return <Marked className="dim">○ declined</Marked>;
    case "expired":
      return <Marked className="stop">◆ expired</Marked>;
    default:
      return "open";
  }
}

export function QuotesRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const quotes = useQuery({
    queryKey: ["quotes", search],
    queryFn: () => got(api.GET("/api/quotes", { params: { query: { q: search || undefined } } })),
  });
  const [current, setCurrent] = useState<QuoteRow>();
  const rows = quotes.data ?? [];
  const open = (row: QuoteRow | undefined) => {
    if (row) {
      rememberSequence(rows.map((one) => `/quotes/${one.id}`));
      navigate(`/quotes/${row.id}`);
    }
  };
  const columns: Column<QuoteRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Quote", width: "84px", cell: (row) => row.number },
    { key: "name", sort: (row) => row.name, head: "For", width: "minmax(0, 1fr)", cell: (row) => row.name },
    {
      key: "date",
      sort: (row) => row.quote_date,
      head: "Written",
      width: "100px",
      cell: (row) => shortDate(row.quote_date, today),
    },
    {
      key: "until",
      sort: (row) => row.valid_until,
      head: "Valid until",
      width: "110px",
      cell: (row) => shortDate(row.valid_until, today),
    },
    {
      key: "state",
      sort: (row) => row.state,
      head: "State",
      width: "110px",
      cell: (row) => <QuoteState state={row.state} />,
    },
    {
      key: "net",
      sort: (row) => row.net,
      sum: (row) => ({ minor: row.net, currency: row.currency }),
      head: "Net",
      width: "120px",
      right: true,
      cell: (row) => <Amount minor={row.net} currency={row.currency} base={base} />,
    },
  ];
  return (
    <Worktop
      title="Quotes"
      sum={quotes.data && plural(rows.length, "quote", "quotes")}
      actions={[
        { key: "n", label: "New quote", run: () => navigate("/quotes/new"), needs: "keep_order" },
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: () => open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <Paper>
          <h2>
            Quotes
            <br />
            <span>offers that wait for a word</span>
          </h2>
          <div className="words quiet">
            A quote writes nothing to the ledger and sets nothing aside. Accepted, it becomes a draft order at the very
            prices it offered.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
        <span className="gap" />
        <FilterField label="Number or name" />
      </Chips>
      {quotes.error && <Wrong error={quotes.error} />}
      {quotes.data && (
        <Rows
          label="Quotes"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onCurrent={setCurrent}
          onOpen={open}
          empty="No quote yet. Press n to write one."
        />
      )}
    </Worktop>
  );
}

export function QuoteRoom() {
  const { id = "" } = useParams();
  const quote = useQuery({
    queryKey: ["quote", id],
    queryFn: () => got(api.GET("/api/quotes/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!quote.data) {
    return (
      <Worktop title="Quote" actions={[]} back="/orders/quotes">
        {quote.error && <Wrong error={quote.error} />}
      </Worktop>
    );
  }
  return <Opened key={quote.data.id} quote={quote.data} />;
}

function Opened({ quote }: { quote: QuoteView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState<"accept" | "decline" | "send">();
  const [customer, setCustomer] = useState<number>();
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
    enabled: asking === "accept" && !quote.customer,
  });
  const open = quote.state === "open";
  const total = moneyWithCurrency(quote.total, quote.currency);
  const order = quote.order;
  return (
    <Worktop
      title={quote.number}
      sum={quote.name}
      back="/orders/quotes"
      actions={[
        ...(order
          ? [{ key: "o", label: "The order it became", run: () => navigate(`/orders/${order}`), primary: true }]
          : [
              {
                key: "a",
                label: `Accepted · ${total}`,
                run: () => setAsking("accept"),
                primary: true,
                disabled: !open,
                needs: "keep_order" as const,
              },
              {
                key: "e",
                label: "Change",
                run: () => navigate(`/quotes/${quote.id}/change`),
                disabled: quote.state === "declined",
                needs: "keep_order" as const,
              },
              {
                key: "x",
                label: "Declined",
                run: () => setAsking("decline"),
                disabled: quote.state === "declined",
                needs: "keep_order" as const,
              },
            ]),
        ...(open && quote.customer
          ? [
              {
                key: "r",
                label: "Take a deposit",
                run: () => navigate(`/prepayments/new?customer=${quote.customer}&quote=${quote.id}`),
                needs: "post_money" as const,
              },
            ]
          : []),
        ...(open && quote.customer
          ? [{ key: "w", label: "Send…", run: () => setAsking("send"), needs: "keep_page_links" as const }]
          : []),
        { key: "d", label: "Print the quote", run: () => window.print() },
      ]}
      tape={
        <Paper>
          <TapeLines tape={quote.tape} />
          <RecordLines kind="quote" id={quote.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["State", <QuoteState key="s" state={quote.state} />],
          ["Written", date(quote.quote_date)],
          ["Valid until", date(quote.valid_until)],
          [
            "Asks for",
            quote.asked.amount > 0 &&
              `${quote.asked.what === "card" ? "a card" : "a deposit"} for ${number(quote.asks_percent ?? "0")} %, ${moneyWithCurrency(quote.asked.amount, quote.currency)}`,
          ],
          [
            "Accepted by",
            quote.accepted && `${quote.accepted.name} on the customer page, ${date(quote.accepted.accepted_on)}`,
          ],
          ["Why declined", quote.reason],
          ["Note for the customer", quote.form.note],
          ["Note for ourselves", quote.form.own_note],
        ]}
      />
      <Scroll>
        <Lines label="Lines of the quote">
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
                  <b>{line.code}</b> {line.description}
                </td>
                <td className="right">
                  {number(line.quantity)} {line.unit}
                </td>
                <td
                  className="right"
                  title={line.price?.steps.map((step) => `${step.source} ${price(step.unit_price)}`).join(" → ")}
                >
                  {line.price && price(line.price.unit_price)}
                </td>
                <td className="right dim" title={line.price?.discount_reason ?? undefined}>
                  {line.price && line.price.discount !== "0" ? percent(line.price.discount) : ""}
                </td>
                <td className="right">{money(line.net, quote.currency)}</td>
              </tr>
            ))}
          </tbody>
        </Lines>
      </Scroll>
      {asking === "accept" && (
        <Ask
          title={`${quote.number} was accepted?`}
          yes={`Make the order · ${total}`}
          busyWords="One moment…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            const made = await got(
              api.POST("/api/quotes/{id}/accept", {
                params: { path: { id: quote.id }, header: keyed(key) },
                body: { version: quote.version, customer: customer ?? null },
              }),
            );
            say({ kind: "done", text: `${quote.number} became an order, a draft still. Confirm it next.` });
            await changed();
            navigate(`/orders/${made}`);
          }}
        >
          It becomes a draft order at the prices it offered.
          {quote.asked.amount > 0 &&
            ` It asks for ${asksFor(quote.asked.what, moneyWithCurrency(quote.asked.amount, quote.currency))} first: see to that before you confirm it.`}
          {!quote.customer && (
            <div style={{ marginTop: 14 }}>
              <Autocomplete
                options={customers.data ?? []}
                getOptionLabel={(option) => `${option.name} · ${option.number}`}
                onChange={(_, option) => setCustomer(option?.id)}
                autoHighlight
                openOnFocus
                renderInput={(input) => (
                  <TextField
                    {...input}
                    label="The customer it has become"
                    helperText="Add the customer first, under Customers"
                  />
                )}
              />
            </div>
          )}
        </Ask>
      )}
      {asking === "decline" && (
        <FormAsk
          title={`${quote.number} is not wanted?`}
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          run={async (values, key) => {
            await got(
              api.POST("/api/quotes/{id}/decline", {
                params: { path: { id: quote.id }, header: keyed(key) },
                body: { version: quote.version, reason: values.reason ?? "" },
              }),
            );
            say({ kind: "done", text: `${quote.number} is declined.` });
            await changed();
          }}
        />
      )}
      {asking === "send" && quote.customer && (
        <MakeLinkAsk
          customer={quote.customer}
          quote={{ id: quote.id, number: quote.number }}
          close={() => setAsking(undefined)}
        />
      )}
      <QuotePaper quote={quote} />
    </Worktop>
  );
}
