import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { InvoiceView } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";

/** Cancels a posted invoice with a credit memo for all of it: what that does, before it is done. */
export function CancelAsk({ invoice, close }: { invoice: InvoiceView; close: () => void }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const preview = useQuery({
    queryKey: ["cancel", invoice.id, invoice.version, day],
    queryFn: () =>
      got(
        api.POST("/api/invoices/{id}/cancel/preview", {
          params: { path: { id: invoice.id } },
          // The reason is asked for below; what it does to the books is the same for any.
          body: { reason: "to be said", date: day || null },
        }),
      ),
    gcTime: 0,
  });
  const total = invoice.document ? moneyWithCurrency(invoice.document.total, invoice.document.currency) : "";
  return (
    <FormAsk
      title={`Cancel ${invoice.number}?`}
      yes={`Cancel · ${total}`}
      no="Close"
      close={close}
      fields={[
        { name: "reason", label: "Why", kind: "words" },
        {
          name: "date",
          label: "Date of the credit memo",
          kind: "date",
          hint: "Leave empty to use the business date",
          changed: setDay,
        },
        { name: "rebill", label: "Put what it billed on a new draft at once", kind: "tick" },
      ]}
      run={async (values, key) => {
        const done = await got(
          api.POST("/api/invoices/{id}/cancel", {
            params: { path: { id: invoice.id }, header: keyed(key) },
            body: {
              reason: values.reason ?? "",
              date: values.date || null,
              rebill: values.rebill === "on",
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        );
        if (done.waits != null) {
          say({
            kind: "done",
            text: "This is above your limit: it waits for a supervisor, and nothing has changed yet.",
            links: [{ text: "Look at the request", to: `/approvals/${done.waits}` }],
          });
        } else {
          say({
            kind: "done",
            text: `${invoice.number} is canceled by ${done.number}. ${done.draft ? "What it billed is on a new draft." : "What it billed is unbilled again."}`,
            links: [{ text: `Open ${done.number}`, to: `/credit-memos/${done.credit_memo}` }],
          });
          if (done.draft != null) {
            navigate(`/invoices/${done.draft}`);
          }
        }
        await changed();
      }}
    >
      A credit memo for all of it turns its entry round. Receipts on it become unapplied money.
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entries} />}
    </FormAsk>
  );
}
