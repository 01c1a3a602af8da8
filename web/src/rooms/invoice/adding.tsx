import { Problem } from "../../api/client";
import type { AddedLine, InvoiceView, ToBill } from "../../api/types";
import { typedDecimal } from "../../format";
import { FormAsk } from "../../parts/FormAsk";
import { useGoods } from "../../parts/form";

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
        keep(line);
      }}
    >
      For work, freight and fees that no order holds. Goods that are to leave stock go on an order.
    </FormAsk>
  );
}

/** Words above and below the lines, and terms for this invoice alone. */
export function TextsAsk({
  invoice,
  change,
  close,
}: {
  invoice: InvoiceView;
  change: (how: (now: ToBill) => ToBill) => void;
  close: () => void;
}) {
  const now = invoice.to_bill;
  const days = now?.terms?.kind === "net_days" ? String(now.terms.days) : "";
  return (
    <FormAsk
      title="Texts and terms"
      yes="Keep"
      close={close}
      fields={[
        { name: "text_above", label: "Above the lines", kind: "words", value: now?.text_above ?? "" },
        { name: "text_below", label: "Below the lines", kind: "words", value: now?.text_below ?? "" },
        {
          name: "days",
          label: "Due after days, for this invoice",
          value: days,
          right: true,
          hint: "empty: the terms of the order, or of the customer",
        },
      ]}
      run={async (values) => {
        const typed = (values.days ?? "").trim();
        if (typed && !/^\d{1,3}$/.test(typed)) {
          throw new Problem({ title: "Write a number of days, such as 30.", field: "days" });
        }
        change((before) => ({
          ...before,
          text_above: said(values.text_above) ?? null,
          text_below: said(values.text_below) ?? null,
          terms: typed ? { kind: "net_days", days: Number(typed) } : null,
        }));
      }}
    />
  );
}
