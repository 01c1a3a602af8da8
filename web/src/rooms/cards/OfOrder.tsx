import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../../api/client";
import type { CardRow, OrderView } from "../../api/types";
import { money, shortDate } from "../../format";
import { Lines, Marked, useToday } from "../../parts/bits";
import { CardStanding } from "./bits";
import { nextWords } from "./words";

/** Cards that were authorized for an order, each with its state and next step. */
export function OrderCards({ order }: { order: OrderView }) {
  const cards = useQuery({
    queryKey: ["cards", "of", order.id, order.version],
    queryFn: () => got(api.GET("/api/cards", { params: { query: { order: order.id, limit: 100 } } })),
    enabled: order.state !== "draft",
  });
  return <CardLines rows={cards.data?.cards ?? []} />;
}

export function CardLines({ rows }: { rows: CardRow[] }) {
  const today = useToday();
  if (rows.length === 0) {
    return null;
  }
  return (
    <Lines label="Cards authorized for the order">
      <thead>
        <tr>
          <th>Card</th>
          <th aria-label="Ends in" />
          <th>State</th>
          <th>Valid until</th>
          <th className="right">Authorized</th>
          <th className="right">Captured</th>
          <th className="right">Left</th>
          <th>Next</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.id}>
            <td>
              <Link to={`/cards/${row.id}`}>{row.number}</Link>
            </td>
            <td className="dim nowrap">ends in {row.last_four}</td>
            <td className="nowrap">
              <CardStanding state={row.state} />
            </td>
            <td className="dim nowrap">{row.valid_until && shortDate(row.valid_until, today)}</td>
            <td className="right">{money(row.amount, row.currency)}</td>
            <td className="right">{row.captured > 0 && money(row.captured, row.currency)}</td>
            <td className="right">{row.left > 0 && money(row.left, row.currency)}</td>
            <td className="nowrap">
              <Marked className={row.next === "wait" ? "dim" : undefined}>{nextWords(row, today)}</Marked>
            </td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}
