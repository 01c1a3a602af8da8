import { useNavigate } from "react-router";
import { api, got, keyed, newKey } from "../../api/client";
import type { OpenLine } from "../../api/types";
import { date, number, plural, shortDate } from "../../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useEverythingChanged,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { PickedSum } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { Amount } from "../Invoices";
import { orderLinks } from "./links";

/** What is still to ship, line by line: by promise, or by item. */
export function OpenLinesRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [search] = useFilter("q");
  const [which] = useFilter("back_ordered");
  const [order] = useFilter("by_item");
  const byItem = order === "true";
  const back = which === "true";
  const list = useList({
    key: ["open-lines", search, back, byItem],
    load: (offset: number) =>
      got(
        api.GET("/api/open-lines", {
          params: {
            query: { q: search || undefined, back_ordered: back, by_item: byItem, limit: STRETCH, offset },
          },
        }),
      ),
    rowsOf: (page) => page.lines,
    place: "/orders",
  });
  const { first, current, picked } = list;
  const open = (line: OpenLine | undefined) => line && navigate(`/orders/${line.order}`);
  const columns: Column<OpenLine>[] = [
    { key: "order", sort: (row) => row.order_number, head: "Order", width: "70px", cell: (row) => row.order_number },
    {
      key: "item",
      sort: (row) => row.code,
      head: "Item",
      width: "minmax(0, 1.25fr)",
      cell: (row) => (
        <>
          <b>{row.code}</b> {row.description}
        </>
      ),
    },
    {
      key: "customer",
      sort: (row) => row.customer_name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => row.customer_name,
    },
    {
      key: "to_ship",
      sort: (row) => Number(row.to_ship),
      head: "To ship",
      width: "74px",
      right: true,
      cell: (row) => number(row.to_ship),
    },
    {
      key: "back",
      sort: (row) => Number(row.back_ordered),
      head: "Back-ordered",
      width: "98px",
      right: true,
      cell: (row) => (row.back_ordered === "0" ? "" : <Marked className="heed">▲ {number(row.back_ordered)}</Marked>),
    },
    {
      key: "promised",
      sort: (row) => row.promised_date,
      head: "Promised",
      width: "92px",
      cell: (row) =>
        row.promised_date &&
        (row.late ? (
          <Marked className="stop">◆ {shortDate(row.promised_date, today)}</Marked>
        ) : (
          shortDate(row.promised_date, today)
        )),
    },
    {
      key: "value",
      sort: (row) => row.value,
      sum: (row) => ({ minor: row.value, currency: row.currency }),
      head: "Net",
      width: "96px",
      right: true,
      cell: (row) => <Amount minor={row.value} currency={row.currency} base={base} />,
    },
  ];
  const setAside = async () => {
    if (!current) {
      return;
    }
    try {
      const added = await got(
        api.POST("/api/orders/{id}/set-aside", { params: { path: { id: current.order }, header: keyed(newKey()) } }),
      );
      say({
        kind: "done",
        text: `Reserved for ${current.order_number}: ${added.map((one) => `${number(one.quantity)} ${one.code}`).join(", ")}.`,
      });
      await changed();
    } catch (error) {
      say({ kind: "stop", text: error instanceof Error ? error.message : String(error) });
    }
  };
  return (
    <Worktop
      title="Open lines"
      sum={first && plural(first.count, "line to ship", "lines to ship")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.order_number}` : "Open",
          run: () => open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        {
          key: "a",
          label: "Set stock aside",
          run: setAside,
          disabled: !current || current.waiting === "0",
          needs: "keep_shipment",
        },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="line"
            more="lines"
            sums={[["Net", picked.map((row) => ({ minor: row.value, currency: row.currency }))]]}
          />
          {current && (
            <Paper>
              <h2>
                {current.code}
                <br />
                <span>
                  {current.order_number}, {current.customer_name}
                </span>
              </h2>
              {(
                [
                  ["ordered", current.ordered],
                  ["shipped", current.shipped],
                  ["billed", current.billed],
                  ["reserved", current.allocated],
                  ["waits for stock", current.waiting],
                ] as const
              ).map(([label, quantity]) => (
                <div className="l" key={label}>
                  <span>{label}</span>
                  <span>
                    {number(quantity)} {current.unit}
                  </span>
                </div>
              ))}
              {current.expected_on && (
                <div className="words quiet">Goods for it are expected on {date(current.expected_on)}.</div>
              )}
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
        <span className="gap" />
        <FilterField label="Item, order, customer" />
        <StateChips
          name="back_ordered"
          choices={[
            ["", "All"],
            ["true", "Back-ordered"],
          ]}
        />
        <StateChips name="by_item" choices={[["true", "By item"]]} />
        {byItem && <StateChips name="by_item" choices={[["", "By promise"]]} />}
        <ExportLink list="open-lines" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Open lines"
          {...list.rows}
          onOpen={open}
          columns={columns}
          empty="Nothing waits to be shipped. Clear the filter to see all."
        />
      )}
    </Worktop>
  );
}
