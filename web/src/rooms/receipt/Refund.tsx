import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { RefundView } from "../../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency, typedDecimal } from "../../format";
import { Lines, useEverythingChanged, useSettled } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { usePaymentMethods } from "../../parts/methods";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import type { OpenCredit } from "./applying";

/** Pays back what lies unapplied: what that does, before it is done. */
export function RefundAsk({ credit, close }: { credit: OpenCredit; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const methods = usePaymentMethods().filter((one) => one.kind === "bank" || one.kind === "drawer");
  const whole = decimal(credit.unapplied, exponentOf(credit.currency));
  const [amount, setAmount] = useState(whole);
  const [chosen, setMethod] = useState<string>();
  const [day, setDay] = useState("");
  const method = chosen ?? methods[0]?.code ?? "";
  const path = { id: credit.id };
  // The reason is asked for below; what it does to the books is the same for any.
  const body = { amount: typedDecimal(amount) || null, method, date: day || null, reason: "to be said" };
  const settled = useSettled(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ["refund-preview", credit.kind, credit.id, credit.version, settled],
    queryFn: () =>
      credit.kind === "receipt"
        ? got(api.POST("/api/receipts/{id}/refund/preview", { params: { path }, body: JSON.parse(settled) }))
        : got(api.POST("/api/credit-memos/{id}/refund/preview", { params: { path }, body: JSON.parse(settled) })),
    enabled: method !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const shown = preview.error ? undefined : preview.data;
  return (
    <FormAsk
      title={`Refund ${credit.number}?`}
      yes={shown ? `Refund · ${moneyWithCurrency(shown.amount, credit.currency)}` : "Refund"}
      close={close}
      fields={[
        {
          name: "amount",
          label: `Amount, ${credit.currency}`,
          value: whole,
          right: true,
          hint: `${moneyWithCurrency(credit.unapplied, credit.currency)} is unapplied`,
          changed: setAmount,
        },
        {
          name: "method",
          label: "Sent back by",
          value: method,
          choices: methods.map((one): [string, string] => [one.code, one.name]),
          changed: setMethod,
        },
        { name: "reason", label: "Why", kind: "words" },
        { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the business date", changed: setDay },
      ]}
      run={async (values, key) => {
        if (!shown || settled !== JSON.stringify(body)) {
          throw preview.error instanceof Problem
            ? preview.error
            : new Problem({ title: "One moment, then try again." });
        }
        const params = { path, header: keyed(key) };
        const wish = {
          ...body,
          reason: values.reason ?? "",
          version: credit.version,
          seen: shown.fingerprint,
        };
        const done = await (credit.kind === "receipt"
          ? got(api.POST("/api/receipts/{id}/refund", { params, body: wish }))
          : got(api.POST("/api/credit-memos/{id}/refund", { params, body: wish })));
        say(
          done.waits != null
            ? {
                kind: "done",
                text: "This is above your limit: it waits for a supervisor, and nothing has changed yet.",
                links: [{ text: "Look at the request", to: `/approvals/${done.waits}` }],
              }
            : { kind: "done", text: `${done.number} pays ${moneyWithCurrency(shown.amount, credit.currency)} back.` },
        );
        await changed();
      }}
    >
      What is paid back is gone from {credit.number}: it can no longer be applied.
      {shown && (
        <WhatItDoes
          does={{ blockers: shown.blockers, changes: shown.changes }}
          entries={shown.entry ? [shown.entry] : []}
          height={190}
        />
      )}
    </FormAsk>
  );
}

/** Reverses a refund that was never sent. */
export function ReverseRefundAsk({
  refunds,
  currency,
  close,
}: {
  refunds: RefundView[];
  currency: string;
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const standing = refunds.filter((one) => !one.reversed_on);
  return (
    <FormAsk
      title="Reverse a refund?"
      yes="Reverse refund"
      no="Close"
      close={close}
      fields={[
        {
          name: "refund",
          label: "Refund",
          value: String(standing[standing.length - 1]?.id ?? ""),
          choices: standing.map((one): [string, string] => [
            String(one.id),
            `${one.number} of ${date(one.date)}, ${moneyWithCurrency(one.amount, currency)}`,
          ]),
        },
        { name: "reason", label: "Why", kind: "words" },
        { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the business date" },
      ]}
      run={async (values, key) => {
        const one = standing.find((refund) => String(refund.id) === values.refund);
        await got(
          api.POST("/api/refunds/{id}/reverse", {
            params: { path: { id: Number(values.refund) }, header: keyed(key) },
            body: { reason: values.reason ?? "", date: values.date || null },
          }),
        );
        say({
          kind: "done",
          text: `${one?.number ?? "The refund"} is reversed: what it paid back is unapplied again.`,
        });
        await changed();
      }}
    >
      For a refund that was never sent. The entry is turned round, the money is unapplied again.
    </FormAsk>
  );
}

/** What was paid back, on the roll; what was reversed is not gone. */
export function RefundRoll({ refunds, currency }: { refunds: RefundView[]; currency: string }) {
  return refunds
    .filter((one) => !one.reversed_on)
    .map((one) => (
      <div className="l" key={one.id}>
        <span>refunded, {one.number}</span>
        <span>{money(-one.amount, currency)}</span>
      </div>
    ));
}

/** Refunds, as a table. */
export function RefundLines({ refunds, currency }: { refunds: RefundView[]; currency: string }) {
  return (
    <Lines label="Refunds">
      <thead>
        <tr>
          <th>Refund</th>
          <th>On</th>
          <th>Why</th>
          <th className="right">Amount {currency}</th>
        </tr>
      </thead>
      <tbody>
        {refunds.map((one) => (
          <tr key={one.id}>
            <td>
              <b>{one.number}</b> <span className="dim">{one.method}</span>
            </td>
            <td className="dim">{date(one.date)}</td>
            <td>
              {one.reason}
              {one.reversed_on && <span className="dim"> · reversed {date(one.reversed_on)}</span>}
            </td>
            <td className="right">{money(one.amount, currency)}</td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}
