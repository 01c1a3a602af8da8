import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem } from "../../api/client";
import type { AcceptPreview, BankLineView, CustomerRow, ToAccept } from "../../api/types";
import { decimal, exponentOf, money, typedDecimal } from "../../format";
import { useSettled } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useGoods } from "../../parts/form";
import { WhatItDoes } from "../../parts/TapeRoll";
import { PayerField } from "../receipt/PayerField";

const NOBODY: CustomerRow[] = [];

/** What is asked about a line of the bank. */
export interface LineAskProps {
  line: BankLineView;
  currency: string;
  close: () => void;
  run: (key: string, wish: ToAccept, seen: string) => Promise<void>;
}

/** What is said to who is faster than the figures. */
export const STILL = "It is still worked out. Look, and press Enter once more.";

/** What a wish would do to a line, asked again once nobody types any more; nothing while there is no wish. */
export function useWhatItDoes(line: BankLineView, wish: ToAccept | undefined) {
  const settled = useSettled(wish ? JSON.stringify(wish) : "");
  const preview = useQuery({
    queryKey: ["bank-line", "wish", line.id, settled],
    queryFn: () =>
      got(
        api.POST("/api/bank-lines/{id}/accept/preview", {
          params: { path: { id: line.id } },
          body: JSON.parse(settled) as ToAccept,
        }),
      ),
    enabled: settled !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const current = !!wish && settled === JSON.stringify(wish) && !preview.error && !preview.isFetching;
  return {
    /** What is shown: of the wish before, while the new one is asked. */
    does: wish && !preview.error ? preview.data : undefined,
    /** What can be carried out as it was seen. */
    seen: current ? preview.data : undefined,
    error: wish && preview.error instanceof Problem ? preview.error : undefined,
    /** Whether it is not worked out yet: nothing is carried out that nobody has seen. */
    pending: !!wish && !current && !preview.error,
  };
}

export function Does({ does, height = 190 }: { does: AcceptPreview; height?: number }) {
  return (
    <WhatItDoes
      does={{ blockers: does.blockers, changes: does.changes }}
      entries={[...(does.entry ? [does.entry] : []), ...does.beside]}
      height={height}
    />
  );
}

/** Whose receipt a line is, where what was suggested is wrong: what it goes to is suggested anew. */
export function PaidByAsk({ line, currency, close, run }: LineAskProps) {
  const [customer, setCustomer] = useState<number>();
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const wish: ToAccept | undefined = customer ? { as: "receipt", customer, applications: null } : undefined;
  const { does, seen, error } = useWhatItDoes(line, wish);
  return (
    <FormAsk
      title={`Whose receipt is line ${line.place}?`}
      yes={`Accept · ${money(line.left, currency)}`}
      close={close}
      fields={[]}
      run={async (_, key) => {
        if (!wish || !seen) {
          throw error ?? new Problem({ title: wish ? STILL : "Choose who paid." });
        }
        await run(key, wish, seen.fingerprint);
      }}
    >
      <PayerField
        customers={customers.data ?? NOBODY}
        chosen={customers.data?.find((one) => one.id === customer) ?? null}
        choose={setCustomer}
        error={error?.message}
      />
      {does && <Does does={does} />}
    </FormAsk>
  );
}

/** A line that is nobody's payment: a fee, interest, anything else. */
export function BookAsk({ line, currency, close, run }: LineAskProps) {
  const chart = useQuery({ queryKey: ["chart"], queryFn: () => got(api.GET("/api/chart")) });
  const accounts = (chart.data?.accounts ?? []).filter((one) => one.account_type !== "asset");
  const left = decimal(Math.abs(line.left), exponentOf(currency));
  const usual = line.left < 0 ? "Fees of banks and card processors" : "Other income";
  const [typed, setTyped] = useState({ account: "", text: line.words.slice(0, 80), amount: left });
  const asWish = ({ account, text, amount }: typeof typed): ToAccept => ({
    as: "book",
    account: account || null,
    text,
    amount: typedDecimal(amount) || null,
  });
  const { does, seen, pending } = useWhatItDoes(line, asWish(typed));
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
          changed: (account) => setTyped((before) => ({ ...before, account })),
        },
        {
          name: "text",
          label: "What it is",
          value: line.words.slice(0, 80),
          changed: (text) => setTyped((before) => ({ ...before, text })),
        },
        {
          name: "amount",
          label: `Amount ${currency}`,
          value: left,
          right: true,
          hint: "a part of the line leaves the rest open",
          changed: (amount) => setTyped((before) => ({ ...before, amount })),
        },
      ]}
      run={async (values, key) => {
        const { account = "", text = "", amount = "" } = values;
        if (pending) {
          throw new Problem({ title: STILL });
        }
        await run(key, asWish({ account, text, amount }), seen?.fingerprint ?? "");
      }}
    >
      For what is no payment of a customer: {money(line.left, currency)} {currency} are left of the line.
      {does && <Does does={does} height={150} />}
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
}: LineAskProps & {
  receipt: number;
  words: string;
}) {
  const goods = useGoods();
  const [typed, setTyped] = useState({ code: "", amount: "" });
  const asWish = ({ code, amount }: typeof typed): ToAccept => ({
    as: "returned",
    receipt,
    charge: { tax_code: code, amount: typedDecimal(amount) || null },
  });
  const { does, seen, pending } = useWhatItDoes(line, typed.code ? asWish(typed) : undefined);
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
          changed: (code) => setTyped((before) => ({ ...before, code })),
        },
        {
          name: "charge.amount",
          label: `Charge ${currency}, without tax`,
          right: true,
          hint: "empty for what the bank takes",
          changed: (amount) => setTyped((before) => ({ ...before, amount })),
        },
      ]}
      run={async (values, key) => {
        const charge = { code: values["charge.tax_code"] ?? "", amount: values["charge.amount"] ?? "" };
        if (pending) {
          throw new Problem({ title: STILL });
        }
        await run(key, asWish(charge), seen?.fingerprint ?? "");
      }}
    >
      {words}: its receipt is reversed, and the customer gets an invoice over the charge.
      {does && <Does does={does} />}
    </FormAsk>
  );
}
