import { api, got, keyed } from "../../api/client";
import type { InvoiceLine, InvoiceView, Outcome } from "../../api/types";
import { decimal, exponentOf, price, typedDecimal } from "../../format";
import { useDocumentChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useGoods } from "../../parts/form";
import { type Notice, useNotices } from "../../shell/notices";
import type { Source } from "./source";

interface Props {
  line: InvoiceLine;
  source: Source;
  invoice: number;
  currency: string;
  /** The version of the draft once nothing is on its way any more. */
  seen: () => Promise<number>;
  /** Told the version it has afterwards. */
  set: (version: number) => void;
  close: () => void;
}

/** Another price for a line, with its reason; above the limit it is asked for. */
export function Reprice({ line, source, invoice, currency, seen, set, close }: Props) {
  const changed = useDocumentChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={`Price of ${line.code}`}
      yes="Set the price"
      close={close}
      fields={[
        { name: "unit_price", label: `For one ${line.unit}, ${currency}`, value: price(line.unit_price), right: true },
        { name: "reason", label: "Why", kind: "words", value: line.price_reason ?? "" },
      ]}
      run={async (values, key) => {
        const header = keyed(key);
        const body = {
          version: await seen(),
          unit_price: typedDecimal(values.unit_price ?? ""),
          reason: values.reason ?? "",
        };
        const outcome = await got(
          source.shipmentLine === undefined
            ? api.PUT("/api/invoices/{id}/order-lines/{line}/price", {
                params: { path: { id: invoice, line: source.orderLine ?? 0 }, header },
                body,
              })
            : api.PUT("/api/invoices/{id}/lines/{line}/price", {
                params: { path: { id: invoice, line: source.shipmentLine }, header },
                body,
              }),
        );
        set(outcome.version);
        say(outcomeWords(outcome, `The price of ${line.code} is set.`));
        await changed(["invoice", String(invoice)], ["approvals"]);
      }}
    >
      {price(line.order_price)} was agreed on {source.order}. The difference stays visible; above your limit it is asked
      for.
    </FormAsk>
  );
}

/** What became of a change that may be above a limit. */
export function outcomeWords(outcome: Outcome, done: string): Notice {
  return outcome.waits == null
    ? { kind: "done", text: done }
    : {
        kind: "done",
        text: "This is above your limit: it waits for a supervisor, and nothing has changed yet.",
        links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
      };
}

/** Another tax code for a line, with its reason. */
export function Retax({ line, source, invoice, seen, set, close }: Omit<Props, "currency">) {
  const changed = useDocumentChanged();
  const goods = useGoods();
  const codes = goods?.tax_codes ?? [];
  return (
    <FormAsk
      title={`Tax of ${line.code}`}
      yes="Set the tax code"
      close={close}
      fields={[
        {
          name: "tax_code",
          label: "Tax code",
          value: line.tax.code,
          choices: codes.map((code): [string, string] => [code.code, `${code.code} · ${code.name}`]),
        },
        { name: "reason", label: "Why", kind: "words", value: line.tax_reason ?? "" },
      ]}
      run={async (values, key) => {
        const header = keyed(key);
        const body = { version: await seen(), tax_code: values.tax_code ?? "", reason: values.reason ?? "" };
        const kept = await got(
          source.shipmentLine === undefined
            ? api.PUT("/api/invoices/{id}/order-lines/{line}/tax", {
                params: { path: { id: invoice, line: source.orderLine ?? 0 }, header },
                body,
              })
            : api.PUT("/api/invoices/{id}/lines/{line}/tax", {
                params: { path: { id: invoice, line: source.shipmentLine }, header },
                body,
              }),
        );
        set(kept.version);
        await changed(["invoice", String(invoice)], ["approvals"]);
      }}
    >
      {line.order_tax_code ?? line.tax.code} came from the order. Another code stays visible, with its reason.
    </FormAsk>
  );
}

/** A discount over the whole draft. */
export function DiscountAsk({
  invoice,
  seen,
  set,
  close,
}: { invoice: InvoiceView } & Omit<Props, "line" | "source" | "invoice" | "currency">) {
  const changed = useDocumentChanged();
  const { say } = useNotices();
  const now = invoice.discount;
  const currency = invoice.document?.currency ?? "EUR";
  return (
    <FormAsk
      title="Discount on this invoice"
      yes="Set the discount"
      close={close}
      fields={[
        {
          name: "percent",
          label: "Percent",
          value: now?.percent ?? "",
          right: true,
          hint: "of the lines; packaging left out",
        },
        {
          name: "amount",
          label: `or an amount, ${currency}`,
          value: !now?.percent && now?.amount ? price(decimal(now.amount, exponentOf(currency))) : "",
          right: true,
          hint: "both empty: no discount",
        },
        { name: "reason", label: "What for", kind: "words", value: now?.reason ?? "" },
      ]}
      run={async (values, key) => {
        const outcome = await got(
          api.PUT("/api/invoices/{id}/discount", {
            params: { path: { id: invoice.id }, header: keyed(key) },
            body: {
              version: await seen(),
              percent: typedDecimal(values.percent ?? "") || null,
              amount: typedDecimal(values.amount ?? "") || null,
              reason: values.reason ?? "",
            },
          }),
        );
        set(outcome.version);
        say(outcomeWords(outcome, "The discount is set; it is spread over the lines."));
        await changed(["invoice", String(invoice.id)], ["approvals"]);
      }}
    >
      It is spread over the lines by their amounts, to the cent. Above your limit it is asked for.
    </FormAsk>
  );
}
