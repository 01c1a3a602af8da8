import type { ReactNode } from "react";
import { Link } from "react-router";

interface Payment {
  method: string;
  whereabouts: string;
  reference?: string | null;
}

const words: Record<string, string> = {
  in_hand: "in hand",
  at_bank: "at the bank",
  cleared: "cleared by the bank",
  returned: "reversed",
  none: "containers, no money",
};

/** Where the money of a receipt or a deposit is, in words. */
export function whereabouts({ method, whereabouts }: Payment): string {
  return method === "card" && whereabouts === "in_hand" ? "not paid out yet" : (words[whereabouts] ?? whereabouts);
}

/** The reference of a receipt or a deposit; that of a captured card leads to its authorization. */
export function referenceOf({ method, reference }: Payment): ReactNode {
  return method === "card" && reference ? (
    <Link to={`/prepayments/cards?state=all&q=${encodeURIComponent(reference)}`}>{reference}</Link>
  ) : (
    reference
  );
}
