import { type ToBill, type UnbilledShipment, whole } from "../../api/types";
import { useFilter } from "../../parts/bits";

export const habits = {
  shipment: "one invoice per shipment",
  order: "one invoice per order",
  weekly: "weekly",
  monthly: "monthly",
} as const;

export function keyOf(shipment: UnbilledShipment): string {
  return shipment.shipment ? `s${shipment.shipment}` : `o${shipment.order}`;
}

/** What is picked, as it is billed. */
export function toBillOf(shipments: UnbilledShipment[]): ToBill {
  const lines = shipments.flatMap((shipment) => shipment.lines);
  return whole({
    picks: lines.flatMap((line) => (line.shipment_line ? [{ shipment_line: line.shipment_line }] : [])),
    order_picks: lines.flatMap((line) => (line.shipment_line ? [] : [{ order_line: line.order_line }])),
  });
}

/** What the list is filtered to, from the address. */
export function useUnbilledFilter() {
  const [search] = useFilter("q");
  const [over] = useFilter("over_days");
  const [customer] = useFilter("customer");
  const [habit] = useFilter("habit");
  const [blocked] = useFilter("blocked");
  const [currency] = useFilter("currency");
  return {
    q: search || undefined,
    over_days: over ? Number(over) : undefined,
    customer: customer ? Number(customer) : undefined,
    habit: (habit || undefined) as keyof typeof habits | undefined,
    blocked: blocked ? blocked === "true" : undefined,
    currency: currency || undefined,
  };
}
