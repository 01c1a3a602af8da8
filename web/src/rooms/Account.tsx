import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got } from "../api/client";
import type { AccountSheet } from "../api/types";
import { date, money, plural } from "../format";
import { useBase, useFilter, Wrong } from "../parts/bits";
import { type Column, Rows } from "../parts/Rows";
import { EntryLines, Paper } from "../parts/TapeRoll";
import { placeOf, rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";

type Line = AccountSheet["lines"][number] & { position: number };

export function AccountRoom() {
  const { number = "" } = useParams();
  const base = useBase();
  const navigate = useNavigate();
  const [asOf] = useFilter("as_of");
  const [current, setCurrent] = useState<Line>();
  const sheet = useQuery({
    queryKey: ["account", number, asOf],
    queryFn: () =>
      got(
        api.GET("/api/ledger/accounts/{number}", {
          params: { path: { number }, query: { as_of: asOf || undefined, limit: 500 } },
        }),
      ),
  });
  const entry = useQuery({
    queryKey: ["entry", String(current?.entry)],
    queryFn: () => got(api.GET("/api/ledger/entries/{id}", { params: { path: { id: current?.entry ?? 0 } } })),
    enabled: !!current,
  });
  const rows: Line[] = useMemo(
    () => (sheet.data?.lines ?? []).map((line, position) => ({ ...line, position })).reverse(),
    [sheet.data],
  );
  const open = (row: Line) => {
    rememberSequence(rows.map((one) => `/entries/${one.entry}`));
    navigate(`/entries/${row.entry}`);
  };
  const columns: Column<Line>[] = [
    { key: "date", head: "Date", width: "112px", cell: (row) => date(row.date) },
    { key: "entry", head: "Entry", width: "70px", cell: (row) => row.number },
    { key: "source", head: "Document", width: "92px", cell: (row) => row.source.number },
    { key: "text", head: "What", width: "minmax(0, 1fr)", cell: (row) => row.text },
    {
      key: "debit",
      head: `Debit ${base}`,
      width: "110px",
      right: true,
      cell: (row) => (row.amount > 0 ? money(row.amount, base) : ""),
    },
    {
      key: "credit",
      head: `Credit ${base}`,
      width: "110px",
      right: true,
      cell: (row) => (row.amount < 0 ? money(-row.amount, base) : ""),
    },
    { key: "balance", head: "Balance", width: "112px", right: true, cell: (row) => money(row.balance, base) },
  ];
  return (
    <Worktop
      title={`${number} ${sheet.data?.name ?? ""}`}
      sum={sheet.data && `${money(sheet.data.closing, base)}${asOf ? ` as of ${date(asOf)}` : ""}`}
      back="/ledger/trial-balance"
      actions={[
        {
          key: "Enter",
          label: current ? `Open entry ${current.number}` : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        {
          key: "o",
          label: current ? `Its document ${current.source.number}` : "Its document",
          run: () => current && navigate(placeOf(current.source)),
          disabled: !current || current.source.kind === "intake",
        },
      ]}
      rest={sheet.data && <span>{plural(rows.length, "line", "lines")}, newest first</span>}
      tape={
        <Paper>
          {entry.data && current && (
            <>
              <h2>
                Entry {entry.data.number}
                <br />
                <span>
                  {entry.data.source.number}, {date(entry.data.date)}
                </span>
              </h2>
              <EntryLines entry={entry.data} base={base} title={entry.data.text} />
            </>
          )}
          {sheet.data && (
            <>
              <h3>Balance</h3>
              <div className="l quiet">
                <span>before the lines shown</span>
                <span>{money(sheet.data.opening, base)}</span>
              </div>
              <div className="l sum">
                <span>after them</span>
                <span>{money(sheet.data.closing, base)}</span>
              </div>
            </>
          )}
        </Paper>
      }
    >
      {sheet.error && <Wrong error={sheet.error} />}
      {sheet.data && (
        <Rows
          label={`Lines of account ${number}`}
          rows={rows}
          idOf={(row) => `${row.entry}-${row.position}`}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          empty="Nothing was posted to this account by then."
        />
      )}
    </Worktop>
  );
}
