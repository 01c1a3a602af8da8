import { useQuery } from "@tanstack/react-query";
import { api, got, keyed, newKey } from "../../api/client";
import { moneyWithCurrency, plural } from "../../format";
import { Marked, useEverythingChanged, Wrong } from "../../parts/bits";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";

/** Ships and bills several confirmed orders: what each comes to, and all of them or none. */
export function ShipManyAsk({
  orders,
  close,
}: {
  orders: { id: number; number: string; customer_name: string }[];
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const ids = orders.map((order) => order.id);
  const preview = useQuery({
    queryKey: ["ship-many", ids],
    queryFn: () =>
      got(api.POST("/api/ship-and-bill/preview", { params: { header: keyed(newKey()) }, body: { orders: ids } })),
    retry: false,
    gcTime: 0,
  });
  const done = preview.data ?? [];
  const stops = (at: number) => done[at]?.blockers.find((blocker) => blocker.effect === "stops");
  const blocked = orders.some((_, at) => stops(at));
  const sums = new Map<string, bigint>();
  for (const one of done) {
    const document = one.preview?.document;
    if (document) {
      sums.set(document.currency, (sums.get(document.currency) ?? 0n) + BigInt(document.total));
    }
  }
  const total = [...sums].map(([currency, sum]) => moneyWithCurrency(Number(sum), currency)).join(" + ");
  const ready = !!preview.data && !blocked;
  return (
    <Ask
      title={`Ship and bill ${plural(orders.length, "order", "orders")}?`}
      yes={ready ? `Ship and bill · ${total}` : "Look again"}
      busyWords={ready ? "Posting…" : "One moment…"}
      close={close}
      run={async (key) => {
        if (!ready) {
          await preview.refetch();
          throw preview.error ?? new Error("Something stands in the way. Leave that order out, or fix it.");
        }
        const posted = await got(
          api.POST("/api/ship-and-bill", {
            params: { header: keyed(key) },
            body: { orders: ids, seen: done.map((one) => one.seen) },
          }),
        );
        say({
          kind: "done",
          text: `${posted.map((one) => one.invoice?.number).join(", ")} posted · ${total}, with their shipments.`,
          links: posted
            .slice(0, 3)
            .flatMap((one) =>
              one.invoice
                ? [{ text: `Open ${one.invoice.number}`, to: placeOf({ kind: "invoice", ...one.invoice }) }]
                : [],
            ),
        });
        await changed();
      }}
    >
      {preview.error && <Wrong error={preview.error} />}
      {!preview.data && !preview.error && "Working out what can go…"}
      {preview.data &&
        orders.map((order, at) => (
          <div key={order.id}>
            {order.number} · {order.customer_name}:{" "}
            {stops(at) ? (
              <Marked className="stop">◆ {stops(at)?.sentence}</Marked>
            ) : (
              done[at]?.preview?.document &&
              moneyWithCurrency(done[at].preview.document.total, done[at].preview.document.currency)
            )}
          </div>
        ))}
      {preview.data && <p style={{ margin: "8px 0 0" }}>All shipments and invoices are posted together, or none.</p>}
    </Ask>
  );
}
