import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { PostedEntry } from "../api/types";
import { date, money, plural } from "../format";
import { Chips, ExportLink, FilterField, RoomLinks, useBase, useFilter, Wrong } from "../parts/bits";
import { PickedSum, usePicks } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { EntryLines, Paper } from "../parts/TapeRoll";
import { placeOf, rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";

export const ledgerLinks: [string, string][] = [
  ["/ledger", "Journal"],
  ["/ledger/trial-balance", "Trial balance"],
];

const idOf = (row: PostedEntry) => String(row.id);

export function JournalRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [current, setCurrent] = useState<PostedEntry>();
  const list = useInfiniteQuery({
    queryKey: ["journal", search],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/ledger/journal", {
          params: { query: { q: search || undefined, limit: 100, offset: pageParam } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (_, pages) => {
      const shown = pages.reduce((sum, page) => sum + page.entries.length, 0);
      return shown < (pages[0]?.count ?? 0) ? shown : undefined;
    },
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((page) => page.entries) ?? [];
  const first = list.data?.pages[0];
  const { picks, onPick, picked } = usePicks(rows, idOf);
  const open = (row: PostedEntry) => {
    rememberSequence(rows.map((one) => `/entries/${one.id}`));
    navigate(`/entries/${row.id}`);
  };
  const columns: Column<PostedEntry>[] = [
    { key: "number", head: "Entry", width: "70px", cell: (row) => row.number },
    { key: "date", head: "Date", width: "112px", cell: (row) => date(row.date) },
    { key: "source", head: "Document", width: "92px", cell: (row) => row.source.number },
    { key: "text", head: "What", width: "minmax(0, 1fr)", cell: (row) => row.text },
    { key: "debits", head: base, width: "110px", right: true, cell: (row) => money(row.debits, base) },
  ];
  return (
    <Worktop
      title="Journal"
      sum={first && `${plural(first.count, "entry", "entries")} · ${money(first.debits, base)} debit, the same credit`}
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
      {list.data && (
        <Rows
          label="Journal"
          rows={rows}
          idOf={idOf}
          picks={picks}
          onPick={onPick}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          more={() => list.hasNextPage && !list.isFetchingNextPage && list.fetchNextPage()}
          empty="No entry fits. Clear the filter to see all."
        />
      )}
    </Worktop>
  );
}
