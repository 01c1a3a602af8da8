import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { OrderLineView, OrderView } from "../../api/types";
import { date, money, number, percent, price } from "../../format";
import { Marked, useEverythingChanged } from "../../parts/bits";
import { useGoods } from "../../parts/form";
import { Ask } from "../../shell/Ask";
import { useMay } from "../../shell/session";

/** A line of an order: what of it has gone, is reserved, waits. */
export function LineRow({ line, order }: { line: OrderLineView; order: OrderView }) {
  const may = useMay()("keep_shipment");
  const goods = useGoods();
  const steps = line.price_steps.map((step) => `${step.source} ${price(step.unit_price)}`).join(" → ");
  const changed = useEverythingChanged();
  const [asking, setAsking] = useState(false);
  return (
    <tr>
      <td>
        <b>{line.code}</b> {line.description}
        {line.cancelled !== "0" && (
          <Marked className="dim" title={line.cancel_reason ?? undefined}>
            {" "}
            · {number(line.cancelled)} canceled
          </Marked>
        )}
        {goods && line.warehouse !== (order.form.warehouse ?? goods.warehouse) && (
          <Marked className="dim"> · from {line.warehouse}</Marked>
        )}
        {line.expected_on && <Marked className="dim"> · expected {date(line.expected_on)}</Marked>}
      </td>
      <td className="right">
        {number(line.ordered)} {line.unit}
      </td>
      <td className="right">
        {line.allocated === "0" ? (
          ""
        ) : may ? (
          <button
            type="button"
            className="quietly"
            title={`Unreserve ${number(line.allocated)}, for other orders to have`}
            aria-label={`Unreserve ${number(line.allocated)} ${line.code}`}
            onClick={() => setAsking(true)}
          >
            {number(line.allocated)}
          </button>
        ) : (
          number(line.allocated)
        )}
        {line.leaving !== "0" && <Marked className="dim"> ({number(line.leaving)} on its way out)</Marked>}
      </td>
      <td className="right">{line.shipped === "0" ? "" : number(line.shipped)}</td>
      <td className="right">{line.billed === "0" ? "" : number(line.billed)}</td>
      <td className="right">
        {line.back_ordered === "0" ? "" : <Marked className="heed">▲ {number(line.back_ordered)}</Marked>}
      </td>
      <td className="right" title={steps}>
        {price(line.unit_price)}
      </td>
      <td className="right dim" title={line.discount_reason ?? undefined}>
        {line.discount === "0" ? "" : percent(line.discount)}
      </td>
      <td className="right">
        {money(line.value, order.currency)}
        {asking && (
          <Ask
            title={`Unreserve ${number(line.allocated)} ${line.unit} of ${line.code}?`}
            yes="Unreserve"
            close={() => setAsking(false)}
            run={async (key) => {
              await got(
                api.POST("/api/order-lines/{id}/let-go", { params: { path: { id: line.id }, header: keyed(key) } }),
              );
              await changed();
            }}
          >
            {order.number} gives it up; other orders can have it.
          </Ask>
        )}
      </td>
    </tr>
  );
}
