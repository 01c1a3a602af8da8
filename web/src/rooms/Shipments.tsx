import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { ShipmentRow } from "../api/types";
import { date, plural, shortDate } from "../format";
import { Chips, ExportLink, FilterField, Marked, StateChips, useFilter, useToday, Wrong } from "../parts/bits";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";

export function ShipmentsRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const [current, setCurrent] = useState<ShipmentRow>();
  const list = useInfiniteQuery({
    queryKey: ["shipments", search, state],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/shipments", {
          params: { query: { q: search || undefined, state: state || undefined, limit: 200, offset: pageParam } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (_, pages) => {
      const shown = pages.reduce((sum, page) => sum + page.shipments.length, 0);
      return shown < (pages[0]?.count ?? 0) ? shown : undefined;
    },
    placeholderData: keepPreviousData,
  });
  const rows = list.data?.pages.flatMap((page) => page.shipments) ?? [];
  const open = (row: ShipmentRow) => {
    rememberSequence(rows.map((one) => `/shipments/${one.id}`));
    navigate(`/shipments/${row.id}`);
  };
  const columns: Column<ShipmentRow>[] = [
    { key: "number", head: "Shipment", width: "82px", cell: (row) => row.number },
    { key: "order", head: "Order", width: "76px", cell: (row) => row.order_number },
    { key: "customer", head: "Customer", width: "minmax(0, 1fr)", cell: (row) => row.customer_name },
    {
      key: "what",
      head: "What",
      width: "minmax(0, 1.1fr)",
      cell: (row) => <Marked className="dim">{row.what}</Marked>,
    },
    {
      key: "posted",
      head: "Left on",
      width: "92px",
      cell: (row) => (row.posting_date ? shortDate(row.posting_date, today) : ""),
    },
    {
      key: "state",
      head: "State",
      width: "92px",
      cell: (row) =>
        row.posting_date ? (
          row.unbilled ? (
            "unbilled"
          ) : (
            <Marked className="done">● billed</Marked>
          )
        ) : (
          <Marked className="heed">▲ packed</Marked>
        ),
    },
  ];
  const first = list.data?.pages[0];
  return (
    <Worktop
      title="Shipments"
      sum={first && plural(first.count, "shipment", "shipments")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.customer_name}
              <br />
              <span>
                {current.number}, order {current.order_number}
              </span>
            </h2>
            <div className="words">{current.what}</div>
            <div className="words quiet">
              {current.posting_date
                ? `Left on ${date(current.posting_date)}${current.carrier ? ` with ${current.carrier}` : ""}.`
                : "Packed, not posted: nothing has left stock, and nothing of it can be billed yet."}
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <FilterField label="Customer or number" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["packed", "Packed, not posted"],
          ]}
        />
        <ExportLink list="shipments" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {list.data && (
        <Rows
          label="Shipments"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          more={() => list.hasNextPage && !list.isFetchingNextPage && list.fetchNextPage()}
          empty="No shipment fits. Clear the filter to see all."
        />
      )}
    </Worktop>
  );
}
