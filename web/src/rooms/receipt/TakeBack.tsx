import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { BackPreview, ReceiptView } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";

/** Unapplied: the money stays with the customer. Reversed: it was never received. */
export type TakingBack = "unapply" | "reverse";

/** Takes applications of a receipt back, or all of it: what that does, before it is done. */
export function TakeBackAsk({ receipt, what, close }: { receipt: ReceiptView; what: TakingBack; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const path = { id: receipt.id };
  const preview = useQuery({
    queryKey: ["take-back", what, receipt.id, receipt.version, day],
    queryFn: (): Promise<BackPreview> => {
      // The reason is asked for below; what it does to the books is the same for any.
      const body = { date: day || null, reason: "to be said" };
      return what === "unapply"
        ? got(api.POST("/api/receipts/{id}/unapply/preview", { params: { path }, body }))
        : got(api.POST("/api/receipts/{id}/reverse/preview", { params: { path }, body }));
    },
    gcTime: 0,
    retry: false,
  });
  const total = preview.data ? moneyWithCurrency(preview.data.amount, receipt.currency) : "";
  const verb = what === "unapply" ? "Unapply" : "Reverse";
  return (
    <FormAsk
      title={what === "unapply" ? `Unapply what ${receipt.number} settled?` : `Reverse ${receipt.number}?`}
      yes={`${verb} · ${total}`}
      close={close}
      fields={[
        { name: "reason", label: "Why", kind: "words" },
        {
          name: "date",
          label: "Date",
          kind: "date",
          hint: "Leave empty to use the business date",
          changed: setDay,
        },
      ]}
      run={async (values, key) => {
        const body = {
          version: receipt.version,
          reason: values.reason ?? "",
          date: values.date || null,
          seen: preview.data?.fingerprint ?? "",
        };
        const params = { path, header: keyed(key) };
        await (what === "unapply"
          ? got(api.POST("/api/receipts/{id}/unapply", { params, body }))
          : got(api.POST("/api/receipts/{id}/reverse", { params, body })));
        say({
          kind: "done",
          text:
            what === "unapply"
              ? `${total} of ${receipt.number} is unapplied.`
              : `${receipt.number} is reversed. What it had settled is open again.`,
          links:
            what === "unapply"
              ? []
              : [{ text: "Enter it again", to: `/receipts/new?customer=${receipt.customer}&again=${receipt.id}` }],
        });
        await changed();
      }}
    >
      {what === "unapply"
        ? "The money stays with the customer without a target; what it had settled is open again."
        : "For a receipt that was typed in error: the wrong customer, the wrong amount. The entry is turned round."}
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entries.map((one) => one.entry)} />}
    </FormAsk>
  );
}
