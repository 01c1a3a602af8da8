import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { BackPreview } from "../../api/types";
import { moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged, useSettled } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useGoods } from "../../parts/form";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import type { OpenCredit } from "./applying";

/** Unapplied: the money stays with the customer. Reversed: it was never received. */
export type TakingBack = "unapply" | "reverse";

/** What was typed about a payment that came back. */
interface Returned {
  fee?: string | undefined;
  code?: string | undefined;
  amount?: string | undefined;
}

function asReturned({ fee, code, amount }: Returned) {
  return {
    fee: typedDecimal(fee ?? "") || null,
    charge: code ? { tax_code: code, amount: typedDecimal(amount ?? "") || null } : null,
  };
}

/** Takes applications of a credit back, or all of a receipt: what that does, before it is done. */
export function TakeBackAsk({
  credit,
  what,
  atBank = false,
  close,
}: {
  credit: OpenCredit;
  what: TakingBack;
  /** Whether its money was at the bank: what came back from there may have cost a fee. */
  atBank?: boolean;
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const [typed, setTyped] = useState<Returned>({});
  const goods = useGoods();
  const returned = useSettled(JSON.stringify(what === "reverse" && atBank ? asReturned(typed) : {}));
  const path = { id: credit.id };
  const preview = useQuery({
    queryKey: ["take-back", what, credit.kind, credit.id, credit.version, day, returned],
    queryFn: (): Promise<BackPreview> => {
      // The reason is asked for below; what it does to the books is the same for any.
      const body = { date: day || null, reason: "to be said" };
      if (credit.kind === "credit_memo") {
        return got(api.POST("/api/credit-memos/{id}/unapply/preview", { params: { path }, body }));
      }
      return what === "unapply"
        ? got(api.POST("/api/receipts/{id}/unapply/preview", { params: { path }, body }))
        : got(
            api.POST("/api/receipts/{id}/reverse/preview", {
              params: { path },
              body: { ...body, ...(JSON.parse(returned) as ReturnType<typeof asReturned>) },
            }),
          );
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
        ...(what === "reverse" && atBank
          ? [
              {
                name: "fee",
                label: "Fee of the bank",
                right: true,
                hint: "where it came back unpaid and the bank took both in one",
                changed: (fee: string) => setTyped((before) => ({ ...before, fee })),
              },
              {
                name: "charge.tax_code",
                label: "Charged to the customer",
                choices: [
                  ["", "no"],
                  ...(goods?.tax_codes ?? []).map((code): [string, string] => [
                    code.code,
                    `yes, ${code.code} · ${code.name}`,
                  ]),
                ] as [string, string][],
                changed: (code: string) => setTyped((before) => ({ ...before, code })),
              },
              {
                name: "charge.amount",
                label: `Charge ${credit.currency}`,
                right: true,
                hint: "empty for what the bank takes",
                changed: (amount: string) => setTyped((before) => ({ ...before, amount })),
              },
            ]
          : []),
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
          const returned = atBank
            ? asReturned({ fee: values.fee, code: values["charge.tax_code"], amount: values["charge.amount"] })
            : {};
          await got(api.POST("/api/receipts/{id}/reverse", { params, body: { ...body, ...returned } }));
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
        : atBank
          ? "For a payment that came back, and for a receipt that was typed in error. What it had settled is open again."
          : "For a receipt that was typed in error: the wrong customer, the wrong amount. The entry is turned round."}
      {preview.error instanceof Problem && (
        <p className="wrong" role="alert">
          {preview.error.message}
        </p>
      )}
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entries.map((one) => one.entry)} />}
    </FormAsk>
  );
}
