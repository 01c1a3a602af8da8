import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import type { ReceiptView } from "../api/types";
import { date, money, moneyWithCurrency } from "../format";
import { Facts, Lines, Marked, Scroll, useBase, Wrong } from "../parts/bits";
import { referenceOf, whereabouts } from "../parts/payment";
import { Paper, PostedEntries, TrailLines } from "../parts/TapeRoll";
import { OpenMark, RecordLines, useOpenElsewhere, useOpenHere } from "../parts/together";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";
import { MoneyTape } from "./Applying";
import { ApplyAsk, ApplyPart, type OpenCredit, useApplying } from "./receipt/applying";
import { RefundAsk, RefundLines, RefundRoll, ReverseRefundAsk } from "./receipt/Refund";
import { TakeBackAsk, type TakingBack } from "./receipt/TakeBack";

/** What settled more of an item beside the money. */
function besides(one: ReceiptView["applications"][number]): string[] {
  const said: [number, string][] = [
    [one.discount, "discount"],
    [Math.max(one.written_off, 0), "written off"],
    [Math.max(-one.written_off, 0), "kept as income"],
  ];
  return said.filter(([amount]) => amount !== 0).map(([amount, words]) => `${money(amount, one.currency)} ${words}`);
}

export function ReceiptRoom() {
  const { id = "" } = useParams();
  const receipt = useQuery({
    queryKey: ["receipt", id],
    queryFn: () => got(api.GET("/api/receipts/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!receipt.data) {
    return (
      <Worktop title="Receipt" actions={[]} back="/receipts">
        {receipt.error && <Wrong error={receipt.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} receipt={receipt.data} />;
}

function Opened({ receipt }: { receipt: ReceiptView }) {
  const base = useBase();
  useOpenHere("receipt", receipt.id);
  const openAt = useOpenElsewhere("receipt")(receipt.id);
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const [refunding, setRefunding] = useState<"refund" | "reverse">();
  const [back, setBack] = useState<TakingBack>();
  const [shows, setShows] = useState(receipt.unapplied > 0);
  const credit: OpenCredit = {
    kind: "receipt",
    id: receipt.id,
    number: receipt.number,
    version: receipt.version,
    currency: receipt.currency,
    customer: receipt.customer,
    unapplied: receipt.unapplied,
  };
  const it = useApplying(credit, shows);
  const { applying, open, total } = it;
  const beside = receipt.applications.some((one) => besides(one).length > 0);
  // What was refunded is reversed before the receipt it came from.
  const refunded = receipt.refunds.some((one) => !one.reversed_on);
  return (
    <Worktop
      title={receipt.number}
      sum={
        <>
          {receipt.customer_name} · {moneyWithCurrency(receipt.amount, receipt.currency)}
          <OpenMark names={openAt} />
        </>
      }
      back="/receipts"
      actions={[
        ...(receipt.unapplied > 0
          ? [
              {
                key: "p",
                label: applying ? `Apply ${total}` : open.length > 0 ? "Apply" : "Nothing open to apply to",
                run: () => (applying ? setAsking(true) : setShows(true)),
                primary: true,
                disabled: open.length === 0 || (applying && it.stopped),
                needs: "post_money" as const,
              },
            ]
          : []),
        {
          key: "n",
          label: receipt.reversed_on ? "Enter it again" : "New receipt",
          run: () =>
            navigate(
              receipt.reversed_on ? `/receipts/new?customer=${receipt.customer}&again=${receipt.id}` : "/receipts/new",
            ),
          primary: receipt.unapplied === 0,
          needs: "post_money",
        },
        ...(receipt.unapplied > 0
          ? [
              {
                key: "d",
                label: "Turn into a deposit",
                run: () => navigate(`/prepayments/new?customer=${receipt.customer}&receipt=${receipt.id}`),
                needs: "post_money" as const,
              },
            ]
          : []),
        ...(receipt.unapplied > 0
          ? [{ key: "f", label: "Refund", run: () => setRefunding("refund"), needs: "refund_deposit" as const }]
          : []),
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${receipt.customer}`), quiet: true },
        // What was reserved is freed by its deposit.
        ...(receipt.applications.some((one) => one.document.kind !== "deposit")
          ? [{ key: "u", label: "Unapply", run: () => setBack("unapply"), needs: "take_back_money" as const }]
          : []),
        ...(refunded
          ? [
              {
                key: "x",
                label: "Reverse a refund…",
                run: () => setRefunding("reverse"),
                needs: "take_back_money" as const,
              },
            ]
          : receipt.reversed_on || receipt.whereabouts === "none"
            ? []
            : [
                {
                  key: "x",
                  label: "Reverse receipt",
                  run: () => setBack("reverse"),
                  needs: "take_back_money" as const,
                },
              ]),
        ...(receipt.unapplied > 0
          ? [{ key: "e", label: "Entry and history", run: () => setShows(!shows), quiet: false }]
          : []),
      ]}
      tape={
        applying ? (
          <MoneyTape preview={it.shown} />
        ) : (
          <Paper>
            <h2>
              {receipt.customer_name}
              <br />
              <span>
                {receipt.number}, {receipt.method} of {date(receipt.date)}
              </span>
            </h2>
            <div className="l">
              <span>Received</span>
              <span>{money(receipt.amount, receipt.currency)}</span>
            </div>
            {receipt.applications.map((one) => (
              <Fragment key={one.id}>
                <div className="l">
                  <span>to {one.document.number}</span>
                  <span>{money(-one.amount, receipt.currency)}</span>
                </div>
                {besides(one).map((line) => (
                  <div className="l dim" key={line}>
                    <span>{line}</span>
                    <span />
                  </div>
                ))}
              </Fragment>
            ))}
            <RefundRoll refunds={receipt.refunds} currency={receipt.currency} />
            <div className="l due">
              <span>Unapplied</span>
              <span>{money(receipt.unapplied, receipt.currency)}</span>
            </div>
            <div className="tear" />
            <PostedEntries entries={receipt.entries} base={base} />
            <TrailLines trail={receipt.trail} />
            <RecordLines kind="receipt" id={receipt.id} />
          </Paper>
        )
      }
    >
      <Facts
        facts={[
          [
            "Method",
            <Fragment key="m">
              {receipt.method}, {receipt.reversed_on ? "reversed" : whereabouts(receipt)}
              {receipt.slip && (
                <>
                  {" "}
                  · <Link to={placeOf(receipt.slip)}>{receipt.slip.number}</Link>
                </>
              )}
            </Fragment>,
          ],
          ["Date", date(receipt.date)],
          ["Reference", referenceOf(receipt)],
          [
            "Unapplied",
            receipt.unapplied > 0 ? (
              <Marked key="u" className="heed">
                ▲ {money(receipt.unapplied, receipt.currency)}
              </Marked>
            ) : (
              <Marked key="u" className="done">
                ● none
              </Marked>
            ),
          ],
        ]}
      />
      {receipt.reversed_on && (
        <p style={{ margin: "0 0 10px" }}>
          Reversed on {date(receipt.reversed_on)}: {receipt.reversal_reason}. What it had settled is open again.
          {receipt.fee_base > 0 && ` The bank took ${moneyWithCurrency(receipt.fee_base, base)} for it.`}
        </p>
      )}
      <Scroll>
        {receipt.applications.length > 0 && (
          <Lines label="Where it went">
            <thead>
              <tr>
                <th>Applied to</th>
                <th>On</th>
                <th className="right">Amount {receipt.currency}</th>
                {beside && <th>Beside it</th>}
                <th className="right">Still open</th>
              </tr>
            </thead>
            <tbody>
              {receipt.applications.map((one) => (
                <tr key={one.id}>
                  <td>
                    <Link to={placeOf(one.document)}>{one.document.number}</Link>
                  </td>
                  <td className="dim">{date(one.date)}</td>
                  <td className="right">{money(one.amount, receipt.currency)}</td>
                  {beside && <td>{besides(one).join(", ")}</td>}
                  <td className="right">
                    {one.document.kind === "deposit" ? (
                      <span className="dim">reserved</span>
                    ) : one.open === 0 ? (
                      <Marked className="done">settled</Marked>
                    ) : (
                      money(one.open, one.currency)
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
        {receipt.refunds.length > 0 && <RefundLines refunds={receipt.refunds} currency={receipt.currency} />}
        <ApplyPart with={it} />
      </Scroll>
      {back && (
        <TakeBackAsk
          credit={credit}
          what={back}
          atBank={receipt.whereabouts === "at_bank" || receipt.whereabouts === "cleared"}
          close={() => setBack(undefined)}
        />
      )}
      {refunding === "refund" && <RefundAsk credit={credit} close={() => setRefunding(undefined)} />}
      {refunding === "reverse" && (
        <ReverseRefundAsk refunds={receipt.refunds} currency={receipt.currency} close={() => setRefunding(undefined)} />
      )}
      {asking && <ApplyAsk with={it} close={() => setAsking(false)} />}
    </Worktop>
  );
}
