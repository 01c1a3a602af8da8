import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { PrepaymentRow } from "../../api/types";
import { date, money, plural, shortDate } from "../../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Late,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { PickedSum } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../../parts/together";
import { Worktop } from "../../shell/Worktop";
import { prepaymentLinks } from "../deposits/Deposits";

/** Prepayment invoices: billed, paid, used by invoices, credited, left. */
export function PrepaymentInvoicesRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["prepayments", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/prepayments", {
          params: { query: { q: search || undefined, state: state || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.rows,
    place: "/invoices",
  });
  const openAt = useOpenElsewhere("invoice");
  const { first, current, picked, open } = list;
  const amount = (row: PrepaymentRow, minor: number) => (
    <>
      {money(minor, row.currency)}
      {row.currency !== base && <Marked className="dim"> {row.currency}</Marked>}
    </>
  );
  const columns: Column<PrepaymentRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Invoice", width: "62px", cell: (row) => row.number },
    {
      key: "date",
      sort: (row) => row.document_date,
      head: "Date",
      width: "98px",
      cell: (row) => shortDate(row.document_date, today),
    },
    customerColumn(openAt),
    { key: "order", sort: (row) => row.order.number, head: "For", width: "72px", cell: (row) => row.order.number },
    {
      key: "open",
      sort: (row) => row.open,
      sum: (row) => ({ minor: row.open, currency: row.currency }),
      head: "Balance due",
      width: "104px",
      right: true,
      cell: (row) => (row.open > 0 ? amount(row, row.open) : <Marked className="dim">paid</Marked>),
    },
    {
      key: "left",
      sort: (row) => row.left,
      sum: (row) => ({ minor: row.left, currency: row.currency }),
      head: "Left, net",
      width: "96px",
      right: true,
      cell: (row) => (row.left > 0 ? amount(row, row.left) : <Marked className="dim">used</Marked>),
    },
    { key: "next", head: "Next", width: "minmax(0, 1fr)", cell: (row) => <Next row={row} /> },
  ];
  return (
    <Worktop
      title="Prepayments"
      sum={
        first &&
        `${plural(first.count, "prepayment invoice", "prepayment invoices")} · ${money(first.open_base, base)} to be paid · ${money(first.left_base, base)} not used`
      }
      actions={[
        {
          key: "o",
          label: current ? `Open ${current.order.number}` : "Open the order",
          run: () => current && navigate(`/orders/${current.order.id}`),
          disabled: !current,
        },
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="prepayment invoice"
            more="prepayment invoices"
            sums={[
              ["Balance due", picked.map((row) => ({ minor: row.open, currency: row.currency }))],
              ["Left, net", picked.map((row) => ({ minor: row.left, currency: row.currency }))],
            ]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number} of {date(current.document_date)}, for {current.order.number}
                </span>
              </h2>
              <RegisterLines row={current} />
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={prepaymentLinks} />
        <FilterField label="Customer, order, number" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["unpaid", "To be paid"],
            ["left", "Not used"],
            ["to_credit", "To credit"],
          ]}
        />
        <ExportLink list="prepayments" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Prepayment invoices"
          {...list.rows}
          columns={columns}
          empty="No prepayment invoice here. Open an order and choose Bill in advance to make one."
        />
      )}
    </Worktop>
  );
}

/** What is to be done with it next. */
function Next({ row }: { row: PrepaymentRow }) {
  if (row.to_credit.length > 0) {
    return <Marked className="heed">▲ to credit</Marked>;
  }
  if (row.left > 0 && row.order_state !== "open") {
    return <Marked className="heed">▲ to credit, {row.order.number} is done</Marked>;
  }
  if (row.open > 0) {
    return row.days_late > 0 ? (
      <Late days={row.days_late} />
    ) : (
      <Marked className="dim">due {date(row.due_date)}</Marked>
    );
  }
  return row.left > 0 ? <Marked className="dim">used as {row.order.number} is billed</Marked> : null;
}

/** What was billed in advance and what became of it, as on a roll. */
function RegisterLines({ row }: { row: PrepaymentRow }) {
  const parts: [string, number][] = [
    ["used by invoices", row.used],
    ["credited", row.credited],
  ];
  return (
    <>
      <div className="l">
        <span>Total with tax</span>
        <span>{money(row.total, row.currency)}</span>
      </div>
      <div className="l">
        <span>paid or credited</span>
        <span>{money(row.open - row.total, row.currency)}</span>
      </div>
      <div className="l due">
        <span>Balance due</span>
        <span>{money(row.open, row.currency)}</span>
      </div>
      <div className="l">
        <span>Billed in advance, net</span>
        <span>{money(row.net, row.currency)}</span>
      </div>
      {parts
        .filter(([, amount]) => amount !== 0)
        .map(([label, amount]) => (
          <div className="l" key={label}>
            <span>{label}</span>
            <span>{money(-amount, row.currency)}</span>
          </div>
        ))}
      <div className="l due">
        <span>Left</span>
        <span>{money(row.left, row.currency)}</span>
      </div>
    </>
  );
}
