import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { CreditLine, PrepaymentRow } from "../../api/types";
import { moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";

const fieldOf = (line: CreditLine) => `lines.${line.position}.amount`;

/** What was refused of the lines that were sent, at the field of its line. */
function atItsLine(error: unknown, sent: CreditLine[]): unknown {
  const at = error instanceof Problem && /^lines\.(\d+)\.amount$/.exec(error.field ?? "")?.[1];
  const line = at ? sent[Number(at)] : undefined;
  return error instanceof Problem && line
    ? new Problem({ title: error.message, code: error.code, field: fieldOf(line) })
    : error;
}

/** Credits what of a prepayment invoice is not used: what that does, before it is done. */
export function CreditAdvanceAsk({ row, close }: { row: PrepaymentRow; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const canceled = row.to_credit.length > 0;
  const [what, setWhat] = useState(canceled ? "canceled" : "all");
  const [amounts, setAmounts] = useState<Record<number, string>>({});
  const typed = row.all_left
    .map((line) => ({ ...line, amount: typedDecimal(amounts[line.position] ?? "") }))
    .filter((line) => line.amount !== "");
  const lines: CreditLine[] = what === "canceled" ? row.to_credit : what === "all" ? row.all_left : typed;
  const preview = useQuery({
    queryKey: ["credit-advance", row.id, row.left, lines, day],
    queryFn: () =>
      got(
        api.POST("/api/invoices/{id}/credit/preview", {
          params: { path: { id: row.id } },
          // The reason is asked for below; what it does to the books is the same for any.
          body: { lines, reason: "to be said", date: day || null },
        }),
      ),
    enabled: lines.length > 0,
    retry: false,
    gcTime: 0,
  });
  const total = Math.abs(preview.data?.tape.lines.findLast((line) => line.style === "due")?.amount ?? 0);
  const said = preview.data ? ` · ${moneyWithCurrency(total, row.currency)}` : "";
  return (
    <FormAsk
      title={`Credit ${row.number}?`}
      yes={`Credit${said}`}
      close={close}
      fields={[
        {
          name: "what",
          label: "What",
          value: what,
          choices: [
            ...(canceled ? ([["canceled", "what belongs to canceled lines"]] as [string, string][]) : []),
            ["all", "all that is not used"],
            ["amount", "an amount"],
          ],
          changed: setWhat,
        },
        ...(what === "amount"
          ? row.all_left.map((line) => ({
              name: fieldOf(line),
              label: row.all_left.length > 1 ? `Amount of line ${line.position + 1}` : "Amount",
              hint: `${line.amount} at most`,
              right: true,
              changed: (amount: string) => setAmounts((now) => ({ ...now, [line.position]: amount })),
            }))
          : []),
        { name: "reason", label: "Why", kind: "words" as const },
        {
          name: "date",
          label: "Date of the credit memo",
          kind: "date" as const,
          hint: "Leave empty to use the business date",
          changed: setDay,
        },
      ]}
      run={async (values, key) => {
        const done = await got(
          api.POST("/api/invoices/{id}/credit", {
            params: { path: { id: row.id }, header: keyed(key) },
            body: {
              lines,
              reason: values.reason ?? "",
              date: values.date || null,
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        ).catch((error: unknown) => {
          throw atItsLine(error, lines);
        });
        say(
          done.waits != null
            ? {
                kind: "done",
                text: "This is above your limit: it waits for a supervisor, and nothing has changed yet.",
                links: [{ text: "Look at the request", to: `/approvals/${done.waits}` }],
              }
            : {
                kind: "done",
                text: `${done.number} credits ${moneyWithCurrency(total, row.currency)} of ${row.number}.`,
                links: [{ text: `Open ${done.number}`, to: `/credit-memos/${done.credit_memo}` }],
              },
        );
        await changed();
      }}
    >
      What is open of {row.number} is settled by it first; what was paid is kept for the customer, unapplied.
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entry ? [preview.data.entry] : []} />}
    </FormAsk>
  );
}
