import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import type { OrderView } from "../../api/types";
import { date, money } from "../../format";
import { Lines } from "../../parts/bits";

/** Deposits that were taken for an order, and what is held of them. */
export function OrderDeposits({ order }: { order: OrderView }) {
  const deposits = useQuery({
    queryKey: ["deposits", "of", order.id],
    queryFn: () => got(api.GET("/api/deposits", { params: { query: { order: order.id, limit: 100 } } })),
  });
  const rows = deposits.data?.deposits ?? [];
  if (rows.length === 0) {
    return null;
  }
  return (
    <Lines label="Deposits for the order">
      <thead>
        <tr>
          <th>Deposit</th>
          <th>Date</th>
          <th>Method</th>
          <th className="right">Taken {order.currency}</th>
          <th className="right">Applied</th>
          <th className="right">Held</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.id}>
            <td>
              <Link to={`/prepayments/${row.id}`}>{row.number}</Link>
            </td>
            <td className="dim">{date(row.date)}</td>
            <td className="dim">{row.method}</td>
            <td className="right">{money(row.taken, row.currency)}</td>
            <td className="right">{row.applied !== 0 && money(row.applied, row.currency)}</td>
            <td className="right">{row.held > 0 ? money(row.held, row.currency) : ""}</td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}
