import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { InHandRow, SlipRow } from "../../api/types";
import { money, plural, shortDate } from "../../format";
import { Chips, Marked, RoomLinks, useToday, Wrong } from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Worktop } from "../../shell/Worktop";
import { moneyLinks } from "../bank/links";
import { SlipMark, sums } from "./parts";

export function useInHand() {
  return useQuery({ queryKey: ["in-hand"], queryFn: () => got(api.GET("/api/in-hand")) });
}

function Waiting({ rows }: { rows: InHandRow[] }) {
  return (
    <Paper>
      <h2>
        In hand
        <br />
        <span>{rows.length === 0 ? "nothing waits to be taken to the bank" : "on no slip yet"}</span>
      </h2>
      {rows.slice(0, 14).map((one) => (
        <div className="l" key={one.entry}>
          <span>
            <Link to={placeOf(one.document)}>{one.document.number}</Link> {one.customer_name}
          </span>
          <span>{money(one.amount, one.currency)}</span>
        </div>
      ))}
      {rows.length > 14 && <div className="detail">and {rows.length - 14} more</div>}
      {sums(rows).map(([currency, sum]) => (
        <div className="l due" key={currency}>
          <span>In hand {currency}</span>
          <span>{money(sum, currency)}</span>
        </div>
      ))}
    </Paper>
  );
}

/** Checks and cash on their way to the bank. */
export function SlipsRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const inHand = useInHand();
  const list = useList({
    key: ["bank-slips"],
    load: (offset: number) => got(api.GET("/api/bank-slips", { params: { query: { limit: STRETCH, offset } } })),
    rowsOf: (page) => page.slips,
    place: "/bank-slips",
  });
  const { first, current, open } = list;
  const there = inHand.data ?? [];
  const columns: Column<SlipRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Slip", width: "70px", cell: (row) => row.number },
    {
      key: "prepared",
      sort: (row) => row.prepared_on,
      head: "Prepared",
      width: "86px",
      cell: (row) => shortDate(row.prepared_on, today),
    },
    { key: "bank", sort: (row) => row.bank_name, head: "To", width: "minmax(0, 1fr)", cell: (row) => row.bank_name },
    {
      key: "lines",
      sort: (row) => row.lines,
      head: "Lines",
      width: "52px",
      right: true,
      cell: (row) => String(row.lines),
    },
    {
      key: "amount",
      sort: (row) => row.amount,
      sum: (row) => ({ minor: row.amount, currency: row.currency }),
      head: "Amount",
      width: "124px",
      right: true,
      cell: (row) => `${money(row.amount, row.currency)} ${row.currency}`,
    },
    {
      key: "counted",
      head: "Counted",
      width: "98px",
      right: true,
      cell: (row) =>
        row.counted != null &&
        (row.counted === row.amount ? (
          money(row.counted, row.currency)
        ) : (
          <Marked className="heed">▲ {money(row.counted, row.currency)}</Marked>
        )),
    },
    {
      key: "banked",
      sort: (row) => row.banked_on,
      head: "Banked",
      width: "86px",
      cell: (row) => row.banked_on && shortDate(row.banked_on, today),
    },
    { key: "state", head: "", width: "102px", cell: (row) => <SlipMark state={row.state} /> },
  ];
  const said = sums(there)
    .map(([currency, sum]) => `${money(sum, currency)} ${currency}`)
    .join(", ");
  return (
    <Worktop
      title="Bank deposit slips"
      sum={inHand.data && (there.length > 0 ? `${said} in hand, on no slip` : "Nothing in hand that is on no slip")}
      back="/receipts"
      actions={[
        {
          key: "n",
          label: said ? `New slip · ${said}` : "New slip",
          run: () => navigate("/bank-slips/new"),
          primary: true,
          disabled: there.length === 0,
          needs: "post_money",
        },
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={inHand.data && <Waiting rows={there} />}
    >
      <Chips>
        <RoomLinks links={moneyLinks} />
        {first && <span className="dim">{plural(first.count, "slip", "slips")}</span>}
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Bank deposit slips"
          {...list.rows}
          columns={columns}
          empty="No slip yet. Checks and cash that come in wait in hand; press n to put them on one."
        />
      )}
    </Worktop>
  );
}
