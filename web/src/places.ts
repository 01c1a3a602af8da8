import type { DocumentRef } from "./api/types";

/** The address of a document. */
export function placeOf(document: DocumentRef): string {
  switch (document.kind) {
    case "order":
      return `/orders/${document.id}`;
    case "shipment":
      return `/shipments/${document.id}`;
    case "invoice":
      return `/invoices/${document.id}`;
    case "receipt":
      return `/receipts/${document.id}`;
    case "deposit":
      return `/prepayments/${document.id}`;
    case "return":
      return `/returns/${document.id}`;
    case "payment_request":
      return `/payment-requests/${document.id}`;
    case "card_authorization":
      return `/cards/${document.id}`;
    case "bank_slip":
      return `/bank-slips/${document.id}`;
    case "bank_statement":
      return `/bank/${document.id}`;
    case "card_payout":
      return `/card-payouts/${document.id}`;
    case "card_return":
    case "deposit_end":
    case "estimate":
    case "return_accrual":
      return `/ledger?q=${encodeURIComponent(document.number)}`;
    case "quote":
      return `/quotes/${document.id}`;
    case "call_off":
      return `/orders/blanket?open=${document.id}`;
    case "item":
      return `/items/${document.id}`;
    case "adjustment":
    case "intake":
      return "/items";
    case "price_list":
      return "/items/prices";
    case "import":
      return "/orders/files";
    case "customer":
      return `/customers/${document.id}`;
    case "container_return":
      return `/ledger?q=${encodeURIComponent(document.number)}`;
    case "credit_draft":
      return `/credit-drafts/${document.id}`;
    case "credit_memo":
      return `/credit-memos/${document.id}`;
    case "run":
      return `/runs/${document.id}`;
    case "delivery":
      return `/going-out/${document.id}`;
    case "approval":
      return `/approvals/${document.id}`;
    case "person":
      return "/setup/people";
    case "setting":
      return "/setup";
    case "opening":
      return "/ledger/open-items";
    case "entry":
      return `/entries/${document.id}`;
    default:
      return "/ledger";
  }
}

const SEQUENCE = "till.sequence";

/** Remembers the list a document is opened from, so that next and previous need no way back. */
export function rememberSequence(places: string[]): void {
  sessionStorage.setItem(SEQUENCE, JSON.stringify(places));
}

/** The neighbour of a place in the list it was opened from. */
export function neighbour(place: string, step: 1 | -1): string | undefined {
  const kept = sessionStorage.getItem(SEQUENCE);
  const places: string[] = kept ? JSON.parse(kept) : [];
  const at = places.indexOf(place);
  return at < 0 ? undefined : places[at + step];
}
