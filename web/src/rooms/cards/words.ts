import type { CardAsked, CardRow, CardState } from "../../api/types";
import { moneyWithCurrency, shortDate } from "../../format";

/** States of an authorization, with the weight they carry. */
export const states: Record<CardState, { words: string; className?: string; mark?: string }> = {
  no_answer: { words: "no answer yet", className: "stop", mark: "◆" },
  authorized: { words: "authorized" },
  expiring: { words: "expires soon", className: "heed", mark: "▲" },
  captured_in_part: { words: "captured in part" },
  captured: { words: "captured", className: "done", mark: "●" },
  declined: { words: "declined", className: "stop", mark: "◆" },
  another_card: { words: "needs another card", className: "stop", mark: "◆" },
  voided: { words: "voided", className: "dim" },
  expired: { words: "expired", className: "dim" },
  refused: { words: "refused by the processor", className: "stop", mark: "◆" },
};

/** The next step of an authorization, in words; nothing where there is none. */
export function nextWords(row: CardRow, today: string): string {
  const until = row.valid_until ? shortDate(row.valid_until, today) : "";
  switch (row.next) {
    case "ask_again":
      return "ask again";
    case "capture":
      return `capture ${moneyWithCurrency(row.to_capture, row.currency)}`;
    case "ship_soon":
      return `ship by ${until}`;
    case "authorize_again":
      return "authorize again";
    case "wait":
      return "wait for the goods";
    default:
      return "";
  }
}

/** What became of something that was asked of the processor, as a notice. */
export function became(asked: CardAsked, done: string): { kind: "done" | "stop"; text: string } {
  const { card } = asked;
  if (asked.waits) {
    return { kind: "done", text: "A supervisor is asked. Nothing goes back to the card before that." };
  }
  if (card.waits_for) {
    return {
      kind: "stop",
      text: `The card processor did not answer yet. Ask again on ${card.number}: nothing is charged twice.`,
    };
  }
  if (card.state === "declined" || card.state === "another_card") {
    return { kind: "stop", text: `${card.number} was declined: ${card.words ?? "no reason was given"}` };
  }
  return card.words ? { kind: "stop", text: `${card.number}: ${card.words}` } : { kind: "done", text: done };
}
