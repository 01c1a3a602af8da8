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
      title="Keep as a recipe"
      yes="Save"
      close={close}
      fields={[
        { name: "name", label: "Name", value: "" },
        {
          name: "weekday",
          label: "Meant for",
          choices: [
            ["", "any day"],
            ["1", "Mondays"],
            ["2", "Tuesdays"],
            ["3", "Wednesdays"],
            ["4", "Thursdays"],
            ["5", "Fridays"],
          ],
        },
        {
          name: "who",
          label: "Takes",
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
            ["customer", "one invoice a customer"],
            ["order", "one invoice an order"],
            ["shipment", "one invoice a shipment"],
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
          text: `The recipe ${values.name} is kept. It makes a new run whenever you ask.`,
          links: [{ text: "Runs and recipes", to: "/billing/runs" }],
        });
        await changed();
      }}
    />
  );
}
