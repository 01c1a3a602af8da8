import { useQuery } from "@tanstack/react-query";
import { api, got } from "../../api/client";
import type { components } from "../../api/schema";
import { date, money } from "../../format";
import { useBase } from "../../parts/bits";
import { Paper } from "../../parts/TapeRoll";

type Liability = components["schemas"]["Liability"];

const kinds: Partial<Record<Liability["purpose"], string>> = {
  deposit_liability: "customer deposits",
  prepayment_liability: "prepayment invoices",
  unapplied: "unapplied receipts",
  container_liability: "returnable packaging",
};

/** What is owed to customers, as the balance sheet shows it: by kind, before and after today. */
export function LiabilityPaper() {
  const base = useBase();
  const liabilities = useQuery({
    queryKey: ["liabilities"],
    queryFn: () => got(api.GET("/api/ledger/liabilities", { params: { query: {} } })),
  });
  const found = liabilities.data;
  if (!found) {
    return null;
  }
  return (
    <Paper>
      <h2>
        Owed to customers
        <br />
        <span>{date(found.as_of)}, as a balance sheet shows it</span>
      </h2>
      <div className="l">
        <span>Before today</span>
        <span>{money(found.before, base)}</span>
      </div>
      {found.rows.flatMap((row) => [
        row.added > 0 && (
          <div className="l quiet" key={`${row.purpose}+`}>
            <span>+ {kinds[row.purpose]}</span>
            <span>{money(row.added, base)}</span>
          </div>
        ),
        row.taken > 0 && (
          <div className="l quiet" key={`${row.purpose}-`}>
            <span>− {kinds[row.purpose]}</span>
            <span>{money(-row.taken, base)}</span>
          </div>
        ),
      ])}
      <h3>Today</h3>
      {found.rows
        .filter((row) => row.after !== 0)
        .map((row) => (
          <div className="l" key={row.purpose}>
            <span>{kinds[row.purpose]}</span>
            <span>{money(row.after, base)}</span>
          </div>
        ))}
      <div className="l sum">
        <span>in the ledger</span>
        <span>{money(found.after, base)}</span>
      </div>
      {found.not_shown !== 0 && (
        <div className="l">
          <span>neither paid nor due</span>
          <span>{money(-found.not_shown, base)}</span>
        </div>
      )}
      <div className="l due">
        <span>Shown</span>
        <span>{money(found.shown, base)}</span>
      </div>
      {found.not_due !== 0 && (
        <div className="words quiet">
          Prepayment invoices give no right to their money before it is due: receivables of {money(found.not_due, base)}{" "}
          are not shown either.
        </div>
      )}
    </Paper>
  );
}
