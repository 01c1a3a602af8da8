import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { OrderRow } from "../api/types";
import { plural, shortDate } from "../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useFilter,
  useToday,
  Wrong,
} from "../parts/bits";
import { STRETCH, useList } from "../parts/list";
import { OrderLines } from "../parts/Peek";
import { PickedSum } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { Paper, Tear } from "../parts/TapeRoll";
import { Track } from "../parts/Track";
import { customerColumn, useOpenElsewhere } from "../parts/together";
import { Worktop } from "../shell/Worktop";
import { Amount } from "./Invoices";
import { orderLinks } from "./order/links";
import { ShipManyAsk } from "./order/ShipMany";

/** Orders that ended do not clutter the list: without a choice it shows what is open. */
const OPEN = "draft,open,filled";

export function OrdersRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const states = state === "all" ? "" : state || OPEN;
  const list = useList({
    key: ["orders", search, states],
    load: (offset: number) =>
      got(
        api.GET("/api/orders", {
          params: { query: { q: search || undefined, state: states || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.orders,
    place: "/orders",
  });
  const openAt = useOpenElsewhere("order");
  const { first, current, picked, open } = list;
  const columns: Column<OrderRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Order", width: "74px", cell: (row) => row.number },
    customerColumn(openAt),
    {
      key: "theirs",
      sort: (row) => row.customer_order_number,
      head: "Customer PO",
      width: "92px",
      cell: (row) => <Marked className="dim">{row.customer_order_number}</Marked>,
    },
    {
      key: "promised",
      sort: (row) => row.promised_date,
      head: "Promised",
      width: "94px",
      cell: (row) =>
        row.promised_date &&
        (row.late ? (
          <Marked className="stop">◆ {shortDate(row.promised_date, today)}</Marked>
        ) : (
          shortDate(row.promised_date, today)
        )),
    },
    { key: "track", head: "Track", width: "90px", cell: (row) => <Track small track={row.track} /> },
    {
      key: "state",
      sort: (row) => row.state,
      head: "State",
      width: "92px",
      cell: (row) => <OrderState state={row.state} waits={row.waits} />,
    },
    {
      key: "net",
      sort: (row) => row.net,
      sum: (row) => ({ minor: row.net, currency: row.currency }),
      head: "Net",
      width: "116px",
      right: true,
      cell: (row) => <Amount minor={row.net} currency={row.currency} base={base} />,
    },
  ];
  const [shipping, setShipping] = useState(false);
  return (
    <Worktop
      title="Orders"
      sum={first && plural(first.count, "order", "orders")}
      actions={[
        {
          key: "n",
          label: "New order",
          run: () => navigate("/orders/new"),
          needs: "keep_order",
        },
        {
          key: "b",
          label: `Ship and bill ${picked.length}`,
          run: () => setShipping(true),
          disabled: picked.length === 0 || picked.some((row) => row.state !== "open"),
          quiet: picked.length === 0,
          needs: "ship_and_bill",
        },
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
          <PickedSum
            count={picked.length}
            one="order"
            more="orders"
            sums={[["Net", picked.map((row) => ({ minor: row.net, currency: row.currency }))]]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>{current.number}</span>
              </h2>
              {(["ordered", "shipped", "billed", "paid"] as const).map((beat) => (
                <div className="l" key={beat}>
                  <span>{beat}</span>
                  <span>{Math.floor(current.track[beat] / 10)} %</span>
                </div>
              ))}
              <Tear />
              <OrderLines id={current.id} />
              {current.tags.length > 0 && (
                <div className="words quiet">{current.tags.map((tag) => `#${tag}`).join(" ")}</div>
              )}
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
        <span className="gap" />
        <FilterField label="Find, #tag" />
        <StateChips
          name="state"
          choices={[
            ["", "Open"],
            ["draft", "Drafts"],
            ["filled", "Completed"],
            ["all", "All"],
          ]}
        />
        <ExportLink list="orders" state={states} />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Orders"
          {...list.rows}
          columns={columns}
          empty="No order fits. Clear the filter, or choose All to see those that ended."
        />
      )}
      {shipping && <ShipManyAsk orders={picked} close={() => setShipping(false)} />}
    </Worktop>
  );
}

export function OrderState({ state, waits }: { state: OrderRow["state"]; waits?: boolean }) {
  if (waits) {
    return <Marked className="heed">▲ pending</Marked>;
  }
  if (state === "closed") {
    return <Marked className="done">● closed</Marked>;
  }
  return state === "draft" ? <Marked className="dim">draft</Marked> : state === "filled" ? "completed" : state;
}
