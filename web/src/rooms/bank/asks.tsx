import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem } from "../../api/client";
import type { BankLineView, CustomerRow, ToAccept } from "../../api/types";
import { decimal, exponentOf, money, typedDecimal } from "../../format";
import { FormAsk } from "../../parts/FormAsk";
import { useGoods } from "../../parts/form";
import { WhatItDoes } from "../../parts/TapeRoll";
import { PayerField } from "../receipt/PayerField";

const NOBODY: CustomerRow[] = [];

/** Whose receipt a line is, where what was suggested is wrong: what it goes to is suggested anew. */
export function PaidByAsk({
  line,
  currency,
  close,
  run,
}: {
  line: BankLineView;
  currency: string;
  close: () => void;
  run: (key: string, wish: ToAccept, seen: string) => Promise<void>;
}) {
  const [customer, setCustomer] = useState<number>();
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const wish: ToAccept = { as: "receipt", customer: customer ?? 0, applications: null };
  const preview = useQuery({
    queryKey: ["bank-line", "paid-by", line.id, customer],
    queryFn: () =>
      got(api.POST("/api/bank-lines/{id}/accept/preview", { params: { path: { id: line.id } }, body: wish })),
    enabled: !!customer,
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const shown = customer && !preview.error && !preview.isFetching ? preview.data : undefined;
  return (
    <FormAsk
      title={`Whose receipt is line ${line.place}?`}
      yes={`Accept · ${money(line.left, currency)}`}
      close={close}
      fields={[]}
      run={async (_, key) => {
        if (!shown) {
          throw preview.error instanceof Problem ? preview.error : new Problem({ title: "Choose who paid." });
        }
        await run(key, wish, shown.fingerprint);
      }}
    >
      <PayerField
        customers={customers.data ?? NOBODY}
        chosen={customers.data?.find((one) => one.id === customer) ?? null}
        choose={setCustomer}
        error={preview.error instanceof Problem ? preview.error.message : undefined}
      />
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

/** A line that is nobody's payment: a fee, interest, anything else. */
export function BookAsk({
  line,
  currency,
  close,
  run,
}: {
  line: BankLineView;
  currency: string;
  close: () => void;
  run: (key: string, wish: ToAccept, seen: string) => Promise<void>;
}) {
  const chart = useQuery({ queryKey: ["chart"], queryFn: () => got(api.GET("/api/chart")) });
  const accounts = (chart.data?.accounts ?? []).filter((one) => one.account_type !== "asset");
  const left = decimal(Math.abs(line.left), exponentOf(currency));
  const usual = line.left < 0 ? "Fees of banks and card processors" : "Other income";
  return (
    <FormAsk
      title={`Book line ${line.place} to an account`}
      yes="Book it"
      close={close}
      fields={[
        {
          name: "account",
          label: "Account",
          value: "",
          choices: [["", usual], ...accounts.map((one): [string, string] => [one.number, `${one.number} ${one.name}`])],
        },
        { name: "text", label: "What it is", value: line.words.slice(0, 80) },
        {
          name: "amount",
          label: `Amount ${currency}`,
          value: left,
          right: true,
          hint: "a part of the line leaves the rest open",
        },
      ]}
      run={async (values, key) => {
        const wish: ToAccept = {
          as: "book",
          account: values.account || null,
          text: values.text ?? "",
          amount: typedDecimal(values.amount ?? "") || null,
        };
        const preview = await got(
          api.POST("/api/bank-lines/{id}/accept/preview", { params: { path: { id: line.id } }, body: wish }),
        );
        await run(key, wish, preview.fingerprint);
      }}
    >
      For what is no payment of a customer: {money(line.left, currency)} {currency} are left of the line.
    </FormAsk>
  );
}

/** A payment that came back, and what its customer is charged for that. */
export function ChargeAsk({
  line,
  receipt,
  words,
  currency,
  close,
  run,
}: {
  line: BankLineView;
  receipt: number;
  words: string;
  currency: string;
  close: () => void;
  run: (key: string, wish: ToAccept, seen: string) => Promise<void>;
}) {
  const goods = useGoods();
  return (
    <FormAsk
      title={`Charge on line ${line.place}`}
      yes="Accept and charge"
      close={close}
      fields={[
        {
          name: "charge.tax_code",
          label: "Tax code of the charge",
          choices: [
            ["", "choose"],
            ...(goods?.tax_codes ?? []).map((code): [string, string] => [code.code, `${code.code} · ${code.name}`]),
          ],
        },
        {
          name: "charge.amount",
          label: `Charge ${currency}, without tax`,
          right: true,
          hint: "empty for what the bank takes",
        },
      ]}
      run={async (values, key) => {
        const wish: ToAccept = {
          as: "returned",
          receipt,
          charge: {
            tax_code: values["charge.tax_code"] ?? "",
            amount: typedDecimal(values["charge.amount"] ?? "") || null,
          },
        };
        const preview = await got(
          api.POST("/api/bank-lines/{id}/accept/preview", { params: { path: { id: line.id } }, body: wish }),
        );
        await run(key, wish, preview.fingerprint);
      }}
    >
      {words}: its receipt is reversed, and the customer gets an invoice over the charge.
    </FormAsk>
  );
}
