import { useState } from "react";
import { Problem } from "../../api/client";
import type { AddedLine, InvoiceView, Terms, ToBill } from "../../api/types";
import { typedDecimal } from "../../format";
import { FormAsk } from "../../parts/FormAsk";
import { FormGrid, Tick, useGoods } from "../../parts/form";
import { Ask } from "../../shell/Ask";
import { askTerms, TermsFields, TermsShown } from "../customers/TermsFields";

/** What was typed in a field, or nothing. */
function said(text: string | undefined): string | undefined {
  return text?.trim() || undefined;
}

/** A line as it was typed into fields. */
export function addedLine(values: Record<string, string>): AddedLine {
  const item = said(values.item);
  const account = item ? undefined : said(values.account);
  const codes = Object.fromEntries(
    Object.entries(values)
      .filter(([name, code]) => name.startsWith("code.") && code)
      .map(([name, code]) => [name.slice("code.".length), code]),
  );
  return {
    ...(item && { item }),
    ...(account && { account }),
    ...(said(values.description) && { description: said(values.description) ?? "" }),
    quantity: typedDecimal(values.quantity ?? "") || "1",
    ...(said(values.unit_price) && { unit_price: typedDecimal(values.unit_price ?? "") }),
    ...(said(values.tax_code) && { tax_code: said(values.tax_code) ?? "" }),
    ...(said(values.reason) && { reason: said(values.reason) ?? "" }),
    ...(Object.keys(codes).length > 0 && { marks: { codes } }),
  };
}

/** A line typed on the draft, new or changed. */
export function AddLineAsk({
  invoice,
  at,
  keep,
  close,
}: {
  invoice: InvoiceView;
  at: number | undefined;
  keep: (line: AddedLine) => void;
  close: () => void;
}) {
  const goods = useGoods();
  const now = at === undefined ? undefined : invoice.to_bill?.added?.[at];
  return (
    <FormAsk
      title={now ? "Change this line" : "Add a line"}
      yes={now ? "Change it" : "Add it"}
      close={close}
      fields={[
        {
          name: "item",
          label: "Item",
          value: now?.item ?? "",
          hint: "its code; or leave it empty and give an account",
        },
        { name: "account", label: "Revenue account", value: now?.account ?? "" },
        { name: "description", label: "Words", value: now?.description ?? "", hint: "empty: the item's name" },
        { name: "quantity", label: "Quantity", value: now?.quantity ?? "1", right: true },
        {
          name: "unit_price",
          label: "Price for one",
          value: now?.unit_price ?? "",
          right: true,
          hint: "empty: the price this customer gets",
        },
        {
          name: "tax_code",
          label: "Tax code",
          value: now?.tax_code ?? "",
          choices: [
            ["", "as the item and the customer say"],
            ...(goods?.tax_codes ?? []).map((code): [string, string] => [code.code, `${code.code} · ${code.name}`]),
          ],
        },
        {
          name: "reason",
          label: "Why",
          value: now?.reason ?? "",
          hint: "for another tax code, or a price of zero",
        },
        ...(goods?.marks.lists ?? []).map((list) => ({
          name: `code.${list.key}`,
          label: list.name,
          value: now?.marks?.codes?.[list.key] ?? "",
          choices: [
            ["", "none"],
            ...list.codes.map((code): [string, string] => [code.code, `${code.code} · ${code.name}`]),
          ] as [string, string][],
        })),
      ]}
      run={async (values) => {
        const line = addedLine(values);
        if (!line.item && !line.account) {
          throw new Problem({ title: "Give an item or an account.", field: "item" });
        }
        // What bills a line anew keeps how it was billed, while item, unit and price are those.
        keep(now?.as_billed ? { ...line, as_billed: now.as_billed } : line);
      }}
    >
      For work, freight and fees that no order holds. Goods leave stock as the invoice is posted.
    </FormAsk>
  );
}

interface AskProps {
  invoice: InvoiceView;
  change: (how: (now: ToBill) => ToBill) => void;
  close: () => void;
}

/** Words above and below the lines. */
export function TextsAsk({ invoice, change, close }: AskProps) {
  const now = invoice.to_bill;
  return (
    <FormAsk
      title="Texts"
      yes="Save"
      close={close}
      fields={[
        { name: "text_above", label: "Above the lines", kind: "words", value: now?.text_above ?? "" },
        { name: "text_below", label: "Below the lines", kind: "words", value: now?.text_below ?? "" },
      ]}
      run={async (values) => {
        change((before) => ({
          ...before,
          text_above: said(values.text_above) ?? null,
          text_below: said(values.text_below) ?? null,
        }));
      }}
    />
  );
}

/** Terms for this invoice alone, of every kind, with what they make of it. */
export function TermsAsk({ invoice, change, close }: AskProps) {
  const own = invoice.to_bill?.terms;
  const document = invoice.document;
  const [terms, setTerms] = useState<Terms | undefined>(own ?? undefined);
  return (
    <Ask
      title="Terms for this invoice"
      yes="Save"
      busyWords="One moment…"
      close={close}
      run={async () => {
        if (terms) {
          await askTerms(terms, document ?? undefined);
        }
        change((before) => ({ ...before, terms: terms ?? null }));
      }}
    >
      <FormGrid style={{ minWidth: 500 }}>
        <Tick
          label="As the order or the customer has them"
          on={!terms}
          toggle={(on) => setTerms(on ? undefined : (own ?? { kind: "net_days", days: 30 }))}
          span={12}
        />
        {terms && <TermsFields terms={terms} change={setTerms} faults={undefined} disabled={false} />}
      </FormGrid>
      {terms && <TermsShown terms={terms} invoice={document ?? undefined} />}
    </Ask>
  );
}
