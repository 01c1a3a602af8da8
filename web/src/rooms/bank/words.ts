import type { ProposalView } from "../../api/types";

/** How sure a suggestion is. */
export const certainties: Record<ProposalView["certainty"], string> = {
  sure: "sure",
  likely: "likely",
  possible: "possible",
};

/** Why something is suggested. */
export const reasons: Record<ProposalView["because"][number], string> = {
  reference: "names its payment reference",
  number: "names its number",
  account: "the account it came from is known",
  name: "the payer is called so",
  amount: "it is what is open",
  discounted: "it is what is open less the early-payment discount",
  nearly: "it is what is open but for a difference within the tolerance",
  together: "it is what they come to together",
  part: "it is less than what it names",
  more: "it is more than what it names: the rest stays unapplied",
  oldest: "the oldest first: nothing else fits",
  expected: "the books expect this amount",
  bank_says: "the bank says so",
  advice: "its remittance advice says what each part is for",
  counted: "the bank counted another amount",
  paid: "a payment came in over that amount",
  with_fee: "it is that payment with a fee of the bank",
  searched: "found by what was typed",
};
