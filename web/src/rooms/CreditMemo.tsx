import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import type { CreditMemoView, DocumentRef, KeptCredit } from "../api/types";
import { date, money, moneyWithCurrency, number } from "../format";
import { Facts, Lines, Marked, useBase, Wrong } from "../parts/bits";
import { PrintedPaper, usePapersReady } from "../parts/PrintedPaper";
import { Paper, PostedEntries, TapeLines, Tear, TrailLines } from "../parts/TapeRoll";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";
import { taxWords } from "../words";
import { MoneyTape } from "./Applying";
import { GoingOutLines, SendAgainAsk } from "./goingout/parts";
import { ApplyAsk, ApplyPart, type OpenCredit, useApplying } from "./receipt/applying";
import { RefundAsk, RefundLines, RefundRoll, ReverseRefundAsk } from "./receipt/Refund";
import { TakeBackAsk } from "./receipt/TakeBack";

/** Where the goods of a line are: back on a return, or with the customer. */
function Goods({ on, kind, out }: { on: DocumentRef | null | undefined; kind: string; out: boolean }) {
  if (out) {
    return <div className="dim">{kind === "goods" ? "goes out for it" : "charged"}</div>;
  }
  if (kind !== "goods") {
    return null;
  }
  return (
    <div className="dim">{on ? <Link to={placeOf(on)}>received on {on.number}</Link> : "stays with the customer"}</div>
  );
}

/** A credit memo as it is and stays, and what becomes of what was kept of it. */
export function CreditMemoRoom() {
  const { id = "" } = useParams();
  const memo = useQuery({
    queryKey: ["credit-memo", id],
    queryFn: () => got(api.GET("/api/credit-memos/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!memo.data) {
    return (
      <Worktop title="Credit memo" actions={[]} back="/billing/credit-memos">
        {memo.error && <Wrong error={memo.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} view={memo.data} />;
}

function Opened({ view }: { view: CreditMemoView }) {
  const base = useBase();
  const navigate = useNavigate();
  const [sending, setSending] = useState(false);
  const [shows, setShows] = useState(false);
  const [step, setStep] = useState<"apply" | "refund" | "reverse" | "unapply">();
  const papersReady = usePapersReady();
  const { invoice, kept } = view;
  const unapplied = kept?.open ?? 0;
  const credit: OpenCredit = {
    kind: "credit_memo",
    id: view.id,
    number: view.number,
    version: view.version,
    currency: view.document.currency,
    customer: view.customer.id,
    unapplied,
  };
  const it = useApplying(credit, shows);
  const close = () => setStep(undefined);
  const { document } = view;
  return (
    <Worktop
      title={view.number}
      sum={
        <>
          {view.customer.name} · {moneyWithCurrency(document.total, document.currency)} credited
          {unapplied > 0 && (
            <Marked className="heed"> · ▲ {moneyWithCurrency(unapplied, document.currency)} unapplied</Marked>
          )}
        </>
      }
      back="/billing/credit-memos"
      actions={[
        ...(unapplied > 0
          ? [
              {
                key: "p",
                label: it.applying ? `Apply ${it.total}` : it.open.length > 0 ? "Apply…" : "Nothing open to apply to",
                run: () => (it.applying ? setStep("apply") : setShows(true)),
                primary: true,
                disabled: it.open.length === 0 || (it.applying && it.stopped),
                needs: "post_money" as const,
              },
              { key: "f", label: "Refund", run: () => setStep("refund"), needs: "refund_deposit" as const },
            ]
          : []),
        ...(invoice
          ? [
              {
                key: "o",
                label: `Open ${invoice.number}`,
                run: () => navigate(placeOf(invoice)),
                primary: unapplied === 0,
              },
            ]
          : []),
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${view.customer.id}`), quiet: true },
        ...(kept?.applied.length
          ? [{ key: "u", label: "Unapply", run: () => setStep("unapply"), needs: "take_back_money" as const }]
          : []),
        ...(kept?.refunds.some((one) => !one.reversed_on)
          ? [
              {
                key: "x",
                label: "Reverse a refund…",
                run: () => setStep("reverse"),
                needs: "take_back_money" as const,
              },
            ]
          : []),
        { key: "w", label: "Print", run: () => window.print(), disabled: !papersReady },
        { key: "m", label: "Send again", run: () => setSending(true), needs: "send_out" },
        ...(it.applying ? [{ key: "e", label: "Entry and history", run: () => setShows(false) }] : []),
      ]}
      tape={
        it.applying ? (
          <MoneyTape preview={it.shown} />
        ) : (
          <Paper>
            <TapeLines tape={view.tape} />
            {kept && <KeptRoll kept={kept} currency={document.currency} />}
            <Tear />
            <PostedEntries entries={view.entries} base={base} />
            <TrailLines trail={view.trail} />
          </Paper>
        )
      }
    >
      <PrintedPaper kind="credit_memo" id={view.id} />
      <Facts
        facts={[
          ["Credited to", `${view.customer.name}, ${view.customer.address}`],
          invoice
            ? [view.whole ? "Over the whole of" : "Over lines of", invoice.number]
            : ["Invoice", "none, it stands alone"],
          ["Date", date(view.date)],
          ["Why", view.reason],
        ]}
      />
      <GoingOutLines deliveries={view.deliveries} />
      {it.applying && <ApplyPart with={it} />}
      {kept && kept.refunds.length > 0 && <RefundLines refunds={kept.refunds} currency={document.currency} />}
      <Lines label="Lines credited">
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Quantity</th>
            <th>Tax</th>
            <th className="right">Net</th>
          </tr>
        </thead>
        <tbody>
          {document.lines.map((line, at) => (
            <tr key={`${line.code}${line.description}${line.quantity}${line.net}`}>
              <td>
                <b>{line.code}</b> {line.description}
                {line.quantity !== "0" && !view.whole && (
                  <Goods on={view.returned_on[at]} kind={line.kind} out={line.net < 0} />
                )}
              </td>
              <td className="right">
                {line.quantity === "0" ? "off the price" : `${number(line.quantity.replace("-", ""))} ${line.unit}`}
              </td>
              <td>{line.tax.code}</td>
              <td className="right">{money(-line.net, document.currency)}</td>
            </tr>
          ))}
        </tbody>
        <tfoot>
          {(
            [
              ["Net", document.net],
              // Where something goes the other way, tax is shown on each side.
              ...(document.taxes.some((tax) => tax.base < 0)
                ? document.taxes.map((tax) => [taxWords(tax, document.currency, -1), tax.tax] as const)
                : [["Tax", document.tax] as const]),
              [`Credit ${document.currency}`, document.total],
            ] as const
          ).map(([label, amount]) => (
            <tr key={label}>
              <td colSpan={3} className="right">
                {label}
              </td>
              <td className="right">{money(-amount, document.currency)}</td>
            </tr>
          ))}
        </tfoot>
      </Lines>
      {sending && <SendAgainAsk kind="credit_memo" id={view.id} number={view.number} close={() => setSending(false)} />}
      {step === "apply" && <ApplyAsk with={it} close={close} />}
      {step === "refund" && <RefundAsk credit={credit} close={close} />}
      {step === "reverse" && (
        <ReverseRefundAsk refunds={kept?.refunds ?? []} currency={document.currency} close={close} />
      )}
      {step === "unapply" && <TakeBackAsk credit={credit} what="unapply" close={close} />}
    </Worktop>
  );
}

/** What became of what was kept. */
function KeptRoll({ kept, currency }: { kept: KeptCredit; currency: string }) {
  return (
    <>
      <h3>Kept for the customer</h3>
      {kept.discount > 0 && (
        <>
          <div className="l">
            <span>Credited above what was open</span>
            <span>{money(kept.amount + kept.discount, currency)}</span>
          </div>
          <div className="l">
            <span>early-payment discount taken on it</span>
            <span>{money(-kept.discount, currency)}</span>
          </div>
        </>
      )}
      <div className="l">
        <span>Kept</span>
        <span>{money(kept.amount, currency)}</span>
      </div>
      {kept.applied.map((one) => (
        <div className="l" key={one.id}>
          <span>to {one.document.number}</span>
          <span>{money(-one.amount, currency)}</span>
        </div>
      ))}
      <RefundRoll refunds={kept.refunds} currency={currency} />
      <div className="l due">
        <span>Unapplied</span>
        <span>{money(kept.open, currency)}</span>
      </div>
    </>
  );
}
