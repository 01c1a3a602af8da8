import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, newKey } from "../../api/client";
import type { OrderView } from "../../api/types";
import { decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk, type FormField } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";
import { became } from "./words";

/** Authorizes a card for an order: a promise of the card's bank, and no entry. */
export function AuthorizeAsk({ order, close }: { order: OrderView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const form = useQuery({
    queryKey: ["order-card", order.id, order.version],
    queryFn: () => got(api.GET("/api/orders/{id}/card", { params: { path: { id: order.id } } })),
    gcTime: 0,
    retry: false,
  });
  if (form.error) {
    return (
      <FormAsk title="Authorize a card?" yes="Close" close={close} fields={[]} run={async () => close()}>
        {form.error.message}
      </FormAsk>
    );
  }
  if (!form.data) {
    return null;
  }
  const { cards, currency, room, total, paid, authorized, processor, blockers } = form.data;
  const stopped = blockers.find((blocker) => blocker.effect === "stops");
  if (!processor || stopped) {
    return (
      <FormAsk title="Authorize a card?" yes="Close" close={close} fields={[]} run={async () => close()}>
        {processor
          ? stopped?.sentence
          : "No card processor is set up. The setting card_processor of the program names its address."}
      </FormAsk>
    );
  }
  const fields: FormField[] =
    cards.length === 0
      ? []
      : [
          {
            name: "card",
            label: "Card",
            value: String(cards[0]?.id ?? ""),
            choices: cards.map((card): [string, string] => [
              String(card.id),
              `ends in ${card.last_four}, valid through ${card.valid_through}`,
            ]),
          },
          {
            name: "amount",
            label: `Amount ${currency}`,
            value: decimal(room, exponentOf(currency)),
            right: true,
          },
        ];
  const sums = [
    `${order.number} comes to ${moneyWithCurrency(total, currency)} with tax`,
    ...(paid > 0 ? [`${moneyWithCurrency(paid, currency)} is paid`] : []),
    ...(authorized > 0 ? [`${moneyWithCurrency(authorized, currency)} is authorized already`] : []),
  ];
  return (
    <FormAsk
      key={cards.length}
      title={`Authorize a card for ${order.number}?`}
      yes={cards.length === 0 ? "Look for the card again" : "Authorize"}
      close={close}
      fields={fields}
      keepsOpen={cards.length === 0}
      run={async (values, key) => {
        if (cards.length === 0) {
          await form.refetch();
          return;
        }
        const asked = await got(
          api.POST("/api/cards", {
            params: { header: keyed(key) },
            body: { order: order.id, card: Number(values.card), amount: typedDecimal(values.amount ?? "") || null },
          }),
        );
        const { card } = asked;
        say(
          became(
            asked,
            `${card.number} · ${moneyWithCurrency(card.amount, card.currency)} is authorized for ${order.number}.`,
          ),
        );
        await changed();
      }}
    >
      {sums.join(", ")}. Nothing is posted before it is captured.
      <AddCard customer={form.data.customer} added={() => form.refetch()} />
    </FormAsk>
  );
}

/** A card is typed on the processor's own page; what comes back stands for it. */
function AddCard({ customer, added }: { customer: number; added: () => Promise<unknown> }) {
  const [page, setPage] = useState<{ session: string; address: string }>();
  const [said, setSaid] = useState("");
  const open = async () => {
    try {
      const made = await got(
        api.POST("/api/customers/{id}/cards/new", { params: { path: { id: customer }, header: keyed(newKey()) } }),
      );
      setPage(made);
      setSaid("");
      window.open(made.address, "_blank", "noopener");
    } catch (error) {
      setSaid(error instanceof Error ? error.message : String(error));
    }
  };
  const look = async () => {
    try {
      const kept = await got(
        api.POST("/api/customers/{id}/cards", {
          params: { path: { id: customer }, header: keyed(newKey()) },
          body: { session: page?.session ?? "" },
        }),
      );
      if (kept.card) {
        setPage(undefined);
        await added();
      } else {
        setSaid("No card was typed there yet.");
      }
    } catch (error) {
      setSaid(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <div style={{ marginTop: 8 }}>
      {page ? (
        <>
          <a href={page.address} target="_blank" rel="noopener noreferrer">
            The processor's page
          </a>{" "}
          takes the card: no number of it comes here.{" "}
          <Button variant="text" size="small" onClick={look}>
            It is typed
          </Button>
        </>
      ) : (
        <Button variant="text" size="small" onClick={open}>
          Add a card
        </Button>
      )}
      {said && (
        <p className="wrong" role="alert">
          {said}
        </p>
      )}
    </div>
  );
}
