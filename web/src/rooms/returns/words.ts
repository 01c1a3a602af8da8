import type { ReturnRow, ReturnView } from "../../api/types";
import { number, shortDate } from "../../format";

/** What a return still needs, as the next thing somebody does. */
export function nextWords(row: Pick<ReturnRow, "next" | "state" | "expires_on">, today: string): string {
  switch (row.next) {
    case "inspect":
      return "inspect";
    case "settle":
      return "credit or replace";
    case "repair":
      return "repair";
    case "receive":
      return `arrives until ${shortDate(row.expires_on, today)}`;
    default:
      return row.state === "done" ? "done" : row.state === "canceled" ? "closed" : "expired";
  }
}

/** Whether it waits for us, not for the customer. */
export function waitsForUs(row: Pick<ReturnRow, "next">): boolean {
  return row.next === "inspect" || row.next === "settle" || row.next === "repair";
}

/** How far it is: “2 of 3 received, 1 credited”. */
export function progressWords({ progress }: Pick<ReturnRow, "progress">): string {
  const parts = [
    `${number(progress.received)} of ${number(progress.authorized)} received`,
    ...(progress.for_repair && progress.for_repair !== progress.repaired
      ? [`${number(progress.for_repair)} in for repair, ${number(progress.repaired ?? "0")} back`]
      : progress.for_repair && progress.for_repair !== "0"
        ? [`${number(progress.for_repair)} repaired`]
        : []),
    ...(progress.credited === "0" ? [] : [`${number(progress.credited)} credited`]),
    ...(progress.replaced === "0" ? [] : [`${number(progress.replaced)} replaced`]),
    ...(progress.given_back && progress.given_back !== "0" ? [`${number(progress.given_back)} back on its order`] : []),
    ...(progress.sent_back === "0" ? [] : [`${number(progress.sent_back)} sent back`]),
  ];
  return parts.join(", ");
}

/** Where the credit of what came back is entered: the first invoice of which something is to be settled; a credit memo of its
 * own where no document is known. */
export function creditPlace(view: ReturnView): string | undefined {
  const line = view.lines.find((one) => one.to_settle !== "0");
  return (
    line &&
    (line.document
      ? `/invoices/${line.document.id}/credit?return=${view.id}`
      : `/credit-memos/new?customer=${view.customer.id}&return=${view.id}`)
  );
}

export const stepWords: Record<string, string> = {
  received: "Received",
  inspected: "Inspected",
  replaced: "Replacement sent",
  swapped: "Wrong item fixed",
  for_repair: "In for repair",
  repaired: "Sent back repaired",
  kept: "Kept from repair",
};
