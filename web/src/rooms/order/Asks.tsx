import { useNavigate } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { Blocker, OrderView } from "../../api/types";
import { moneyWithCurrency, number } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";

/** Confirms a draft, or asks whether it may be. */
export function ConfirmAsk({ order, asks, close }: { order: OrderView; asks: Blocker[]; close: () => void }) {
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const total = moneyWithCurrency(order.total, order.currency);
  return (
    <FormAsk
      title={asks.length > 0 ? `Ask to confirm ${order.number}?` : `Confirm ${order.number}?`}
      yes={asks.length > 0 && !may("decide_approval") ? `Ask · ${total}` : `Confirm · ${total}`}
      close={close}
      fields={asks.length > 0 ? [{ name: "reason", label: "Why it should go ahead", kind: "words" }] : []}
      run={async (values, key) => {
        const outcome = await got(
          api.POST("/api/orders/{id}/confirm", {
            params: { path: { id: order.id }, header: keyed(key) },
            body: { version: order.version, reason: values.reason ?? "" },
          }),
        );
        say(
          outcome.waits == null
            ? {
                kind: "done",
                text: `${order.number} is confirmed. Its stock is reserved, as far as there is any.`,
              }
            : {
                kind: "done",
                text: `${order.number} is pending approval. It stays a draft until then.`,
                links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
              },
        );
        await changed();
      }}
    >
      {asks.length > 0
        ? asks.map((blocker) => blocker.sentence).join(" ")
        : `${order.customer_name} orders for ${total}. Nothing is written to the ledger; goods are reserved as far as there are any.`}
    </FormAsk>
  );
}

/** Cancels what has not shipped: a part of a line, a line, or all of it. */
export function CancelRestAsk({ order, close }: { order: OrderView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={`Cancel what has not shipped of ${order.number}?`}
      yes="Cancel it"
      no="Close"
      close={close}
      fields={[
        {
          name: "line",
          label: "What",
          choices: [
            ["", "the whole rest of the order"],
            ...order.lines
              .filter((line) => line.ordered !== line.shipped)
              .map((line): [string, string] => [String(line.id), `${line.code} ${line.description}`]),
          ],
        },
        { name: "quantity", label: "How much of the line", hint: "empty: all that has not shipped", right: true },
        { name: "reason", label: "Why", kind: "words" },
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/orders/{id}/cancel", {
            params: { path: { id: order.id }, header: keyed(key) },
            body: {
              version: order.version,
              line: values.line ? Number(values.line) : null,
              quantity: values.line && values.quantity ? values.quantity : null,
              reason: values.reason ?? "",
            },
          }),
        );
        say({ kind: "done", text: `Canceled on ${order.number}. What was reserved for it is free again.` });
        await changed();
      }}
    >
      What has shipped stays. What was reserved for the rest is free for others.
    </FormAsk>
  );
}

/** Notes goods that were ordered in for what waits. */
export function ExpectAsk({ order, close }: { order: OrderView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={`Order goods in for ${order.number}`}
      yes="Save"
      close={close}
      fields={[
        {
          name: "line",
          label: "What",
          choices: order.lines
            .filter((line) => line.back_ordered !== "0")
            .map((line): [string, string] => [
              String(line.id),
              `${line.code}, ${number(line.back_ordered)} ${line.unit} waiting`,
            ]),
        },
        {
          name: "quantity",
          label: "How much, in stock units",
          right: true,
          value: order.lines.find((line) => line.back_ordered !== "0")?.back_ordered ?? "",
        },
        { name: "expected_on", label: "Expected on", kind: "date" },
      ]}
      run={async (values, key) => {
        const line = order.lines.find((one) => String(one.id) === values.line);
        await got(
          api.POST("/api/expected-goods", {
            params: { header: keyed(key) },
            body: {
              item: line?.code ?? "",
              warehouse: line?.warehouse ?? null,
              quantity: values.quantity ?? "",
              expected_on: values.expected_on ?? "",
              order_line: line?.id ?? null,
            },
          }),
        );
        say({ kind: "done", text: "Noted. When the goods come in they are reserved for this order first." });
        await changed();
      }}
    >
      When they come in they are reserved for this order before any other.
    </FormAsk>
  );
}

/** Copies an order into a new draft. */
export function CopyAsk({ order, close }: { order: OrderView; close: () => void }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  return (
    <FormAsk
      title={`Copy ${order.number} into a new order?`}
      yes="Copy it"
      close={close}
      fields={[]}
      run={async (_, key) => {
        const id = await got(
          api.POST("/api/orders/{id}/copy", { params: { path: { id: order.id }, header: keyed(key) } }),
        );
        await changed();
        navigate(`/orders/${id}`);
      }}
    >
      A draft of today with the same lines, at today's prices. Customer PO stays behind.
    </FormAsk>
  );
}
