import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, got, keyed, newKey } from "../../api/client";
import type { OrderView } from "../../api/types";
import { date, moneyWithCurrency, plural } from "../../format";
import { useBase, useEverythingChanged, Wrong } from "../../parts/bits";
import { BlockerLines, EntryLines, Paper } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";

/** Shipment and invoice in one posting: what both will be, before it is done. */
export function ShipAndBillAsk({ order, close }: { order: OrderView; close: () => void }) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const preview = useQuery({
    queryKey: ["ship-and-bill", order.id, order.version],
    queryFn: () =>
      got(
        api.POST("/api/orders/{id}/ship-and-bill/preview", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body: {},
        }),
      ),
    retry: false,
    gcTime: 0,
  });
  const data = preview.data;
  const document = data?.preview?.document;
  const stopped = (data?.blockers ?? []).some((blocker) => blocker.effect === "stops");
  const total = document ? moneyWithCurrency(document.total, document.currency) : "";
  if (!data || stopped || !document) {
    return (
      <Ask
        title="Ship and bill"
        yes="Look again"
        busyWords="One moment…"
        close={close}
        run={async () => void preview.refetch()}
      >
        {preview.error ? (
          <Wrong error={preview.error} />
        ) : data ? (
          <Paper>
            <BlockerLines blockers={data.blockers} />
          </Paper>
        ) : (
          "Working out what can go…"
        )}
      </Ask>
    );
  }
  return (
    <Ask
      title={`Ship and bill ${order.number}?`}
      yes={`Ship and bill · ${total}`}
      close={close}
      run={async (key) => {
        const done = await got(
          api.POST("/api/orders/{id}/ship-and-bill", {
            params: { path: { id: order.id }, header: keyed(key) },
            body: { seen: data.seen },
          }),
        );
        say({
          kind: "done",
          text: `${done.invoice?.number} posted · ${total}, with its shipment.`,
          links: [{ text: "Look at the shipment", to: `/shipments/${done.shipment}` }],
        });
        await changed();
        navigate(`/invoices/${done.invoice?.id}`);
      }}
    >
      {plural(document.lines.length, "line leaves", "lines leave")} and {order.customer_name} owes {total}, due{" "}
      {date(document.due_date)}. Both are posted together, or neither.
      <Paper style={{ marginTop: 10 }}>
        {data.shipment_entry && <EntryLines entry={data.shipment_entry} base={base} title="Entry of the shipment" />}
        {data.preview?.entry && <EntryLines entry={data.preview.entry} base={base} title="Entry of the invoice" />}
        {data.preview?.cost_entry && (
          <EntryLines entry={data.preview.cost_entry} base={base} title="Cost that follows billing" />
        )}
      </Paper>
    </Ask>
  );
}
