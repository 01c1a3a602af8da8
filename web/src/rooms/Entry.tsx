import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import { date, moment, money, percent } from "../format";
import { Facts, Lines, useBase, Wrong } from "../parts/bits";
import { Paper } from "../parts/TapeRoll";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";

export function EntryRoom() {
  const { id = "" } = useParams();
  const base = useBase();
  const navigate = useNavigate();
  const query = useQuery({
    queryKey: ["entry", id],
    queryFn: () => got(api.GET("/api/ledger/entries/{id}", { params: { path: { id: Number(id) } } })),
  });
  const entry = query.data;
  if (!entry) {
    return (
      <Worktop title="Entry" actions={[]} back="/ledger">
        {query.error && <Wrong error={query.error} />}
      </Worktop>
    );
  }
  const foreign = entry.lines.some((line) => line.currency !== base);
  return (
    <Worktop
      title={`Entry ${entry.number}`}
      sum={entry.text}
      back="/ledger"
      actions={[
        {
          key: "o",
          label: `Its document ${entry.source.number}`,
          run: () => navigate(placeOf(entry.source)),
          primary: true,
          disabled: entry.source.kind === "intake",
        },
      ]}
      tape={
        <Paper>
          <h2>
            {entry.text}
            <br />
            <span>written by {entry.source.number}</span>
          </h2>
          <div className="l">
            <span>Debits</span>
            <span>{money(entry.debits, base)}</span>
          </div>
          <div className="l">
            <span>Credits</span>
            <span>{money(-entry.debits, base)}</span>
          </div>
          <div className="l due">
            <span>Balances</span>
            <span>{money(0, base)}</span>
          </div>
          <div className="words quiet">An entry never changes. What was wrong is corrected by another one.</div>
        </Paper>
      }
    >
      <Facts
        facts={[
          ["Posted on", date(entry.date)],
          [
            "Document",
            <Link key="d" to={placeOf(entry.source)}>
              {entry.source.number}
            </Link>,
          ],
          ["Written by", entry.made_by ? `${entry.made_by}, ${entry.made_at ? moment(entry.made_at) : ""}` : undefined],
          [
            "Takes back",
            entry.reverses && (
              <Link key="r" to={placeOf(entry.reverses)}>
                {entry.reverses.number}
              </Link>
            ),
          ],
        ]}
      />
      <Lines label="Lines of the entry">
        <thead>
          <tr>
            <th>Account</th>
            <th>Tax</th>
            <th>Tax date</th>
            <th className="right">Taxed {base}</th>
            {foreign && <th className="right">Own currency</th>}
            <th className="right">Debit {base}</th>
            <th className="right">Credit {base}</th>
          </tr>
        </thead>
        <tbody>
          {entry.lines.map((line, position) => (
            <tr key={position}>
              <td>
                <Link to={`/ledger/accounts/${line.account}`}>{line.account}</Link> {line.account_name}
              </td>
              <td className="dim">
                {line.tax?.code} {line.tax?.rate && percent(line.tax.rate)}
              </td>
              <td className="dim">{line.tax?.tax_date ? date(line.tax.tax_date) : ""}</td>
              <td className="right dim">{line.tax ? money(line.tax.base, base) : ""}</td>
              {foreign && (
                <td className="right dim">
                  {line.currency === base ? "" : `${money(line.document, line.currency)} ${line.currency}`}
                </td>
              )}
              <td className="right">{line.base > 0 ? money(line.base, base) : ""}</td>
              <td className="right">{line.base <= 0 ? money(-line.base, base) : ""}</td>
            </tr>
          ))}
        </tbody>
        <tfoot>
          <tr>
            <td colSpan={foreign ? 5 : 4}>Sum</td>
            <td className="right">{money(entry.debits, base)}</td>
            <td className="right">{money(entry.debits, base)}</td>
          </tr>
        </tfoot>
      </Lines>
    </Worktop>
  );
}
