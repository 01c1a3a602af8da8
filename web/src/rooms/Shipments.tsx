import { api, got } from "../api/client";
import type { ShipmentRow } from "../api/types";
import { date, plural, shortDate } from "../format";
import { Chips, ExportLink, FilterField, Marked, StateChips, useFilter, useToday, Wrong } from "../parts/bits";
import { STRETCH, useList } from "../parts/list";
import { PickedSum } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../parts/together";
import { Worktop } from "../shell/Worktop";

export function ShipmentsRoom() {
  const today = useToday();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["shipments", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/shipments", {
          params: { query: { q: search || undefined, state: state || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.shipments,
    place: "/shipments",
  });
  const openAt = useOpenElsewhere("shipment");
  const { first, current, picked, open } = list;
  const columns: Column<ShipmentRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Shipment", width: "82px", cell: (row) => row.number },
    { key: "order", sort: (row) => row.order_number, head: "Order", width: "76px", cell: (row) => row.order_number },
    customerColumn(openAt),
    {
      key: "what",
      head: "What",
      width: "minmax(0, 1.1fr)",
      cell: (row) => <Marked className="dim">{row.what}</Marked>,
    },
    {
      key: "posted",
      sort: (row) => row.posting_date,
      head: "Left on",
      width: "98px",
      cell: (row) => (row.posting_date ? shortDate(row.posting_date, today) : ""),
    },
    {
      key: "state",
      sort: (row) => row.state,
      head: "State",
      width: "92px",
      cell: (row) =>
        row.state === "posted" ? (
          row.unbilled ? (
            "unbilled"
          ) : (
            <Marked className="done">● billed</Marked>
          )
        ) : row.state === "taken_back" ? (
          <Marked className="dim">○ reversed</Marked>
        ) : row.state === "dropped" ? (
          <Marked className="dim">○ canceled</Marked>
        ) : (
          <Marked className="heed">▲ {row.state}</Marked>
        ),
    },
  ];
  return (
    <Worktop
      title="Shipments"
      sum={first && plural(first.count, "shipment", "shipments")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <>
          <PickedSum count={picked.length} one="shipment" more="shipments" sums={[]} />
          {current && (
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
                {current.state === "taken_back"
                  ? "It left and was reversed: its goods are back where they were, and nothing of it is billed."
                  : current.posting_date
                    ? `Left on ${date(current.posting_date)}${current.carrier ? ` with ${current.carrier}` : ""}.`
                    : "Not posted: nothing has left stock, and nothing of it can be billed yet."}
              </div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <FilterField label="Customer or number" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["picking", "On pick lists"],
            ["packed", "Packed"],
            ["posted", "Shipped"],
            ["taken_back", "Reversed"],
          ]}
        />
        <ExportLink list="shipments" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Shipments"
          {...list.rows}
          columns={columns}
          empty="No shipment fits. Clear the filter to see all."
        />
      )}
    </Worktop>
  );
}
