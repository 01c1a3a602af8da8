import { useNavigate } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { UnbilledShipment } from "../../api/types";
import { plural } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { toBillOf, useUnbilledFilter } from "./picking";

/** A run of what is picked, or of everything the list is filtered to. */
export function MakeRunAsk({ picked, count, close }: { picked: UnbilledShipment[]; count: number; close: () => void }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const query = useUnbilledFilter();
  const toBill = toBillOf(picked);
  return (
    <FormAsk
      title={
        picked.length > 0
          ? `A run of ${plural(picked.length, "shipment", "shipments")}`
          : `A run of ${plural(count, "shipment", "shipments")}`
      }
      yes="Make the run"
      close={close}
      fields={[
        {
          name: "combine",
          label: "Combined",
          choices: [
            ["habit", "as each customer wants it"],
            ["customer", "one invoice per customer"],
            ["order", "one invoice per order"],
            ["shipment", "one invoice per shipment"],
          ],
        },
        { name: "name", label: "Name", hint: "empty: its number" },
        { name: "document_date", label: "Document date", kind: "date", hint: "empty: the business date" },
      ]}
      run={async (values, key) => {
        const { q, ...rest } = query;
        const run = await got(
          api.POST("/api/runs", {
            params: { header: keyed(key) },
            body: {
              name: values.name || null,
              combine: (values.combine || "habit") as "habit",
              document_date: values.document_date || null,
              picks: toBill.picks,
              order_picks: toBill.order_picks,
              filter: {
                search: q ?? null,
                over_days: rest.over_days ?? null,
                customer: rest.customer ?? null,
                habit: rest.habit ?? null,
                blocked: rest.blocked ?? null,
                currency: rest.currency ?? null,
              },
            },
          }),
        );
        await changed();
        navigate(`/runs/${run}`);
      }}
    >
      {picked.length > 0 ? "What is selected" : "Everything the list is filtered to"} goes on drafts of the run. Nothing
      is posted yet; the run can be deleted, and everything is as before.
    </FormAsk>
  );
}
