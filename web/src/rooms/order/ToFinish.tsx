import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { OrderToFinish } from "../../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency, plural, shortDate } from "../../format";
import { Chips, Marked, RoomLinks, useToday, Wrong } from "../../parts/bits";
import { PickedSum, usePicks } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Worktop } from "../../shell/Worktop";
import { stepOf } from "./CloseAsk";
import { orderLinks } from "./links";

const idOf = (order: OrderToFinish) => String(order.id);

/** Orders that are shipped and billed, and not closed: what hangs on each, and the step that frees it. */
export function ToFinishRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const [currentId, setCurrentId] = useState<string>();
  const list = useQuery({ queryKey: ["orders-to-finish"], queryFn: () => got(api.GET("/api/orders-to-finish")) });
  const rows = list.data ?? [];
  const { picks, onPick, onAll, picked } = usePicks(rows, idOf);
  const current = rows.find((one) => idOf(one) === currentId) ?? rows[0];
  // One receipt is one customer's, in one currency.
  const together = picked.length > 0 ? picked : current ? [current] : [];
  const [first] = together;
  const same = together.every((one) => one.customer === first?.customer && one.currency === first?.currency);
  const sum = together.reduce((all, one) => all + one.open, 0);
  const receive = () =>
    first && navigate(`/receipts/new?customer=${first.customer}&amount=${decimal(sum, exponentOf(first.currency))}`);
  const hangs = current?.hanging[0];
  const step = current && hangs ? stepOf(hangs.step, current) : undefined;
  const columns: Column<OrderToFinish>[] = [
    { key: "number", sort: (one) => one.number, head: "Order", width: "84px", cell: (one) => one.number },
    {
      key: "customer",
      sort: (one) => one.customer_name,
      head: "Customer",
      width: "minmax(0, 0.9fr)",
      cell: (one) => one.customer_name,
    },
    {
      key: "theirs",
      sort: (one) => one.customer_order_number,
      head: "Customer PO",
      width: "minmax(0, 0.6fr)",
      cell: (one) => <Marked className="dim">{one.customer_order_number}</Marked>,
    },
    {
      key: "hangs",
      head: "What is missing",
      width: "minmax(0, 1.4fr)",
      cell: (one) => one.hanging.map((each) => each.words).join(" "),
    },
    {
      key: "due",
      sort: (one) => one.due,
      head: "Due",
      width: "108px",
      cell: (one) => one.due && shortDate(one.due, today),
    },
    {
      key: "open",
      sort: (one) => one.open,
      sum: (one) => ({ minor: one.open, currency: one.currency }),
      head: "Balance due",
      width: "128px",
      right: true,
      cell: (one) => one.open > 0 && `${money(one.open, one.currency)} ${one.currency}`,
    },
  ];
  return (
    <Worktop
      title="Orders to finish"
      sum={list.data && `${plural(rows.length, "order", "orders")} shipped and billed, not closed`}
      back="/orders"
      actions={[
        {
          key: "n",
          label:
            first && sum > 0 && same
              ? `Receive for ${plural(together.length, "order", "orders")} · ${moneyWithCurrency(sum, first.currency)}`
              : same
                ? "Receive"
                : "Receive: select orders of one customer",
          run: receive,
          primary: true,
          disabled: !first || !same || sum === 0,
          needs: "post_money",
        },
        ...(current && step?.place && hangs?.step !== "receive"
          ? [{ key: "s", label: step.words, run: () => step.place && navigate(step.place) }]
          : []),
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: () => current && navigate(`/orders/${current.id}`),
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
            sums={[["Open", picked.map((one) => ({ minor: one.open, currency: one.currency }))]]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>{current.number}</span>
              </h2>
              {current.hanging.map((one) => {
                const { words, place } = stepOf(one.step, current);
                return (
                  <div key={one.what}>
                    <div className="words">{one.words}</div>
                    {place && (
                      <div className="detail">
                        <Link to={place}>{words}</Link>
                      </div>
                    )}
                  </div>
                );
              })}
              {current.due && <div className="words dim">The last of its invoices is due on {date(current.due)}.</div>}
              <div className="l due">
                <span>Open</span>
                <span>{money(current.open, current.currency)}</span>
              </div>
              <div className="words quiet">It closes by itself once nothing hangs on it.</div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {list.data && (
        <Rows
          label="Orders to finish"
          rows={rows}
          idOf={idOf}
          columns={columns}
          picks={picks}
          onPick={onPick}
          onAll={onAll}
          onCurrent={(one) => setCurrentId(one && idOf(one))}
          onOpen={(one) => navigate(`/orders/${one.id}`)}
          empty="Every order that was shipped and billed is closed."
        />
      )}
    </Worktop>
  );
}
