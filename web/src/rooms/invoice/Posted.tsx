import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { InvoiceView } from "../../api/types";
import { date, money, moneyWithCurrency, number, percent } from "../../format";
import { Lines, Marked, useEverythingChanged } from "../../parts/bits";
import { PrintedPaper, usePapersReady } from "../../parts/PrintedPaper";
import { ApprovalStrip, useApprovals } from "../../parts/together";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { taxWords } from "../../words";
import { OnAccount } from "../deposits/OnAccount";
import { OpenDisputeAsk } from "../disputes/asks";
import { disputeReasons } from "../disputes/words";
import { GoingOutLines, SendAgainAsk } from "../goingout/parts";
import { CreditAdvanceAsk } from "../prepayments/credit";
import { AdvanceCells, AdvanceHead } from "../prepayments/lines";
import { PrepaymentLines } from "../prepayments/OfOrder";
import { CancelAsk } from "./Cancel";
import { Head, InvoiceTape, LineCells, LineHead } from "./lines";
import { sourcesOf } from "./source";

/** A posted invoice, as it is and stays. */
export function Posted({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const approvals = useApprovals("invoice", invoice.id);
  const [asking, setAsking] = useState<"cancel" | "credit" | "again" | "dispute">();
  const papersReady = usePapersReady();
  const document = invoice.document;
  const first = document?.lines[0];
  const order = first?.from === "prepaid" ? first.order : undefined;
  const ahead = order !== undefined;
  const plan = useQuery({
    queryKey: ["advance", order, invoice.version],
    queryFn: () => got(api.GET("/api/orders/{id}/advance", { params: { path: { id: order ?? 0 } } })),
    enabled: ahead,
  });
  const register = plan.data?.invoices.find((row) => row.id === invoice.id);
  if (!document) {
    return null;
  }
  const open = invoice.open ?? 0;
  const cancelled = invoice.cancelled_by;
  const sources = sourcesOf(document.lines);
  const toPrint = invoice.deliveries.find((one) => one.way === "print" && one.state === "waiting");
  const print = async () => {
    window.print();
    if (toPrint) {
      await got(
        api.POST("/api/deliveries/printed", {
          params: { header: keyed(`printed-${toPrint.id}-${toPrint.version}`) },
          body: { ids: [toPrint.id] },
        }),
      );
      say({ kind: "done", text: `${invoice.number} is out of the print queue.` });
      await changed();
    }
  };
  const state = cancelled
    ? `canceled by ${cancelled.number}`
    : open === 0
      ? "settled"
      : `balance due ${moneyWithCurrency(open, document.currency)} on ${date(document.due_date)}`;
  return (
    <Worktop
      title={ahead ? `Prepayment invoice ${invoice.number}` : invoice.number}
      sum={`${invoice.customer.name} · ${state}`}
      back={ahead ? "/prepayments/invoices" : invoice.run ? `/runs/${invoice.run}` : "/billing/invoices"}
      actions={[
        ...(open === 0
          ? []
          : [
              {
                key: "r",
                label: `Record receipt · ${moneyWithCurrency(open, document.currency)}`,
                run: () => navigate(`/receipts/new?customer=${invoice.customer.id}&invoice=${invoice.id}`),
                primary: true,
                needs: "post_money" as const,
              },
            ]),
        {
          key: "w",
          label: toPrint ? "Print it" : "Print",
          run: print,
          primary: open === 0 && !!toPrint,
          disabled: !papersReady,
        },
        { key: "m", label: "Send again", run: () => setAsking("again"), needs: "send_out" },
        ...(ahead
          ? []
          : [
              {
                key: "l",
                label: "Credit lines",
                run: () => navigate(`/invoices/${invoice.id}/credit`),
                disabled: !!cancelled,
                needs: "cancel_invoice" as const,
              },
              {
                key: "g",
                label: "Return goods",
                run: () => navigate(`/returns/new?customer=${invoice.customer.id}&invoice=${invoice.id}`),
                disabled: !!cancelled,
                needs: "authorize_return" as const,
              },
              {
                key: "e",
                label: "Return or exchange",
                run: () => navigate(`/invoices/${invoice.id}/exchange`),
                disabled: !!cancelled,
                needs: "return_at_once" as const,
              },
              {
                key: "i",
                label: "Wrong item sent",
                run: () => navigate(`/invoices/${invoice.id}/wrong-item`),
                disabled: !!cancelled,
                quiet: true,
                needs: "handle_return" as const,
              },
            ]),
        {
          key: "x",
          label: ahead ? "Credit…" : "Cancel invoice…",
          run: () => setAsking(ahead ? "credit" : "cancel"),
          disabled: ahead ? !register || register.left === 0 : !!cancelled || !!invoice.takes_back,
          needs: "cancel_invoice",
        },
        ...(open > 0 && !invoice.dispute
          ? [
              {
                key: "d",
                label: "Dispute…",
                run: () => setAsking("dispute"),
                needs: "post_money" as const,
                quiet: true,
              },
            ]
          : []),
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${invoice.customer.id}`), quiet: true },
      ]}
      tape={<InvoiceTape invoice={invoice} />}
    >
      <PrintedPaper kind="invoice" id={invoice.id} />
      <Head invoice={invoice} />
      {invoice.takes_back && (
        <p style={{ margin: "0 0 8px" }}>
          An exchange: what is below zero came back {invoice.takes_back.kind === "return" ? "on" : "of"}{" "}
          <Link to={placeOf(invoice.takes_back)}>{invoice.takes_back.number}</Link>.
        </p>
      )}
      <ApprovalStrip approvals={approvals} />
      {invoice.dispute && (
        <p style={{ margin: "0 0 8px" }}>
          <Marked className="heed">
            ▲ {moneyWithCurrency(invoice.dispute.amount, document.currency)} in dispute since{" "}
            {date(invoice.dispute.since)}
          </Marked>
          : {[disputeReasons[invoice.dispute.reason], invoice.dispute.words].filter(Boolean).join(", ")}.{" "}
          {invoice.dispute.owner_name ? `${invoice.dispute.owner_name} looks after it.` : "Nobody looks after it yet."}{" "}
          <Link to="/disputes">Disputes</Link>
        </p>
      )}
      {open > 0 && <OnAccount customer={invoice.customer.id} currency={document.currency} invoice={invoice.id} />}
      <GoingOutLines deliveries={invoice.deliveries} />
      <Lines label="Lines of the invoice">
        {ahead ? <AdvanceHead gross={document.gross_priced} /> : <LineHead gross={document.gross_priced} />}
        <tbody>
          {document.lines.map((line, at) =>
            ahead ? (
              <AdvanceCells key={sources[at]?.key} line={line} currency={document.currency} />
            ) : (
              <tr key={sources[at]?.key}>
                <LineCells
                  line={line}
                  source={sources[at]}
                  currency={document.currency}
                  quantity={`${number(line.quantity)} ${line.unit}`}
                />
              </tr>
            ),
          )}
        </tbody>
        <tfoot>
          {totals(invoice, document).map(([label, amount]) => (
            <tr key={label}>
              <td colSpan={ahead ? 6 : 8} className="right">
                {label}
              </td>
              <td className="right">{money(amount, document.currency)}</td>
            </tr>
          ))}
        </tfoot>
      </Lines>
      {register && <PrepaymentLines rows={[register]} currency={document.currency} />}
      {asking === "credit" && register && <CreditAdvanceAsk row={register} close={() => setAsking(undefined)} />}
      {asking === "dispute" && (
        <OpenDisputeAsk
          invoice={invoice.id}
          number={invoice.number ?? ""}
          open={open}
          currency={document.currency}
          close={() => setAsking(undefined)}
        />
      )}
      {asking === "cancel" && <CancelAsk invoice={invoice} close={() => setAsking(undefined)} />}
      {asking === "again" && (
        <SendAgainAsk kind="invoice" id={invoice.id} number={invoice.number ?? ""} close={() => setAsking(undefined)} />
      )}
    </Worktop>
  );
}

type Total = readonly [label: string, amount: number];

/** What an invoice comes to, and what is left of it to pay. */
export function totals(invoice: InvoiceView, document: NonNullable<InvoiceView["document"]>): Total[] {
  const { currency, discount } = document;
  const deposits = document.deposits.map((one): Total => [`Less deposit ${one.document.number}`, -one.amount]);
  const left = invoice.open ?? document.due;
  const settled = document.due - left;
  const share = discount?.percent ? ` ${percent(discount.percent)}` : "";
  const taxes = document.taxes.map((tax): Total => [taxWords(tax, currency), tax.tax]);
  const rows: (Total | false)[] = [
    !!discount && [`Less${share}, ${discount.reason}`, -discount.amount],
    ...invoice.prepaid.map((used): Total => [`Less billed in advance, ${used.document.number}`, -used.amount]),
    ["Net", document.net],
    ...(taxes.length > 0 ? taxes : [["Tax", document.tax] satisfies Total]),
    [`Total ${currency}`, document.total],
    ...deposits,
    settled !== 0 && ["Less paid, credited, or deducted", -settled],
    (settled !== 0 || deposits.length > 0) && [`Balance due ${currency}`, left],
  ];
  return rows.filter((row): row is Total => row !== false);
}
