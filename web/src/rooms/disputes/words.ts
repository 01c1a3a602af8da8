import type { DisputeView } from "../../api/types";

/** Why a customer does not pay. */
export const disputeReasons: Record<DisputeView["reason"], string> = {
  price: "price",
  quantity: "quantity",
  damaged: "damaged",
  not_received: "not received",
  deduction: "deduction",
  other: "other",
};
