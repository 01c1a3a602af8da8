import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import type { DocumentRef } from "../api/types";
import { date, money, moneyWithCurrency, number, percent } from "../format";
import { Facts, Lines, useBase, Wrong } from "../parts/bits";
import { PrintedPaper, usePapersReady } from "../parts/PrintedPaper";
import { Paper, PostedEntries, TapeLines, Tear, TrailLines } from "../parts/TapeRoll";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";
import { GoingOutLines, SendAgainAsk } from "./goingout/parts";

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

/** A credit memo over the whole of an invoice, as it is and stays. */
export function CreditMemoRoom() {
  const { id = "" } = useParams();
  const base = useBase();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const papersReady = usePapersReady();
  const memo = useQuery({
    queryKey: ["credit-memo", id],
    queryFn: () => got(api.GET("/api/credit-memos/{id}", { params: { path: { id: Number(id) } } })),
  });
  const view = memo.data;
  if (!view) {
    return (
      <Worktop title="Credit memo" actions={[]} back="/billing/invoices">
        {memo.error && <Wrong error={memo.error} />}
      </Worktop>
    );
  }
  const { document } = view;
  return (
    <Worktop
      title={view.number}
      sum={`${view.customer.name} · ${moneyWithCurrency(document.total, document.currency)} credited`}
      back="/billing/credit-memos"
      actions={[
        { key: "o", label: `Open ${view.invoice.number}`, run: () => navigate(placeOf(view.invoice)), primary: true },
        { key: "w", label: "Print", run: () => window.print(), disabled: !papersReady },
        { key: "m", label: "Send again", run: () => setAsking(true), needs: "send_out" },
      ]}
      tape={
        <Paper>
          <TapeLines tape={view.tape} />
          <Tear />
          <PostedEntries entries={view.entries} base={base} />
          <TrailLines trail={view.trail} />
        </Paper>
      }
    >
      <PrintedPaper kind="credit_memo" id={view.id} />
      <Facts
        facts={[
          ["Credited to", `${view.customer.name}, ${view.customer.address}`],
          [view.whole ? "Over the whole of" : "Over lines of", view.invoice.number],
          ["Date", date(view.date)],
          ["Why", view.reason],
        ]}
      />
      <GoingOutLines deliveries={view.deliveries} />
      <Lines label="Lines taken back">
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
                ? document.taxes.map(
                    (tax) => [`Tax ${percent(tax.rate)} of ${money(-tax.base, document.currency)}`, tax.tax] as const,
                  )
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
      {asking && <SendAgainAsk kind="credit_memo" id={view.id} number={view.number} close={() => setAsking(false)} />}
    </Worktop>
  );
}
