import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey } from "../../api/client";
import type { PaymentRequestView } from "../../api/types";
import { date, money, moneyWithCurrency, sentence } from "../../format";
import { Facts, Lines, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { usePaymentMethods } from "../../parts/methods";
import { PrintedPaper, usePapersReady } from "../../parts/PrintedPaper";
import { Paper, TapeLines, WhatItDoes } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { AdvanceCells, AdvanceHead } from "./lines";

const states = { open: "to be paid", paid: "paid", withdrawn: "withdrawn" };

/** A request for payment in advance: no entry before it is paid. */
export function PaymentRequestRoom() {
  const { id = "" } = useParams();
  const request = useQuery({
    queryKey: ["payment-request", id],
    queryFn: () => got(api.GET("/api/payment-requests/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!request.data) {
    return (
      <Worktop title="Payment request" actions={[]} back="/prepayments/invoices">
        {request.error && <Wrong error={request.error} />}
      </Worktop>
    );
  }
  return <Opened request={request.data} />;
}

function Opened({ request }: { request: PaymentRequestView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const papersReady = usePapersReady();
  const [asking, setAsking] = useState<"pay" | "withdraw">();
  const { document, order } = request;
  const open = request.state === "open";
  const total = moneyWithCurrency(request.total, request.currency);
  const close = () => setAsking(undefined);
  return (
    <Worktop
      title={`Payment request ${request.number}`}
      sum={`${request.customer.name} · ${total} ${states[request.state]}`}
      back={`/orders/${order.id}`}
      actions={[
        ...(open
          ? [
              {
                key: "r",
                label: `Record receipt · ${total}`,
                run: () => setAsking("pay"),
                primary: true,
                needs: "post_money" as const,
              },
            ]
          : []),
        { key: "w", label: "Print", run: () => window.print(), disabled: !papersReady },
        { key: "o", label: `Open ${order.number}`, run: () => navigate(`/orders/${order.id}`) },
        ...(open
          ? [{ key: "x", label: "Withdraw", run: () => setAsking("withdraw"), needs: "post_invoice" as const }]
          : []),
      ]}
      tape={
        <Paper>
          <TapeLines tape={request.tape} />
          <div className="words quiet" style={{ marginTop: 8 }}>
            {open && "No entry before it is paid."}
            {request.withdrawn_because && `Withdrawn: ${request.withdrawn_because}.`}
            {request.invoice && `Paid: it is ${request.invoice.number} now.`}
          </div>
          <RecordLines kind="payment_request" id={request.id} />
        </Paper>
      }
    >
      <PrintedPaper kind="payment_request" id={request.id} />
      <Facts
        facts={[
          ["To", `${request.customer.name}, ${request.customer.address}`],
          ["For", order.number],
          ["Sent", date(request.requested_on)],
          ["Pay by", date(request.due_date)],
        ]}
      />
      <Lines label="Lines of the request">
        <AdvanceHead gross={document.gross_priced} />
        <tbody>
          {document.lines.map((line) => (
            <AdvanceCells
              key={line.from === "prepaid" ? line.in_advance_of : line.code}
              line={line}
              currency={request.currency}
            />
          ))}
        </tbody>
        <tfoot>
          {(
            [
              ["Net", document.net],
              ["Tax, due as it is paid", document.tax],
              [`Total ${request.currency}`, document.total],
            ] as const
          ).map(([label, amount]) => (
            <tr key={label}>
              <td colSpan={6} className="right">
                {label}
              </td>
              <td className="right">{money(amount, request.currency)}</td>
            </tr>
          ))}
        </tfoot>
      </Lines>
      {asking === "pay" && <PayAsk request={request} close={close} />}
      {asking === "withdraw" && (
        <FormAsk
          title={`Withdraw ${request.number}?`}
          yes={`Withdraw · ${total}`}
          close={close}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          run={async (values, key) => {
            await got(
              api.POST("/api/payment-requests/{id}/withdraw", {
                params: { path: { id: request.id }, header: keyed(key) },
                body: { version: request.version, reason: values.reason ?? "" },
              }),
            );
            say({ kind: "done", text: `${request.number} is withdrawn. Nothing was posted for it.` });
            await changed();
          }}
        >
          Nothing was posted for it. What the customer has in hands is void: tell them.
        </FormAsk>
      )}
    </Worktop>
  );
}

/** The money for a request: what it makes of it, before it is done. */
function PayAsk({ request, close }: { request: PaymentRequestView; close: () => void }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const methods = usePaymentMethods();
  const [chosen, setChosen] = useState<string>();
  const [day, setDay] = useState("");
  const method = chosen ?? methods[0]?.code ?? "";
  const total = moneyWithCurrency(request.total, request.currency);
  const preview = useQuery({
    queryKey: ["pay-request", request.id, request.version, method, day],
    queryFn: () =>
      got(
        api.POST("/api/payment-requests/{id}/pay/preview", {
          params: { path: { id: request.id }, header: keyed(newKey()) },
          body: { method, date: day || null },
        }),
      ),
    enabled: !!method,
    retry: false,
    gcTime: 0,
  });
  return (
    <FormAsk
      title={`Record the receipt for ${request.number}?`}
      yes={`Post · ${total}`}
      close={close}
      fields={[
        {
          name: "method",
          label: "Method",
          value: method,
          choices: methods.map((one): [string, string] => [one.code, sentence(one.name)]),
          changed: setChosen,
        },
        {
          name: "date",
          label: "Date",
          kind: "date",
          hint: "Leave empty to use the business date",
          changed: setDay,
        },
        { name: "reference", label: "Reference" },
      ]}
      run={async (values, key) => {
        const paid = await got(
          api.POST("/api/payment-requests/{id}/pay", {
            params: { path: { id: request.id }, header: keyed(key) },
            body: {
              version: request.version,
              method: values.method ?? method,
              date: values.date || null,
              reference: values.reference || null,
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        );
        say({ kind: "done", text: `${request.number} is paid: ${paid.invoice.number} posted · ${total}.` });
        await changed();
        navigate(`/invoices/${paid.invoice.id}`);
      }}
    >
      It becomes a prepayment invoice of that day, and the money settles it at once.
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (
        <WhatItDoes does={{ ...preview.data, blockers: [] }} entries={preview.data.entries} height={200} />
      )}
    </FormAsk>
  );
}
