import { api, got, keyed } from "../../api/client";
import type { RunView } from "../../api/types";
import { plural } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";

/** Keeps what a run takes, to be made again. */
export function RecipeAsk({ view, close }: { view: RunView; close: () => void }) {
  const { say } = useNotices();
  const changed = useEverythingChanged();
  return (
    <FormAsk
      title="Save as a recurring run"
      yes="Save"
      close={close}
      fields={[
        { name: "name", label: "Name", value: "" },
        {
          name: "weekday",
          label: "Every",
          choices: [
            ["", "any day"],
            ["1", "Monday"],
            ["2", "Tuesday"],
            ["3", "Wednesday"],
            ["4", "Thursday"],
            ["5", "Friday"],
          ],
        },
        {
          name: "who",
          label: "Includes",
          choices: [
            ["all", "everything unbilled"],
            ["these", `only these ${plural(view.customers.length, "customer", "customers")}`],
          ],
        },
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
      ]}
      run={async (values, key) => {
        await got(
          api.PUT("/api/recipes", {
            params: { header: keyed(key) },
            body: {
              name: values.name ?? "",
              weekday: values.weekday ? Number(values.weekday) : null,
              form: {
                combine: (values.combine || "habit") as "habit",
                customers: values.who === "these" ? view.customers : [],
              },
            },
          }),
        );
        say({
          kind: "done",
          text: `Recurring run ${values.name} is saved. It makes a new run whenever you ask.`,
          links: [{ text: "Billing runs", to: "/billing/runs" }],
        });
        await changed();
      }}
    />
  );
}
