import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import type { OrderView, PaymentRequestRow, PrepaymentRow } from "../../api/types";
import { date, money } from "../../format";
import { Lines, Marked } from "../../parts/bits";
import { useMay } from "../../shell/session";
import { CreditAdvanceAsk } from "./credit";

/** What was billed in advance of an order, what of it is used, and what is to be credited. */
export function OrderPrepayments({ order }: { order: OrderView }) {
  const plan = useQuery({
    queryKey: ["advance", order.id, order.version],
    queryFn: () => got(api.GET("/api/orders/{id}/advance", { params: { path: { id: order.id } } })),
    enabled: order.state !== "draft",
  });
  return (
    <>
      <PrepaymentLines rows={plan.data?.invoices ?? []} currency={order.currency} />
      <RequestLines rows={plan.data?.requests ?? []} currency={order.currency} />
    </>
  );
}

/** Prepayment invoices of one order, each with its next step. */
export function PrepaymentLines({ rows, currency }: { rows: PrepaymentRow[]; currency: string }) {
  const may = useMay();
  const [crediting, setCrediting] = useState<PrepaymentRow>();
  if (rows.length === 0) {
    return null;
  }
  return (
    <>
      <Lines label="Prepayment invoices of the order">
        <thead>
          <tr>
            <th>Prepayment invoice</th>
            <th>Date</th>
            <th className="right">Total {currency}</th>
            <th className="right">Balance due</th>
            <th className="right">Net</th>
            <th className="right">Used</th>
            <th className="right">Credited</th>
            <th className="right">Left</th>
            <th aria-label="Next step" />
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.id}>
              <td>
                <Link to={`/invoices/${row.id}`}>{row.number}</Link>
              </td>
              <td className="dim" style={{ whiteSpace: "nowrap" }}>
                {date(row.document_date)}
              </td>
              <td className="right">{money(row.total, currency)}</td>
              <td className="right">
                {row.open > 0 ? money(row.open, currency) : <Marked className="dim">paid</Marked>}
              </td>
              <td className="right">{money(row.net, currency)}</td>
              <td className="right">{row.used > 0 && money(row.used, currency)}</td>
              <td className="right">{row.credited > 0 && money(row.credited, currency)}</td>
              <td className="right">{row.left > 0 && money(row.left, currency)}</td>
              <td className="right">
                {row.left > 0 && may("cancel_invoice") && (
                  <button
                    type="button"
                    className="quietly"
                    title={row.to_credit.length > 0 ? "What belongs to canceled lines is to be credited" : undefined}
                    onClick={() => setCrediting(row)}
                  >
                    {row.to_credit.length > 0 ? <Marked className="heed">▲ Credit…</Marked> : "Credit…"}
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Lines>
      {crediting && <CreditAdvanceAsk row={crediting} close={() => setCrediting(undefined)} />}
    </>
  );
}

/** Requests for payment of one order, and what became of each. */
export function RequestLines({ rows, currency }: { rows: PaymentRequestRow[]; currency: string }) {
  if (rows.length === 0) {
    return null;
  }
  return (
    <Lines label="Requests for payment of the order">
      <thead>
        <tr>
          <th>Payment request</th>
          <th>Sent</th>
          <th>Pay by</th>
          <th className="right">Total {currency}</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.id}>
            <td>
              <Link to={`/payment-requests/${row.id}`}>{row.number}</Link>
            </td>
            <td className="dim">{date(row.requested_on)}</td>
            <td className="dim">{date(row.due_date)}</td>
            <td className="right">{money(row.total, currency)}</td>
            <td>
              {row.state === "open" && "to be paid"}
              {row.state === "withdrawn" && <Marked className="dim">withdrawn</Marked>}
              {row.invoice && (
                <>
                  paid, <Link to={`/invoices/${row.invoice.id}`}>{row.invoice.number}</Link>
                </>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}
