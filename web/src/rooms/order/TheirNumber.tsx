import TextField from "@mui/material/TextField";
import { useState } from "react";
import { api, got, keyed, newKey } from "../../api/client";
import type { OrderView } from "../../api/types";
import { useEverythingChanged, useFieldFocus } from "../../parts/bits";
import { staleWords } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";

/** The customer's own number for the order: one field, kept with Enter. */
export function TheirNumber({ order }: { order: OrderView }) {
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState(order.customer_order_number ?? "");
  const [wrong, setWrong] = useState<string>();
  useFieldFocus();
  const save = async () => {
    try {
      await got(
        api.PUT("/api/orders/{id}/customer-order-number", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body: { version: order.version, number: typed.trim() || null },
        }),
      );
      setWrong(undefined);
      say({
        kind: "done",
        text: `The customer PO of ${order.number} is saved.`,
        links: [{ text: "Bill it now", to: `/billing?q=${order.number}` }],
      });
      await changed();
    } catch (error) {
      setWrong(await staleWords(error, "order", order.id, order.version));
    }
  };
  const differs = typed.trim() !== (order.customer_order_number ?? "");
  return (
    <div data-field="order.customer_order_number">
      <TextField
        fullWidth
        slotProps={{ htmlInput: { "aria-label": "Customer PO" } }}
        disabled={!may("keep_order")}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && save()}
        error={!!wrong}
        helperText={wrong ?? (differs ? "Press Enter to save" : undefined)}
      />
    </div>
  );
}
