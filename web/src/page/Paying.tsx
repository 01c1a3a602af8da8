import Button from "@mui/material/Button";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, got, keyed, newKey, Problem } from "../api/client";
import { moneyWithCurrency } from "../format";
import type { Page, PagePaid } from "./bits";
import { forgetTyping, leaveFor, rememberTyping, type Typing, typing } from "./link";

type Wish = Omit<Typing, "session">;

/** What became of a card, in a sentence for its owner. */
export function paidWords(paid: PagePaid, atOnce: boolean): { good: boolean; words: string } {
  const amount = moneyWithCurrency(paid.amount, paid.currency);
  switch (paid.state) {
    case "captured":
    case "captured_in_part":
      return { good: true, words: `${amount} was paid with your card. Thank you.` };
    case "authorized":
    case "expiring":
      return atOnce
        ? { good: true, words: `Your card was accepted for ${amount}. The payment is on its way.` }
        : { good: true, words: `Your card is kept for ${amount}. We charge it once your goods have shipped.` };
    case "no_answer":
      return { good: false, words: "The card service did not answer. Try again: nothing is charged twice." };
    default: {
      const why = paid.words ? ` ${paid.words.replace(/\.?$/, ".")}` : "";
      return { good: false, words: `Your card was not accepted.${why} Use another card. Nothing was charged.` };
    }
  }
}

interface Props {
  page: Page;
  wish: Wish;
  currency: string;
  /** Whether the money is taken at once. */
  atOnce: boolean;
  changed: (said: string) => Promise<void>;
}

/** The buttons that leave a card or pay with one. */
export function PayButtons({ page, wish, currency, atOnce, changed }: Props) {
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const [said, setSaid] = useState("");
  const key = useRef(newKey());
  const amount = moneyWithCurrency(wish.amount, currency);
  const act = async (run: () => Promise<void>) => {
    if (busy) {
      return;
    }
    setBusy(true);
    setSaid("");
    try {
      await run();
    } catch (error) {
      if (error instanceof Problem) {
        setSaid(error.message);
        if (error.code !== "unreachable" && error.code !== "no_card_answer") {
          key.current = newKey();
        }
      }
    } finally {
      setBusy(false);
    }
  };
  const pay = (card: number) =>
    act(async () => {
      const paid = await got(
        api.POST("/api/page/payments", {
          params: { header: { Authorization: "", ...keyed(key.current) } },
          body: { pays: wish.pays, id: wish.id, amount: wish.amount, card },
        }),
      );
      const { good, words } = paidWords(paid, atOnce);
      if (good) {
        await changed(words);
      } else {
        setSaid(words);
        // The same request again asks after what was not answered; anything else is another request.
        if (paid.state !== "no_answer") {
          key.current = newKey();
        }
        await client.invalidateQueries();
      }
    });
  const typeCard = () =>
    act(async () => {
      const typed = await got(
        api.POST("/api/page/card-session", { params: { header: { Authorization: "", ...keyed(newKey()) } } }),
      );
      rememberTyping({ ...wish, session: typed.session });
      leaveFor(typed.address);
    });
  // Back from the processor's page: the card that was typed there is used for what it was typed for. Looked at once, as the
  // page opens: what is begun here leaves for the processor first.
  const [mine] = useState(() => {
    const back = typing();
    return back && back.pays === wish.pays && back.id === wish.id ? back.session : undefined;
  });
  const takeBack = useRef(pay);
  takeBack.current = pay;
  useEffect(() => {
    // Drawn twice, it is used once.
    if (!mine || typing()?.session !== mine) {
      return;
    }
    forgetTyping();
    const keep = async () => {
      try {
        const kept = await got(
          api.POST("/api/page/cards", {
            params: { header: { Authorization: "", ...keyed(newKey()) } },
            body: { session: mine },
          }),
        );
        if (kept.card) {
          await takeBack.current(kept.card.id);
        } else {
          setSaid("No card was typed. Try again.");
        }
      } catch (error) {
        setSaid(error instanceof Problem ? error.message : "Try again.");
      }
    };
    void keep();
  }, [mine]);
  const verb = atOnce ? "Pay" : "Keep";
  return (
    <>
      <div className="acts">
        {page.cards.slice(0, 2).map((card) => (
          <Button key={card.id} variant="contained" disabled={busy} onClick={() => void pay(card.id)}>
            {verb} {amount} · card ending in {card.last_four}
          </Button>
        ))}
        <Button
          variant={page.cards.length > 0 ? "outlined" : "contained"}
          disabled={busy}
          onClick={() => void typeCard()}
        >
          {page.cards.length > 0 ? "Another card…" : atOnce ? `Pay ${amount} by card…` : `Leave a card for ${amount}…`}
        </Button>
      </div>
      {busy && <p className="dim">One moment…</p>}
      {said && (
        <p className="stop" role="alert">
          ▲ {said}
        </p>
      )}
    </>
  );
}
