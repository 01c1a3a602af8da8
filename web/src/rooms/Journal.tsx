import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { PostedEntry } from "../api/types";
import { date, money, plural } from "../format";
import { Chips, ExportLink, FilterField, RoomLinks, useBase, useFilter, Wrong } from "../parts/bits";
import { STRETCH, useList } from "../parts/list";
import { PickedSum } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { EntryLines, Paper } from "../parts/TapeRoll";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";

export const ledgerLinks: [string, string][] = [
  ["/ledger", "Journal"],
  ["/ledger/trial-balance", "Trial balance"],
  ["/ledger/open-items", "Open items"],
];

export function JournalRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const list = useList({
    key: ["journal", search],
    load: (offset: number) =>
      got(
        api.GET("/api/ledger/journal", {
          params: { query: { q: search || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.entries,
    place: "/entries",
  });
  const { first, current, picked, open } = list;
  const columns: Column<PostedEntry>[] = [
    { key: "number", sort: (row) => row.number, head: "Entry", width: "70px", cell: (row) => row.number },
    { key: "date", sort: (row) => row.date, head: "Date", width: "112px", cell: (row) => date(row.date) },
    {
      key: "source",
      sort: (row) => row.source.number,
      head: "Document",
      width: "92px",
      cell: (row) => row.source.number,
    },
    { key: "text", sort: (row) => row.text, head: "What", width: "minmax(0, 1fr)", cell: (row) => row.text },
    {
      key: "debits",
      sort: (row) => row.debits,
      sum: (row) => ({ minor: row.debits, currency: base }),
      head: base,
      width: "110px",
      right: true,
      cell: (row) => money(row.debits, base),
    },
  ];
  return (
    <Worktop
      title="Journal"
      sum={first && `${plural(first.count, "entry", "entries")} · ${money(first.debits, base)} debit, the same credit`}
      actions={[
        {
          key: "Enter",
          label: current ? `Open entry ${current.number}` : "Open",
          run: open,
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
        { key: "t", label: "Trial balance", run: () => navigate("/ledger/trial-balance") },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="entry"
            more="entries"
            sums={[["Debit", picked.map((row) => ({ minor: row.debits, currency: base }))]]}
          />
          {current && (
            <Paper>
              <h2>
                Entry {current.number}
                <br />
                <span>
                  {current.source.number}, {date(current.date)}
                </span>
              </h2>
              <EntryLines entry={current} base={base} title={current.text} />
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={ledgerLinks} />
        <span className="gap" />
        <FilterField label="Words or document" />
        <ExportLink list="journal" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows label="Journal" {...list.rows} columns={columns} empty="No entry fits. Clear the filter to see all." />
      )}
    </Worktop>
  );
}
