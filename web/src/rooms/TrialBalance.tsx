import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { components } from "../api/schema";
import { date, money } from "../format";
import { Chips, ExportLink, Marked, RoomLinks, useBase, useFilter, Wrong } from "../parts/bits";
import { DateFilter } from "../parts/DateFilter";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";
import { ledgerLinks } from "./Journal";

type Balance = components["schemas"]["Balance"];

export function TrialBalanceRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [asOf, setAsOf] = useFilter("as_of");
  const [current, setCurrent] = useState<Balance>();
  const balance = useQuery({
    queryKey: ["trial-balance", asOf],
    queryFn: () => got(api.GET("/api/ledger/trial-balance", { params: { query: { as_of: asOf || undefined } } })),
    placeholderData: keepPreviousData,
  });
  const ties = useQuery({ queryKey: ["tie-outs"], queryFn: () => got(api.GET("/api/tie-outs")) });
  const rows = balance.data?.accounts ?? [];
  const query = asOf ? `?as_of=${asOf}` : "";
  const open = (row: Balance) => {
    rememberSequence(rows.map((one) => `/ledger/accounts/${one.number}`));
    navigate(`/ledger/accounts/${row.number}${query}`);
  };
  const amount = (minor: number) => (minor === 0 ? "" : money(minor, base));
  const columns: Column<Balance>[] = [
    { key: "number", sort: (row) => row.number, head: "Account", width: "80px", cell: (row) => row.number },
    { key: "name", sort: (row) => row.name, head: "Name", width: "minmax(0, 1fr)", cell: (row) => row.name },
    {
      key: "type",
      sort: (row) => row.account_type,
      head: "Type",
      width: "90px",
      cell: (row) => <Marked className="dim">{row.account_type}</Marked>,
    },
    {
      key: "debits",
      sort: (row) => row.debits,
      head: `Debit ${base}`,
      width: "122px",
      right: true,
      cell: (row) => amount(row.debits),
    },
    {
      key: "credits",
      sort: (row) => row.credits,
      head: `Credit ${base}`,
      width: "122px",
      right: true,
      cell: (row) => amount(row.credits),
    },
    {
      key: "balance",
      sort: (row) => row.balance,
      head: "Balance",
      width: "122px",
      right: true,
      cell: (row) => <b>{money(row.balance, base)}</b>,
    },
  ];
  return (
    <Worktop
      title="Trial balance"
      sum={balance.data && `as of ${date(balance.data.as_of)}`}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number} ${current.name}` : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        { key: "j", label: "Journal", run: () => navigate("/ledger") },
      ]}
      tape={
        balance.data && (
          <Paper>
            <h2>
              All accounts
              <br />
              <span>as of {date(balance.data.as_of)}</span>
            </h2>
            <div className="l">
              <span>Debits</span>
              <span>{money(balance.data.debits, base)}</span>
            </div>
            <div className="l">
              <span>Credits</span>
              <span>{money(-balance.data.credits, base)}</span>
            </div>
            <div className="l due">
              <span>Together</span>
              <span>{money(Number(BigInt(balance.data.debits) - BigInt(balance.data.credits)), base)}</span>
            </div>
            <h3>Reconciliation checks</h3>
            {ties.data?.proofs.map((proof) => (
              <div className="words" key={proof.name}>
                <Marked className={proof.holds ? "done" : "stop"}>{proof.holds ? "●" : "◆"}</Marked> {proof.name}
                {proof.findings.slice(0, 2).map((finding) => (
                  <div key={finding}>{finding}</div>
                ))}
              </div>
            ))}
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={ledgerLinks} />
        <span className="gap" />
        <DateFilter label="As of" value={asOf} assumed={balance.data?.as_of ?? ""} set={setAsOf} />
        <ExportLink list="trial-balance" />
      </Chips>
      {balance.error && <Wrong error={balance.error} />}
      {balance.data && (
        <Rows
          label="Accounts"
          rows={rows}
          idOf={(row) => row.number}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          empty="Nothing was posted by then. Choose a later day."
          rowHeight={34}
        />
      )}
    </Worktop>
  );
}
