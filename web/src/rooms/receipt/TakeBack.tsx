import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { BackPreview } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import type { OpenCredit } from "./applying";

/** Unapplied: the money stays with the customer. Reversed: it was never received. */
export type TakingBack = "unapply" | "reverse";

/** Takes applications of a credit back, or all of a receipt: what that does, before it is done. */
export function TakeBackAsk({ credit, what, close }: { credit: OpenCredit; what: TakingBack; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const path = { id: credit.id };
  const preview = useQuery({
    queryKey: ["take-back", what, credit.kind, credit.id, credit.version, day],
    queryFn: (): Promise<BackPreview> => {
      // The reason is asked for below; what it does to the books is the same for any.
      const body = { date: day || null, reason: "to be said" };
      if (credit.kind === "credit_memo") {
        return got(api.POST("/api/credit-memos/{id}/unapply/preview", { params: { path }, body }));
      }
      return what === "unapply"
        ? got(api.POST("/api/receipts/{id}/unapply/preview", { params: { path }, body }))
        : got(api.POST("/api/receipts/{id}/reverse/preview", { params: { path }, body }));
    },
    gcTime: 0,
    retry: false,
  });
  const total = preview.data ? moneyWithCurrency(preview.data.amount, credit.currency) : "";
  const verb = what === "unapply" ? "Unapply" : "Reverse";
  return (
    <FormAsk
      title={what === "unapply" ? `Unapply what ${credit.number} settled?` : `Reverse ${credit.number}?`}
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
          version: credit.version,
          reason: values.reason ?? "",
          date: values.date || null,
          seen: preview.data?.fingerprint ?? "",
        };
        const params = { path, header: keyed(key) };
        if (credit.kind === "credit_memo") {
          await got(api.POST("/api/credit-memos/{id}/unapply", { params, body }));
        } else if (what === "unapply") {
          await got(api.POST("/api/receipts/{id}/unapply", { params, body }));
        } else {
          await got(api.POST("/api/receipts/{id}/reverse", { params, body }));
        }
        say({
          kind: "done",
          text:
            what === "unapply"
              ? `${total} of ${credit.number} is unapplied.`
              : `${credit.number} is reversed. What it had settled is open again.`,
          links:
            what === "unapply"
              ? []
              : [{ text: "Enter it again", to: `/receipts/new?customer=${credit.customer}&again=${credit.id}` }],
        });
        await changed();
      }}
    >
      {what === "unapply"
        ? "It stays with the customer without a target; what it had settled is open again."
        : "For a receipt that was typed in error: the wrong customer, the wrong amount. The entry is turned round."}
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entries.map((one) => one.entry)} />}
    </FormAsk>
  );
}
