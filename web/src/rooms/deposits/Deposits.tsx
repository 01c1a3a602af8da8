import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { DepositRow } from "../../api/types";
import { date, money, plural, shortDate } from "../../format";
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
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { PickedSum } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../../parts/together";
import { Worktop } from "../../shell/Worktop";
import { LiabilityPaper } from "../prepayments/Liability";

/** The lists of money in advance. */
export const prepaymentLinks: [string, string][] = [
  ["/prepayments", "Deposits"],
  ["/prepayments/invoices", "Prepayment invoices"],
  ["/prepayments/cards", "Cards"],
  ["/prepayments/payouts", "Card payouts"],
];

/** Why a deposit asks for a step: its order is done, or it has lain for long. */
export function whyNow(row: DepositRow): string | undefined {
  if (row.held === 0) {
    return undefined;
  }
  if (row.order_state === "filled") {
    return `${row.order_number} is done`;
  }
  if (row.quote_state === "declined") {
    return `${row.quote_number} was declined`;
  }
  return row.days > 180 ? `held for ${plural(row.days, "day", "days")}` : undefined;
}

/** Money in advance: what is held for whom, against which order. */
export function DepositsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const [order] = useFilter("order");
  const list = useList({
    key: ["deposits", search, state, order],
    load: (offset: number) =>
      got(
        api.GET("/api/deposits", {
          params: {
            query: {
              q: search || undefined,
              state: state || "held",
              order: order ? Number(order) : undefined,
              limit: STRETCH,
              offset,
            },
          },
        }),
      ),
    rowsOf: (page) => page.deposits,
    place: "/prepayments",
  });
  const openAt = useOpenElsewhere("deposit");
  const { first, current, picked, open } = list;
  const columns: Column<DepositRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Deposit", width: "62px", cell: (row) => row.number },
    { key: "date", sort: (row) => row.date, head: "Date", width: "98px", cell: (row) => shortDate(row.date, today) },
    customerColumn(openAt),
    {
      key: "order",
      sort: (row) => row.order_number ?? row.quote_number,
      head: "For",
      width: "96px",
      cell: (row) => row.order_number ?? row.quote_number ?? <Marked className="dim">on account</Marked>,
    },
    {
      key: "taken",
      sort: (row) => row.taken,
      sum: (row) => ({ minor: row.taken, currency: row.currency }),
      head: "Taken",
      width: "112px",
      right: true,
      cell: (row) => <Own row={row} base={base} minor={row.taken} />,
    },
    {
      key: "held",
      sort: (row) => row.held,
      sum: (row) => ({ minor: row.held, currency: row.currency }),
      head: "Held",
      width: "112px",
      right: true,
      cell: (row) => row.held > 0 && <Own row={row} base={base} minor={row.held} />,
    },
    {
      key: "why",
      head: "For how long",
      width: "minmax(0, 1fr)",
      cell: (row) => {
        const why = whyNow(row);
        return why ? (
          <Marked className="heed">▲ {why}</Marked>
        ) : (
          <Marked className="dim">{plural(row.days, "day", "days")}</Marked>
        );
      },
    },
  ];
  return (
    <Worktop
      title="Prepayments"
      sum={first && `${plural(first.count, "deposit", "deposits")} · ${money(first.held_base, base)} held`}
      actions={[
        {
          key: "n",
          label: "Take a deposit",
          run: () => navigate("/prepayments/new"),
          primary: true,
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
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="deposit"
            more="deposits"
            sums={[
              ["Taken", picked.map((row) => ({ minor: row.taken, currency: row.currency }))],
              ["Held", picked.map((row) => ({ minor: row.held, currency: row.currency }))],
            ]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number}, {current.method} of {date(current.date)}
                </span>
              </h2>
              <RegisterLines row={current} />
            </Paper>
          )}
          <LiabilityPaper />
        </>
      }
    >
      <Chips>
        <RoomLinks links={prepaymentLinks} />
        <FilterField label="Customer, order, number" />
        <StateChips
          name="state"
          choices={[
            ["", "Held"],
            ["all", "All"],
          ]}
        />
        <ExportLink list="deposits" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Deposits"
          {...list.rows}
          columns={columns}
          empty="No deposit is held. Press n to take one, or show all."
        />
      )}
    </Worktop>
  );
}

/** An amount, with its currency where that is not the company's. */
function Own({ row, base, minor }: { row: DepositRow; base: string; minor: number }) {
  return (
    <>
      {money(minor, row.currency)}
      {row.currency !== base && <Marked className="dim"> {row.currency}</Marked>}
    </>
  );
}

/** What was taken and what became of it, as on a roll. */
export function RegisterLines({ row }: { row: DepositRow }) {
  const parts: [string, number][] = [
    ["applied", row.applied],
    ["refunded", row.refunded],
    ["kept as income", row.kept],
  ];
  const reversed = row.reversed_on ? row.taken - row.applied - row.refunded - row.kept : 0;
  return (
    <>
      <div className="l">
        <span>Taken</span>
        <span>{money(row.taken, row.currency)}</span>
      </div>
      {[...parts, ["reversed", reversed] as [string, number]]
        .filter(([, amount]) => amount !== 0)
        .map(([label, amount]) => (
          <div className="l" key={label}>
            <span>{label}</span>
            <span>{money(-amount, row.currency)}</span>
          </div>
        ))}
      <div className="l due">
        <span>Held</span>
        <span>{money(row.held, row.currency)}</span>
      </div>
    </>
  );
}
