import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Because, DisputeWords, MoneyPreview, OpenItem } from "../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency } from "../format";
import { Late, Lines, Marked } from "../parts/bits";
import { PreviewTape } from "../parts/TapeRoll";
import { DisputeWordsAsk } from "./disputes/asks";
import { disputeReasons } from "./disputes/words";

/** What was typed for an open item: how much goes to it, and what of it is settled without money. */
export interface TypedRow {
  amount: string;
  /** None: what is earned. */
  discount?: string;
  /** A difference to write off; below zero for what is too much. */
  writeOff?: string;
  /** Why what stays open is not paid, and who looks after that. */
  dispute?: DisputeWords;
}

/** What was typed for open items, by item; none typed yet means: what is suggested. */
export type Typed = Record<number, TypedRow> | undefined;

interface Props {
  items: OpenItem[];
  currency: string;
  typed: Typed;
  setTyped: (typed: Typed) => void;
  preview: MoneyPreview | undefined;
  errors: Record<string, string>;
}

/** Why money is suggested for an item; by age needs no word. */
const reasons: Partial<Record<Because, string>> = {
  reference: "named by reference",
  number: "named by number",
  equal: "equals the amount",
  together: "together equal",
};

function because(preview: MoneyPreview | undefined, item: number) {
  const why = (preview?.suggested ?? []).find((one) => one.item === item)?.because;
  const words = why && reasons[why];
  return words ? <div className="dim">{words}</div> : null;
}

/** What of credits used with the money goes to an item. */
function creditsTo(preview: MoneyPreview | undefined, item: number): number {
  const parts = (preview?.with ?? []).flatMap((credit) => credit.to.filter((to) => to.item === item));
  return parts.reduce((sum, to) => sum + to.amount, 0);
}

/** What is shown for an invoice: what was typed, or what is suggested. */
function shown(item: OpenItem, typed: Typed, preview: MoneyPreview | undefined): TypedRow {
  if (typed) {
    return typed[item.item] ?? { amount: "" };
  }
  const proposed = preview?.document.applied.find((applied) => applied.item === item.item);
  const credited = creditsTo(preview, item.item);
  if (!preview || (!proposed && credited === 0)) {
    return { amount: "" };
  }
  if (!proposed) {
    return { amount: decimal(credited, exponentOf(preview.currency)) };
  }
  const words = (amount: number) => decimal(amount, exponentOf(preview.currency));
  const [discount, given] = [
    proposed.beside.discount.amount,
    proposed.beside.written_off.amount - proposed.beside.kept.amount,
  ];
  return {
    amount: words(proposed.credit_amount + credited),
    ...(discount !== 0 && { discount: words(discount) }),
    ...(given !== 0 && { writeOff: words(given) }),
  };
}

/** What is shown, as amounts for the server; empty fields are left out. */
export function asApplications(typed: Typed, clean: (text: string) => string) {
  return typed
    ? Object.entries(typed)
        .filter(([, row]) => row.amount.trim() !== "")
        .map(([item, row]) => ({
          item: Number(item),
          amount: clean(row.amount),
          ...(row.discount !== undefined && { discount: clean(row.discount.trim() || "0") }),
          ...(row.writeOff && { write_off: clean(row.writeOff) }),
          ...(row.dispute && { dispute: row.dispute }),
        }))
    : null;
}

/** What a customer and its branches have open, each with a field for the amount applied to it. */
export function ApplyTable({ items, currency, typed, setTyped, preview, errors }: Props) {
  // What is owed in another currency can be paid too, where it is known what settles it.
  const settledBy = new Map((preview?.settled_by ?? []).map((one) => [one.item, one.amount]));
  const fits = items.filter((item) => item.currency === currency || settledBy.has(item.item));
  const foreign = fits.some((item) => item.currency !== currency);
  const inIts = (amount: number, item: OpenItem) =>
    foreign ? moneyWithCurrency(amount, item.currency) : money(amount, item.currency);
  const begin = (): Record<number, TypedRow> => {
    const all: Record<number, TypedRow> = {};
    for (const item of fits) {
      const row = shown(item, typed, preview);
      if (row.amount) {
        all[item.item] = row;
      }
    }
    return all;
  };
  const type = (item: number, row: TypedRow) => setTyped({ ...begin(), [item]: row });
  const order = typed
    ? Object.entries(typed)
        .filter(([, row]) => row.amount.trim() !== "")
        .map(([item]) => Number(item))
    : [];
  const words = (amount: number) => decimal(amount, exponentOf(currency));
  const discounts =
    fits.some((item) => item.early) ||
    !!preview?.document.applied.some((applied) => applied.beside.discount.amount !== 0) ||
    Object.values(typed ?? {}).some((row) => row.discount);
  if (fits.length === 0 && items.length > 0 && !preview) {
    return <p>Type the amount: what it settles is worked out at the rates of the day.</p>;
  }
  if (fits.length === 0) {
    return <p>No invoice of this customer is open in {currency}. The money stays unapplied until there is one.</p>;
  }
  return (
    <Lines label="Open invoices">
      <thead>
        <tr>
          <th>Invoice</th>
          <th>Date</th>
          <th>Due</th>
          {!discounts && <th className="right">Total</th>}
          <th className="right">Balance due</th>
          <th className="right">Apply {currency}</th>
          {discounts && <th className="right">Discount</th>}
          <th className="right">Balance after</th>
        </tr>
      </thead>
      <tbody>
        {fits.map((item) => {
          const applied = preview?.document.applied.find((one) => one.item === item.item);
          const row = shown(item, typed, preview);
          const at = `applications.${typed ? order.indexOf(item.item) : preview?.document.applied.findIndex((one) => one.item === item.item)}`;
          const wrong = errors[`${at}.amount`];
          const wrongDiscount = errors[`${at}.discount`];
          const wrongDifference = errors[`${at}.write_off`];
          return (
            <tr key={item.item}>
              <td>
                <b>{item.number}</b> {item.branch && <span className="dim">of {item.branch}</span>}
                {!typed && because(preview, item.item)}
                {item.early && (
                  <div className="dim nowrap">
                    {inIts(item.early.amount, item)} less until {date(item.early.until)}
                  </div>
                )}
              </td>
              <td className="dim nowrap">{date(item.document_date)}</td>
              <td className="dim nowrap">
                {date(item.due_date)} <Late days={item.days_late} />
              </td>
              {!discounts && <td className="right dim">{inIts(item.total, item)}</td>}
              <td className="right nowrap">
                {inIts(item.open, item)}
                {item.currency !== currency && (
                  <div className="dim">{moneyWithCurrency(settledBy.get(item.item) ?? 0, currency)}</div>
                )}
              </td>
              <td className="right">
                <TextField
                  value={row.amount}
                  onChange={(event) => type(item.item, { amount: event.target.value })}
                  onKeyDown={(event) => {
                    // "=" fills in what is open, less what paying early takes off.
                    if (event.key === "=") {
                      event.preventDefault();
                      const all = settledBy.get(item.item) ?? item.open - (item.early?.amount ?? 0);
                      type(item.item, { amount: words(all) });
                    }
                  }}
                  error={!!wrong}
                  helperText={wrong}
                  sx={{ width: 124 }}
                  slotProps={{
                    htmlInput: {
                      "aria-label": `Apply to ${item.number}, ${inIts(item.open, item)} open`,
                      inputMode: "decimal",
                      style: { textAlign: "right" },
                    },
                  }}
                />
              </td>
              {discounts && (
                <td className="right">
                  <TextField
                    value={
                      row.discount ?? (applied?.beside.discount.amount ? words(applied.beside.discount.amount) : "")
                    }
                    onChange={(event) => type(item.item, { ...row, discount: event.target.value })}
                    disabled={row.amount === "" || item.currency !== currency}
                    error={!!wrongDiscount}
                    helperText={wrongDiscount}
                    sx={{ width: 92 }}
                    slotProps={{
                      htmlInput: {
                        "aria-label": `Discount on ${item.number}`,
                        inputMode: "decimal",
                        style: { textAlign: "right" },
                      },
                    }}
                  />
                </td>
              )}
              <td className="right">
                {applied && (
                  <Stays
                    applied={applied}
                    currency={applied.currency}
                    foreign={applied.currency !== currency}
                    error={wrongDifference ?? errors[`${at}.dispute`]}
                    number={item.number}
                    disputed={item.disputed}
                    dispute={row.dispute}
                    note={(dispute) => type(item.item, { ...row, dispute })}
                    writeOff={(amount) =>
                      type(item.item, { ...row, writeOff: amount === 0 ? undefined : words(amount) })
                    }
                  />
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </Lines>
  );
}

/** Up to which part of a document the rest is offered to be written off: more than that is a part payment. */
const SMALL = 20;

/** What stays open of an item; a small rest can be written off. */
function Stays({
  applied,
  currency,
  foreign,
  error,
  writeOff,
  number,
  disputed,
  dispute,
  note,
}: {
  applied: MoneyPreview["document"]["applied"][number];
  currency: string;
  /** Whether the money is in another currency: nothing is given up between two. */
  foreign: boolean;
  error: string | undefined;
  writeOff: (amount: number) => void;
  number: string;
  /** What of it is in dispute already. */
  disputed: number;
  dispute: DisputeWords | undefined;
  note: (dispute: DisputeWords | undefined) => void;
}) {
  const [asking, setAsking] = useState(false);
  const given = applied.beside.written_off.amount - applied.beside.kept.amount;
  const small = applied.open_after > 0 && applied.open_after * SMALL <= applied.amount;
  return (
    <>
      {applied.open_after === 0 ? (
        <Marked className="done">settled</Marked>
      ) : foreign ? (
        moneyWithCurrency(applied.open_after, currency)
      ) : (
        money(applied.open_after, currency)
      )}
      {given !== 0 && (
        <div className="dim nowrap">
          {money(Math.abs(given), currency)} {given > 0 ? "written off" : "kept as income"}{" "}
          <button type="button" className="quietly" onClick={() => writeOff(0)}>
            undo
          </button>
        </div>
      )}
      {given === 0 && applied.open_after > 0 && (
        <div className="dim nowrap">
          {small && !dispute && !foreign && (
            <>
              <button type="button" className="quietly" onClick={() => writeOff(applied.open_after)}>
                write off
              </button>{" "}
            </>
          )}
          {dispute ? (
            <>
              in dispute: {disputeReasons[dispute.reason]}{" "}
              <button type="button" className="quietly" onClick={() => note(undefined)}>
                undo
              </button>
            </>
          ) : disputed > 0 ? (
            "in dispute"
          ) : (
            <button type="button" className="quietly" onClick={() => setAsking(true)}>
              dispute
            </button>
          )}
        </div>
      )}
      {asking && <DisputeWordsAsk number={number} before={dispute} keep={note} close={() => setAsking(false)} />}
      {error && (
        <div role="alert">
          <Marked className="blocked">{error}</Marked>
        </div>
      )}
    </>
  );
}

export function MoneyTape({ preview }: { preview: MoneyPreview | undefined }) {
  return (
    <PreviewTape
      preview={preview}
      more={preview?.with.flatMap((credit) => (credit.entry ? [credit.entry] : []))}
      until="The arithmetic and the entry appear here as soon as there is a customer and an amount."
    />
  );
}

/** Errors of fields: those of the request, and those of the checks. */
export function fieldErrors(
  preview: MoneyPreview | undefined,
  problem: { field?: string; message: string } | null,
): Record<string, string> {
  const errors: Record<string, string> = {};
  for (const blocker of preview?.blockers ?? []) {
    if (blocker.effect === "stops") {
      errors[blocker.field] ??= blocker.sentence;
    }
  }
  if (problem?.field) {
    errors[problem.field] = problem.message;
  }
  return errors;
}
