import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { OrderView } from "../../api/types";
import { date, decimal, exponentOf, moneyWithCurrency, plural, sentence, typedDecimal } from "../../format";
import { useBase, useEverythingChanged, useSettled, Wrong } from "../../parts/bits";
import { Field, FormGrid } from "../../parts/form";
import { usePaymentMethods } from "../../parts/methods";
import { BlockerLines, EntryLines, Paper } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";

interface Paid {
  /** The code of a way of paying; empty for none. */
  method: string;
  /** As typed; none for what the invoice comes to. */
  amount?: string;
  reference: string;
}

/**
 * Shipment, invoice and, where it is paid at once, the receipt in one posting: what they will be,
 * before it is done. Over the counter, the order is confirmed with them.
 */
export function ShipAndBillAsk({
  order,
  counter = false,
  paidNow = false,
  close,
}: {
  order: OrderView;
  counter?: boolean;
  /** Whether the money is here too: chosen to begin with, and changed by hand. */
  paidNow?: boolean;
  close: () => void;
}) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const ways = usePaymentMethods();
  const methods: (readonly [string, string])[] = [
    ["", "Later, on its terms"],
    ...ways.map((one) => [one.code, sentence(one.name)] as const),
  ];
  const [typed, setPaid] = useState<Paid>();
  const first = paidNow ? (ways[0]?.code ?? "") : "";
  const paid = useMemo(() => typed ?? { method: first, reference: "" }, [typed, first]);
  const settled = useSettled(paid);
  const body = {
    confirm: counter,
    paid: settled.method
      ? {
          method: settled.method,
          amount: settled.amount === undefined ? null : typedDecimal(settled.amount),
          reference: settled.reference.trim() || null,
        }
      : null,
  };
  const preview = useQuery({
    queryKey: ["ship-and-bill", order.id, order.version, body],
    queryFn: () =>
      got(
        api.POST("/api/orders/{id}/ship-and-bill/preview", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body,
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const data = preview.data;
  const document = data?.preview?.document;
  const receipt = data?.money;
  const problem = preview.error instanceof Problem ? preview.error : undefined;
  const faults = problem ?? new Problem({ blockers: data?.blockers ?? [] });
  const ofMoney = problem?.field?.startsWith("paid.") ?? false;
  const stopped = !!preview.error || (data?.blockers ?? []).some((blocker) => blocker.effect === "stops");
  const waiting = preview.isFetching || settled !== paid;
  const total = document ? moneyWithCurrency(document.total, document.currency) : "";
  const ready = !!data && !!document && !stopped;
  const title = counter ? "Sell over the counter" : "Ship and bill";
  const change = (part: Partial<Paid>) => setPaid({ ...paid, ...part });
  const goods = counter ? "leaves the counter" : "leaves";
  let words: ReactNode = "Working out what can go…";
  if (ofMoney) {
    words = "Put right what was paid.";
  } else if (preview.error) {
    words = <Wrong error={preview.error} />;
  } else if (document) {
    words = (
      <>
        {plural(document.lines.length, `line ${goods}`, `lines ${goods.replace("leaves", "leave")}`)} and{" "}
        {order.customer_name} owes {moneyWithCurrency(document.due, document.currency)}
        {document.due === 0 ? (
          ", it is paid in advance. "
        ) : receipt ? (
          receipt.document.amount === document.due ? (
            " and pays all of it now. "
          ) : (
            <>. {moneyWithCurrency(receipt.document.amount, receipt.currency)} is paid now. </>
          )
        ) : (
          <>, due {date(document.due_date)}. </>
        )}
        All of it is posted together, or nothing.
      </>
    );
  } else if (data) {
    words = "It cannot go like this:";
  }
  return (
    <Ask
      title={ready ? `${title}: ${order.number}?` : title}
      yes={ready ? `${title} · ${total}` : "Look again"}
      busyWords={ready ? "Posting…" : "One moment…"}
      disabled={waiting}
      close={close}
      run={async (key) => {
        if (!ready) {
          await preview.refetch();
          return false;
        }
        const done = await got(
          api.POST("/api/orders/{id}/ship-and-bill", {
            params: { path: { id: order.id }, header: keyed(key) },
            body: { ...body, seen: data.seen },
          }),
        );
        const with_ = done.receipt ? "with its shipment and the money for it" : "with its shipment";
        say({
          kind: "done",
          text: `${done.invoice?.number} posted · ${total}, ${with_}.`,
          links: counter
            ? [{ text: "Next sale", to: "/orders/new" }]
            : [
                { text: "Look at the shipment", to: `/shipments/${done.shipment}` },
                ...(done.receipt ? [{ text: "Look at the receipt", to: `/receipts/${done.receipt}` }] : []),
              ],
        });
        await changed();
        navigate(`/invoices/${done.invoice?.id}`);
      }}
    >
      {words}
      <FormGrid style={{ marginTop: 8 }}>
        <Field
          label="Paid"
          name="paid.method"
          value={paid.method}
          onChange={(method) => change({ method })}
          choices={methods}
          span={paid.method ? 4 : 6}
          faults={faults}
        />
        {paid.method && (
          <>
            <Field
              label={`Amount ${order.currency}`}
              name="paid.amount"
              value={paid.amount ?? (document ? decimal(document.due, exponentOf(document.currency)) : "")}
              onChange={(amount) => change({ amount })}
              span={4}
              right
              hint={paid.amount === "" ? "empty: all of it" : undefined}
              faults={faults}
            />
            <Field
              label={
                ways.find((one) => one.code === paid.method)?.kind === "checks_in_hand" ? "Check number" : "Remarks"
              }
              name="paid.reference"
              value={paid.reference}
              onChange={(reference) => change({ reference })}
              span={4}
              faults={faults}
            />
          </>
        )}
      </FormGrid>
      {data && (
        <Paper style={{ maxHeight: 330, overflowY: "auto" }}>
          <BlockerLines blockers={data.blockers} />
          {data.preview?.entry && <EntryLines entry={data.preview.entry} base={base} title="Entry of the invoice" />}
          {receipt?.entry && <EntryLines entry={receipt.entry} base={base} title="Entry of the receipt" />}
          {data.shipment_entry && <EntryLines entry={data.shipment_entry} base={base} title="Entry of the shipment" />}
          {data.preview?.cost_entry && (
            <EntryLines entry={data.preview.cost_entry} base={base} title="Entry of the cost" />
          )}
        </Paper>
      )}
    </Ask>
  );
}
