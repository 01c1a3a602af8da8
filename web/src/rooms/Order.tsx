import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, keyed, newKey } from "../api/client";
import type { OrderView } from "../api/types";
import { date, money, moneyWithCurrency, number, plural } from "../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, Wrong } from "../parts/bits";
import { BlockerLines, ChangeLines, Paper, TapeLines, Tear, TrailLines } from "../parts/TapeRoll";
import { Track } from "../parts/Track";
import { ApprovalStrip, OpenMark, RecordLines, useApprovals, useOpenElsewhere, useOpenHere } from "../parts/together";
import { placeOf } from "../places";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";
import { AuthorizeAsk } from "./cards/AuthorizeAsk";
import { OrderCards } from "./cards/OfOrder";
import { OrderState } from "./Orders";
import { CancelRestAsk, ConfirmAsk, CopyAsk, ExpectAsk } from "./order/Asks";
import { CloseAsk } from "./order/CloseAsk";
import { OrderDeposits } from "./order/Deposits";
import { LineRow } from "./order/LineRow";
import { ShipAndBillAsk } from "./order/ShipAndBill";
import { TheirNumber } from "./order/TheirNumber";
import { OrderPaper } from "./papers/OrderPaper";
import { OrderPrepayments } from "./prepayments/OfOrder";

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

type Asking = "confirm" | "cancel" | "expect" | "bill" | "finish" | "copy" | "card" | "close" | undefined;

function Opened({ order }: { order: OrderView }) {
  useOpenHere("order", order.id);
  const openAt = useOpenElsewhere("order")(order.id);
  const navigate = useNavigate();
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const approvals = useApprovals("order", order.id);
  // A sale that was typed at the counter goes on here.
  const [params, setParams] = useSearchParams();
  const [asking, setAsking] = useState<Asking>(startsWith(params, order.state === "draft"));
  const close = () => setAsking(undefined);
  const draft = order.state === "draft";
  const open = order.state === "open";
  const start = async () => {
    try {
      const id = await got(
        api.POST("/api/orders/{id}/shipments", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body: null,
        }),
      );
      await changed();
      navigate(`/shipments/${id}`);
    } catch (error) {
      say({ kind: "stop", text: error instanceof Error ? error.message : String(error) });
    }
  };
  const setAside = async () => {
    try {
      const added = await got(
        api.POST("/api/orders/{id}/set-aside", { params: { path: { id: order.id }, header: keyed(newKey()) } }),
      );
      say({
        kind: "done",
        text: `Reserved for ${order.number}: ${added.map((one) => `${number(one.quantity)} ${one.code}`).join(", ")}.`,
      });
      await changed();
    } catch (error) {
      say({ kind: "stop", text: error instanceof Error ? error.message : String(error) });
    }
  };
  const asks = order.blockers.filter((blocker) => blocker.effect === "asks");
  const stops = order.blockers.some((blocker) => blocker.effect === "stops");
  const total = moneyWithCurrency(order.total, order.currency);
  const short = order.lines.some((line) => line.back_ordered !== "0");
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
        ...(draft
          ? [
              {
                key: "c",
                label: order.waits
                  ? "Pending approval"
                  : asks.length > 0
                    ? `Ask to confirm · ${total}`
                    : `Confirm · ${total}`,
                run: () => setAsking("confirm"),
                primary: true,
                disabled: stops || order.waits,
                needs: "confirm_order" as const,
              },
              {
                key: "i",
                label: "Sell over the counter",
                run: () => setAsking("bill"),
                disabled: stops || order.waits || asks.length > 0,
                needs: "ship_and_bill" as const,
              },
            ]
          : []),
        ...(open && order.can_ship > 0
          ? [
              {
                key: "s",
                label: `Pick ${plural(order.can_ship, "line", "lines")}`,
                run: start,
                primary: true,
                needs: "keep_shipment" as const,
              },
              {
                key: "i",
                label: "Ship and bill",
                run: () => setAsking("bill"),
                needs: "ship_and_bill" as const,
              },
            ]
          : []),
        ...(draft
          ? []
          : [
              {
                key: "b",
                label: "Bill what has shipped",
                run: () => navigate(`/billing?q=${order.number}`),
                primary: order.can_ship === 0,
                disabled: order.track.shipped <= order.track.billed,
              },
            ]),
        ...(draft || open
          ? [
              {
                key: "e",
                label: draft ? "Change" : "Amend",
                run: () => navigate(`/orders/${order.id}/change`),
                needs: "keep_order" as const,
              },
            ]
          : [
              {
                key: "e",
                label: "Reopen it with more",
                run: () => navigate(`/orders/${order.id}/change`),
                needs: "reopen_order" as const,
                quiet: true,
              },
            ]),
        ...(open && short
          ? [
              { key: "a", label: "Reserve stock", run: setAside, quiet: true, needs: "keep_shipment" as const },
              {
                key: "o",
                label: "Order goods in",
                run: () => setAsking("expect"),
                quiet: true,
                needs: "take_in" as const,
              },
            ]
          : []),
        ...(draft || open
          ? [{ key: "x", label: "Cancel", run: () => setAsking("cancel"), quiet: !draft, needs: "keep_order" as const }]
          : []),
        ...(open
          ? [
              {
                key: "h",
                label: "Bill in advance",
                run: () => navigate(`/orders/${order.id}/advance`),
                quiet: order.track.shipped > order.track.billed,
                needs: "post_invoice" as const,
              },
            ]
          : []),
        ...(order.state === "closed"
          ? []
          : [
              {
                key: "r",
                label: "Take a deposit",
                run: () => navigate(`/prepayments/new?customer=${order.customer}&order=${order.id}`),
                quiet: true,
                needs: "post_money" as const,
              },
            ]),
        ...(order.state === "draft" || order.state === "closed"
          ? []
          : [
              {
                key: "k",
                label: "Authorize a card",
                run: () => setAsking("card"),
                quiet: true,
                needs: "post_money" as const,
              },
            ]),
        ...(open || order.state === "filled"
          ? [{ key: "f", label: "Close the order", run: () => setAsking("close"), quiet: true }]
          : []),
        { key: "y", label: "Copy the order", run: () => setAsking("copy"), quiet: true, needs: "keep_order" as const },
        { key: "w", label: "Print the confirmation", run: () => window.print(), quiet: true },
        { key: "u", label: "Customer account", run: () => navigate(`/customers/${order.customer}`), quiet: true },
      ]}
      tape={
        <Paper>
          <TapeLines tape={order.tape} />
          <Tear />
          <BlockerLines blockers={order.blockers} />
          <ChangeLines changes={order.changes} base={base} />
          {!draft && (
            <>
              <h3>So far</h3>
              <div className="l">
                <span>billed, with tax</span>
                <span>{money(order.billed_gross, order.currency)}</span>
              </div>
              <div className="l">
                <span>paid of it</span>
                <span>{money(order.paid_gross, order.currency)}</span>
              </div>
            </>
          )}
          {order.hanging.length > 0 ? (
            <>
              <h3>Missing until it closes</h3>
              {order.hanging.map((one) => (
                <div className="words" key={one.what}>
                  ▲ {one.words}
                </div>
              ))}
            </>
          ) : (
            <div className="words" style={{ color: "var(--done)" }}>
              ● Shipped, billed and paid. It closed by itself.
            </div>
          )}
          {order.from.length > 0 && (
            <div className="words quiet">
              Came from{" "}
              {order.from.map((document, at) => (
                <span key={document.number}>
                  {at > 0 && ", "}
                  <Link to={placeOf(document)}>{document.number}</Link>
                </span>
              ))}
              .
            </div>
          )}
          <TrailLines trail={order.trail} />
          <RecordLines kind="order" id={order.id} />
        </Paper>
      }
    >
      <ApprovalStrip approvals={approvals} />
      <Facts
        facts={[
          ["State", <OrderState key="s" state={order.state} waits={order.waits} />],
          ["Track", <Track key="t" track={order.track} />],
          ["Ordered", date(order.order_date)],
          [
            "Promised",
            order.promised_date ? (
              order.late ? (
                <Marked key="l" className="stop">
                  ◆ {date(order.promised_date)}
                </Marked>
              ) : (
                date(order.promised_date)
              )
            ) : (
              "no date"
            ),
          ],
          ["Ship to", `${order.goes_to.name}, ${order.goes_to.address}`],
          ["Customer PO", <TheirNumber key="n" order={order} />],
          ["Delivery", delivery(order)],
          [
            "Accepted by",
            order.accepted && (
              <span key="a">
                {order.accepted.name} on the customer page, {date(order.accepted.accepted_on)}
                {order.accepted.missing > 0 && (
                  <Marked className="heed">
                    {" "}
                    ▲ {moneyWithCurrency(order.accepted.missing, order.currency)}{" "}
                    {order.accepted.asked.what === "card" ? "to be authorized on a card" : "of its deposit"} missing
                  </Marked>
                )}
              </span>
            ),
          ],
          ["Contact", order.contact_name],
          ["Tags", order.tags.map((tag) => `#${tag}`).join(" ")],
          ["Note for the customer", order.form.note],
          ["Note for ourselves", order.form.own_note],
          ...marksOf(order),
        ]}
      />
      <Scroll>
        <Lines label="Lines of the order">
          <thead>
            <tr>
              <th>Item</th>
              <th className="right">Ordered</th>
              <th className="right">Reserved</th>
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
              <LineRow key={line.id} line={line} order={order} />
            ))}
          </tbody>
        </Lines>
        <OrderDeposits order={order} />
        <OrderCards order={order} />
        <OrderPrepayments order={order} />
      </Scroll>
      {asking === "confirm" && <ConfirmAsk order={order} asks={asks} close={close} />}
      {asking === "cancel" && <CancelRestAsk order={order} close={close} />}
      {asking === "expect" && <ExpectAsk order={order} close={close} />}
      {asking === "copy" && <CopyAsk order={order} close={close} />}
      {asking === "card" && <AuthorizeAsk order={order} close={close} />}
      {asking === "close" && (
        <CloseAsk order={order} close={close} finish={(paidNow) => setAsking(paidNow ? "finish" : "bill")} />
      )}
      {(asking === "bill" || asking === "finish") && (
        <ShipAndBillAsk
          order={order}
          counter={draft}
          paidNow={asking === "finish"}
          close={() => {
            close();
            if (params.has("sell")) {
              setParams({}, { replace: true });
            }
          }}
        />
      )}
      <OrderPaper order={order} />
    </Worktop>
  );
}

/** What the address asks for: a sale over the counter that goes on, a card to be authorized again. */
function startsWith(params: URLSearchParams, draft: boolean): Asking {
  if (draft) {
    return params.has("sell") ? "bill" : undefined;
  }
  return params.has("card") ? "card" : undefined;
}

function delivery(order: OrderView): string {
  const terms = [order.form.delivery_terms, order.form.delivery_place].filter(Boolean).join(" ");
  return [order.form.carrier, terms, order.form.warehouse && `from ${order.form.warehouse}`]
    .filter(Boolean)
    .join(" · ");
}

/** Own fields and reporting codes of the order, by their names. */
function marksOf(order: OrderView): [string, string][] {
  const marks = order.form.marks;
  return [...Object.entries(marks?.codes ?? {}), ...Object.entries(marks?.fields ?? {})].map(([key, value]) => [
    key,
    value,
  ]);
}
