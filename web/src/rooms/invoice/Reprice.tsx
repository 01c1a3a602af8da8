import { api, got, keyed } from "../../api/client";
import type { InvoiceLine } from "../../api/types";
import { price, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";

interface Props {
  line: InvoiceLine;
  invoice: number;
  currency: string;
  /** The version of the draft once nothing is on its way any more. */
  seen: () => Promise<number>;
  /** Told the version it has afterwards. */
  set: (version: number) => void;
  close: () => void;
}

/** Another price for a line, with its reason; above the limit it is asked for. */
export function Reprice({ line, invoice, currency, seen, set, close }: Props) {
  const changed = useEverythingChanged();
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
        const outcome = await got(
          api.PUT("/api/invoices/{id}/lines/{line}/price", {
            params: { path: { id: invoice, line: line.shipment_line }, header: keyed(key) },
            body: {
              version: await seen(),
              unit_price: typedDecimal(values.unit_price ?? ""),
              reason: values.reason ?? "",
            },
          }),
        );
        set(outcome.version);
        say(
          outcome.waits == null
            ? { kind: "done", text: `The price of ${line.code} is set.` }
            : {
                kind: "done",
                text: "This is above your limit: it waits for a lead, and nothing has changed yet.",
                links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
              },
        );
        await changed();
      }}
    >
      {price(line.order_price)} was agreed on {line.order_number}. The difference stays visible; above your limit it is
      asked for.
    </FormAsk>
  );
}
