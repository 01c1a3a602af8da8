import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { ReceiptRow } from "../api/types";
import { money, plural, shortDate } from "../format";
import { Chips, ExportLink, FilterField, Marked, StateChips, useBase, useFilter, useToday, Wrong } from "../parts/bits";
import { PickedSum, usePicks } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";
import { Amount } from "./Invoices";

const idOf = (row: ReceiptRow) => String(row.id);

export function ReceiptsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const [current, setCurrent] = useState<ReceiptRow>();
  const list = useInfiniteQuery({
    queryKey: ["receipts", search, state],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/receipts", {
          params: { query: { q: search || undefined, state: state || undefined, limit: 200, offset: pageParam } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (_, pages) => {
      const shown = pages.reduce((sum, page) => sum + page.receipts.length, 0);
      return shown < (pages[0]?.count ?? 0) ? shown : undefined;
    },
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((page) => page.receipts) ?? [];
  const first = list.data?.pages[0];
  const { picks, onPick, picked } = usePicks(rows, idOf);
  const open = (row: ReceiptRow) => {
    rememberSequence(rows.map((one) => `/receipts/${one.id}`));
    navigate(`/receipts/${row.id}`);
  };
  const columns: Column<ReceiptRow>[] = [
    { key: "number", head: "Receipt", width: "76px", cell: (row) => row.number },
    { key: "date", head: "Date", width: "92px", cell: (row) => shortDate(row.date, today) },
    { key: "customer", head: "Customer", width: "minmax(0, 1fr)", cell: (row) => row.customer_name },
    { key: "method", head: "Method", width: "78px", cell: (row) => row.method },
    {
      key: "reference",
      head: "Reference",
      width: "minmax(0, 0.8fr)",
      cell: (row) => <Marked className="dim">{row.reference}</Marked>,
    },
    {
      key: "amount",
      head: "Amount",
      width: "106px",
      right: true,
      cell: (row) => <Amount minor={row.amount} currency={row.currency} base={base} />,
    },
    {
      key: "unapplied",
      head: "Unapplied",
      width: "100px",
      right: true,
      cell: (row) => row.unapplied > 0 && <Marked className="heed">▲ {money(row.unapplied, row.currency)}</Marked>,
    },
  ];
  return (
    <Worktop
      title="Receipts"
      sum={first && `${plural(first.count, "receipt", "receipts")} · ${money(first.unapplied_base, base)} unapplied`}
      actions={[
        { key: "n", label: "New receipt", run: () => navigate("/receipts/new"), primary: true },
        {
          key: "Enter",
          label: current ? (current.unapplied > 0 ? `Apply ${current.number}` : `Open ${current.number}`) : "Open",
          run: () => current && open(current),
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="receipt"
            more="receipts"
            sums={[
              ["Amount", picked.map((row) => ({ minor: row.amount, currency: row.currency }))],
              ["Unapplied", picked.map((row) => ({ minor: row.unapplied, currency: row.currency }))],
            ]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number}, {current.method}
                </span>
              </h2>
              <div className="l">
                <span>Received</span>
                <span>{money(current.amount, current.currency)}</span>
              </div>
              <div className="l due">
                <span>Unapplied</span>
                <span>{money(current.unapplied, current.currency)}</span>
              </div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <FilterField label="Customer, number, reference" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["unapplied", "With money unapplied"],
          ]}
        />
        <ExportLink list="receipts" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {list.data && (
        <Rows
          label="Receipts"
          rows={rows}
          idOf={idOf}
          picks={picks}
          onPick={onPick}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          more={() => list.hasNextPage && !list.isFetchingNextPage && list.fetchNextPage()}
          empty="No receipt fits. Clear the filter, or enter one."
        />
      )}
    </Worktop>
  );
}
