import TextField from "@mui/material/TextField";
import type { Because, MoneyPreview, OpenItem } from "../api/types";
import { date, decimal, exponentOf, money } from "../format";
import { Late, Lines, Marked } from "../parts/bits";
import { PreviewTape } from "../parts/TapeRoll";

/** Amounts typed for open items, by item; none typed yet means: propose the oldest first. */
export type Typed = Record<number, string> | undefined;

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

/** The amount shown for an invoice: what was typed, or what is proposed. */
function shown(item: OpenItem, typed: Typed, preview: MoneyPreview | undefined): string {
  if (typed) {
    return typed[item.item] ?? "";
  }
  const proposed = preview?.document.applied.find((applied) => applied.item === item.item);
  return proposed && preview ? decimal(proposed.credit_amount, exponentOf(preview.currency)) : "";
}

/** What is shown, as amounts for the server; empty fields are left out. */
export function asApplications(typed: Typed, clean: (text: string) => string) {
  return typed
    ? Object.entries(typed)
        .filter(([, amount]) => amount.trim() !== "")
        .map(([item, amount]) => ({ item: Number(item), amount: clean(amount) }))
    : null;
}

/** What a customer and its branches have open, each with a field for the amount applied to it. */
export function ApplyTable({ items, currency, typed, setTyped, preview, errors }: Props) {
  const fits = items.filter((item) => item.currency === currency);
  const begin = (): Record<number, string> => {
    const all: Record<number, string> = {};
    for (const item of fits) {
      const amount = shown(item, typed, preview);
      if (amount) {
        all[item.item] = amount;
      }
    }
    return all;
  };
  const order = typed
    ? Object.entries(typed)
        .filter(([, amount]) => amount.trim() !== "")
        .map(([item]) => Number(item))
    : [];
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
          <th className="right">Total</th>
          <th className="right">Open</th>
          <th className="right">Apply {currency}</th>
          <th className="right">Stays open</th>
        </tr>
      </thead>
      <tbody>
        {fits.map((item) => {
          const applied = preview?.document.applied.find((one) => one.item === item.item);
          const wrong = errors[`applications.${order.indexOf(item.item)}.amount`];
          return (
            <tr key={item.item}>
              <td>
                <b>{item.number}</b> {item.branch && <span className="dim">of {item.branch}</span>}
                {!typed && because(preview, item.item)}
              </td>
              <td className="dim nowrap">{date(item.document_date)}</td>
              <td className="dim nowrap">
                {date(item.due_date)} <Late days={item.days_late} />
              </td>
              <td className="right dim">{money(item.total, currency)}</td>
              <td className="right">{money(item.open, currency)}</td>
              <td className="right">
                <TextField
                  value={shown(item, typed, preview)}
                  onChange={(event) => setTyped({ ...begin(), [item.item]: event.target.value })}
                  onKeyDown={(event) => {
                    // "=" fills in what is open.
                    if (event.key === "=") {
                      event.preventDefault();
                      setTyped({ ...begin(), [item.item]: decimal(item.open, exponentOf(currency)) });
                    }
                  }}
                  error={!!wrong}
                  helperText={wrong}
                  sx={{ width: 124 }}
                  slotProps={{
                    htmlInput: {
                      "aria-label": `Apply to ${item.number}, ${money(item.open, currency)} open`,
                      inputMode: "decimal",
                      style: { textAlign: "right" },
                    },
                  }}
                />
              </td>
              <td className="right">
                {applied ? (
                  applied.open_after === 0 ? (
                    <Marked className="done">settled</Marked>
                  ) : (
                    money(applied.open_after, currency)
                  )
                ) : (
                  ""
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </Lines>
  );
}

export function MoneyTape({ preview }: { preview: MoneyPreview | undefined }) {
  return (
    <PreviewTape
      preview={preview}
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
