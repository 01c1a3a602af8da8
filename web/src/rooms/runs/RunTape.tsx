import type { RunInvoice, RunView } from "../../api/types";
import { date, money, moneyWithCurrency, plural } from "../../format";
import { BlockerLines, Paper, Tear } from "../../parts/TapeRoll";

/** What a run comes to, by currency and by account. */
export function RunTape({ view, current }: { view: RunView; current: RunInvoice | undefined }) {
  const shown = view.ready.length > 0 ? view.ready : view.posted;
  const posted = view.ready.length === 0;
  return (
    <Paper>
      <h2>
        {view.name}
        <br />
        <span>
          made {date(view.made_on)} by {view.person}
        </span>
      </h2>
      {shown.map((one) => (
        <div key={one.currency}>
          <div className="l">
            <span>
              {plural(one.invoices, "invoice", "invoices")}, net {one.currency}
            </span>
            <span>{money(one.net, one.currency)}</span>
          </div>
          <div className="l">
            <span>Tax</span>
            <span>{money(one.tax, one.currency)}</span>
          </div>
          <div className="l due">
            <span>{posted ? "Posted" : "To post"}</span>
            <span>{moneyWithCurrency(one.total, one.currency)}</span>
          </div>
        </div>
      ))}
      {view.posted.length > 0 && !posted && (
        <div className="l detail">
          <span>posted already</span>
          <span>{money(view.posted_base, view.base)}</span>
        </div>
      )}
      {view.accounts.length > 0 && (
        <>
          <Tear />
          <h3>By account, {view.base}</h3>
          <div className="entry">
            <div className="e h">
              <span>Account</span>
              <span>Debit</span>
              <span>Credit</span>
            </div>
            {view.accounts.map((one) => (
              <div className="e" key={one.account}>
                <span>
                  {one.account} {one.name}
                </span>
                <span>{one.base > 0 ? money(one.base, view.base) : ""}</span>
                <span>{one.base < 0 ? money(-one.base, view.base) : ""}</span>
              </div>
            ))}
          </div>
        </>
      )}
      {current && current.blockers.length > 0 && (
        <>
          <Tear />
          <h3>{current.customer_name}</h3>
          <BlockerLines blockers={current.blockers} />
        </>
      )}
    </Paper>
  );
}
