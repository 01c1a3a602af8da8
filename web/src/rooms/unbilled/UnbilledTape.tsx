import type { InvoicePreview } from "../../api/types";
import { money, moneyWithCurrency, plural } from "../../format";
import { Wrong } from "../../parts/bits";
import { BlockerLines, ChangeLines, EntryLines, Paper, TapeLines, Tear } from "../../parts/TapeRoll";

/** Sums by currency, said with their sign. */
export function totals(previews: InvoicePreview[]): string {
  const sums = new Map<string, bigint>();
  for (const { document } of previews) {
    if (document) {
      sums.set(document.currency, (sums.get(document.currency) ?? 0n) + BigInt(document.total));
    }
  }
  return [...sums].map(([currency, sum]) => moneyWithCurrency(Number(sum), currency)).join(" + ");
}

export function UnbilledTape({
  previews,
  base,
  wrong,
}: {
  previews: InvoicePreview[];
  base: string;
  wrong: Error | null;
}) {
  if (wrong) {
    return (
      <Paper>
        <div className="words">
          <Wrong error={wrong} />
        </div>
      </Paper>
    );
  }
  return (
    <Paper>
      {previews.length > 1 && (
        <>
          <h2>
            {plural(previews.length, "invoice", "invoices")}
            <br />
            <span>one for each of what may stand together</span>
          </h2>
          {previews.map((one) => (
            <div className="l" key={one.fingerprint}>
              <span>{one.customer_name}</span>
              <span>{one.document && money(one.document.total, one.document.currency)}</span>
            </div>
          ))}
          <div className="l due">
            <span>Together</span>
            <span>{totals(previews)}</span>
          </div>
          <Tear />
        </>
      )}
      {previews.slice(0, 12).map((one) => (
        <div key={one.fingerprint}>
          <TapeLines tape={one.tape} />
          <BlockerLines blockers={one.blockers} />
          <Tear />
          {one.entry && <EntryLines entry={one.entry} base={base} title="Entry when posted" />}
          {one.cost_entry && <EntryLines entry={one.cost_entry} base={base} title="Entry of the cost" />}
          <ChangeLines changes={one.changes} base={base} />
        </div>
      ))}
    </Paper>
  );
}
