import { api } from "../api/client";
import type { components } from "../api/schema";

type PagePayment = components["schemas"]["PagePayment"];

const LINK = "till:link";
const TYPING = "till:typing";

/**
 * Takes the link out of the address, where it stands behind the # that browsers send to nobody, and keeps it in this tab
 * alone: it is in no history, and the card processor's page gets nothing of it.
 */
export function takeLink(): void {
  const text = window.location.hash.slice(1);
  if (text) {
    // Another link begins anew: what the one before had begun is not its business.
    window.sessionStorage.clear();
    window.sessionStorage.setItem(LINK, text);
    window.history.replaceState(null, "", window.location.pathname);
  }
}

api.use({
  onRequest({ request }) {
    request.headers.set("Authorization", `Bearer ${window.sessionStorage.getItem(LINK) ?? ""}`);
    return request;
  },
});

/** What a card is being typed for, on the processor's page. */
export interface Typing {
  session: string;
  pays: PagePayment["pays"];
  id: number;
  amount: number;
}

export function rememberTyping(typing: Typing): void {
  window.sessionStorage.setItem(TYPING, JSON.stringify(typing));
}

export function typing(): Typing | undefined {
  const kept = window.sessionStorage.getItem(TYPING);
  return kept ? (JSON.parse(kept) as Typing) : undefined;
}

export function forgetTyping(): void {
  window.sessionStorage.removeItem(TYPING);
}

/** Leaves for another page, in this tab. */
export function leaveFor(address: string): void {
  window.location.assign(address);
}
