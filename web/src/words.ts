import type { TaxLine } from "./api/types";
import { money, percent } from "./format";

/** How roles are called: the books keep them by older names. */
export const roleWords = {
  clerk: "clerk",
  lead: "supervisor",
  auditor: "auditor",
  administrator: "administrator",
} as const;

/** A supervisor, an auditor. */
export function withArticle(word: string): string {
  return `${/^[aeiou]/.test(word) ? "an" : "a"} ${word}`;
}

/** Why a category has no tax to pay; nothing of those that are taxed, at zero too. */
const untaxed: Partial<Record<TaxLine["category"], string>> = {
  E: "exempt",
  AE: "reverse charge",
  K: "Intra-Community supply",
  G: "export",
  O: "outside tax",
};

/** A line of tax as the tape has it, with its code: “Tax 23 % of 2,267.20, S23”, or why there is none. */
export function taxWords(tax: TaxLine, currency: string, sign = 1): string {
  const reason = untaxed[tax.category];
  const what = reason ? `Tax ${tax.category}, ${reason},` : `Tax ${percent(tax.rate)}`;
  return `${what} of ${money(sign * tax.base, currency)}, ${tax.code}`;
}
