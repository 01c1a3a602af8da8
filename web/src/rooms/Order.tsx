import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey } from "../api/client";
import type { OrderView } from "../api/types";
import { date, money, number, percent, price } from "../format";
import { Facts, Lines, Marked, useBase, useEverythingChanged, useFieldFocus, Wrong } from "../parts/bits";
import { Paper, TrailLines } from "../parts/TapeRoll";
import { Track } from "../parts/Track";
import { OpenMark, RecordLines, staleWords, useOpenElsewhere, useOpenHere } from "../parts/together";
import { useNotices } from "../shell/notices";
import { useMay } from "../shell/session";
import { Worktop } from "../shell/Worktop";
import { OrderState } from "./Orders";

export function OrderRoom() {
  const { id = "" } = useParams();
  const order = useQuery({
    queryKey: ["order", id],
    queryFn: () => got(api.GET("/api/orders/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!order.data) {
    return (
      <Worktop title="Order" actions={[]} back="/orders">
        {order.error && <Wrong error={order.error} />}
      </Worktop>
    );
  }
  return <Opened key={order.data.id} order={order.data} />;
}

function Opened({ order }: { order: OrderView }) {
  useOpenHere("order", order.id);
  const openAt = useOpenElsewhere("order")(order.id);
  const navigate = useNavigate();
  useBase();
  return (
    <Worktop
      title={order.number}
      sum={
        <>
          {order.customer_name}
          <OpenMark names={openAt} />
        </>
      }
      back="/orders"
      actions={[
        {
          key: "b",
          label: "Bill what has shipped",
          run: () => navigate(`/billing?q=${order.number}`),
          primary: true,
          disabled: order.track.shipped <= order.track.billed,
        },
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${order.customer}`) },
      ]}
      tape={
        <Paper>
          <h2>
            {order.customer_name}
            <br />
            <span>
              {order.number} · {order.terms_words}
            </span>
          </h2>
          <div className="l">
            <span>Ordered, net</span>
            <span>{money(order.net, order.currency)}</span>
          </div>
          <div className="l">
            <span>Billed, with tax</span>
            <span>{money(order.billed_gross, order.currency)}</span>
          </div>
          <div className="l">
            <span>Paid of it</span>
            <span>{money(order.paid_gross, order.currency)}</span>
          </div>
          {order.missing.length > 0 ? (
            <>
              <h3>Missing until it closes</h3>
              {order.missing.map((one) => (
                <div className="words" key={one}>
                  ▲ {one}
                </div>
              ))}
            </>
          ) : (
            <div className="words" style={{ color: "var(--done)" }}>
              ● Shipped, billed and paid. It closed by itself.
            </div>
          )}
          <TrailLines trail={order.trail} />
          <RecordLines kind="order" id={order.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["State", <OrderState key="s" state={order.state} />],
          ["Track", <Track key="t" track={order.track} />],
          ["Ordered", date(order.order_date)],
          ["Promised", order.promised_date ? date(order.promised_date) : "no date"],
          ["Their order number", <TheirNumber key="n" order={order} />],
        ]}
      />
      <Lines label="Lines of the order">
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Ordered</th>
            <th className="right">Shipped</th>
            <th className="right">Billed</th>
            <th className="right">Back-ordered</th>
            <th className="right">Price</th>
            <th className="right">Off</th>
            <th className="right">Net</th>
          </tr>
        </thead>
        <tbody>
          {order.lines.map((line) => (
            <tr key={line.id}>
              <td>
                <b>{line.code}</b> {line.description}
              </td>
              <td className="right">
                {number(line.ordered)} {line.unit}
              </td>
              <td className="right">{number(line.shipped)}</td>
              <td className="right">{number(line.billed)}</td>
              <td className="right">
                {line.back_ordered === "0" ? "" : <Marked className="heed">▲ {number(line.back_ordered)}</Marked>}
              </td>
              <td className="right">{price(line.unit_price)}</td>
              <td className="right dim" title={line.discount_reason ?? undefined}>
                {line.discount === "0" ? "" : percent(line.discount)}
              </td>
              <td className="right">{money(line.value, order.currency)}</td>
            </tr>
          ))}
        </tbody>
      </Lines>
    </Worktop>
  );
}

/** The customer's own number for the order: one field, kept with Enter. */
function TheirNumber({ order }: { order: OrderView }) {
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState(order.customer_order_number ?? "");
  const [wrong, setWrong] = useState<string>();
  useFieldFocus();
  const save = async () => {
    try {
      await got(
        api.PUT("/api/orders/{id}/customer-order-number", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body: { version: order.version, number: typed.trim() || null },
        }),
      );
      setWrong(undefined);
      say({
        kind: "done",
        text: `The customer's number of ${order.number} is kept.`,
        links: [{ text: "Bill it now", to: `/billing?q=${order.number}` }],
      });
      await changed();
    } catch (error) {
      setWrong(await staleWords(error, "order", order.id, order.version));
    }
  };
  const differs = typed.trim() !== (order.customer_order_number ?? "");
  return (
    <div data-field="order.customer_order_number">
      <TextField
        fullWidth
        slotProps={{ htmlInput: { "aria-label": "Their order number" } }}
        disabled={!may("keep_order")}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && save()}
        error={!!wrong}
        helperText={wrong ?? (differs ? "Enter keeps it" : undefined)}
      />
    </div>
  );
}
