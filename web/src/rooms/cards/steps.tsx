import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, newKey } from "../../api/client";
import type { CaptureView, CardReturnView, CardView } from "../../api/types";
import { decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { became } from "./words";

const goes = {
  to_invoices: "It becomes a receipt for the open invoices of the order.",
  deposit: "Nothing of the order is billed yet: it becomes a deposit for it.",
  unapplied: "The order has no room for it any more: it becomes a receipt that lies unapplied.",
};

/** Captures what was authorized, or part of it. */
export function CaptureAsk({ card, close }: { card: CardView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const exponent = exponentOf(card.currency);
  const proposed = decimal(card.to_capture > 0 ? card.to_capture : card.left, exponent);
  const [amount, setAmount] = useState(proposed);
  const preview = useQuery({
    queryKey: ["capture", card.id, card.version, amount],
    queryFn: () =>
      got(
        api.POST("/api/cards/{id}/capture/preview", {
          params: { path: { id: card.id } },
          body: { amount: typedDecimal(amount) || null },
        }),
      ),
    gcTime: 0,
    retry: false,
  });
  const total = preview.data ? moneyWithCurrency(preview.data.amount, card.currency) : "";
  return (
    <FormAsk
      title={`Capture from ${card.number}?`}
      yes={total ? `Capture · ${total}` : "Capture"}
      close={close}
      fields={[
        {
          name: "amount",
          label: `Amount ${card.currency}`,
          value: proposed,
          right: true,
          hint: `${moneyWithCurrency(card.left, card.currency)} is left`,
          changed: setAmount,
        },
      ]}
      run={async (values, key) => {
        const asked = await got(
          api.POST("/api/cards/{id}/capture", {
            params: { path: { id: card.id }, header: keyed(key) },
            body: {
              version: card.version,
              amount: typedDecimal(values.amount ?? "") || null,
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        );
        const last = asked.card.captures.at(-1);
        const what = last?.document ? `: ${last.document.number}` : ", and waits to be booked";
        say(became(asked, `${total} is captured${what}.`));
        await changed();
      }}
    >
      {preview.data && goes[preview.data.goes]}
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (
        <WhatItDoes does={preview.data} entries={preview.data.entry ? [preview.data.entry] : []} height={290} />
      )}
    </FormAsk>
  );
}

/** Gives up what was not captured. */
export function VoidAsk({ card, close }: { card: CardView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const left = moneyWithCurrency(card.left, card.currency);
  return (
    <FormAsk
      title={`Void ${card.number}?`}
      yes={`Void · ${left}`}
      close={close}
      fields={[]}
      run={async (_, key) => {
        const asked = await got(
          api.POST("/api/cards/{id}/void", {
            params: { path: { id: card.id }, header: keyed(key) },
            body: { version: card.version },
          }),
        );
        say(became(asked, `${left} of ${card.number} is voided: it can no longer be captured.`));
        await changed();
      }}
    >
      The card's bank lets go of {left}. Nothing is posted; what was captured stays.
    </FormAsk>
  );
}

/** Sends money back to the card it came from. */
export function RefundAsk({ card, capture, close }: { card: CardView; capture: CaptureView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [amount, setAmount] = useState<string>();
  const preview = useQuery({
    queryKey: ["card-refund", capture.id, card.version, amount],
    queryFn: () =>
      got(
        api.POST("/api/card-captures/{id}/refund/preview", {
          params: { path: { id: capture.id } },
          // The reason is asked for below; what it does to the books is the same for any.
          body: { amount: (amount && typedDecimal(amount)) || null, reason: "to be said" },
        }),
      ),
    gcTime: 0,
    retry: false,
  });
  const total = preview.data ? moneyWithCurrency(preview.data.amount, card.currency) : "";
  return (
    <FormAsk
      title={`Send money of ${capture.document?.number} back to the card?`}
      yes={total ? `Refund · ${total}` : "Refund"}
      close={close}
      fields={[
        { name: "reason", label: "Why", kind: "words" },
        {
          name: "amount",
          label: `Amount ${card.currency}`,
          right: true,
          hint: "Leave empty for all that is held or unapplied of it",
          changed: setAmount,
        },
      ]}
      run={async (values, key) => {
        const asked = await got(
          api.POST("/api/card-captures/{id}/refund", {
            params: { path: { id: capture.id }, header: keyed(key) },
            body: {
              amount: typedDecimal(values.amount ?? "") || null,
              reason: values.reason ?? "",
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        );
        say(became(asked, `${total} is on its way back to the card.`));
        await changed();
      }}
    >
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (
        <WhatItDoes does={preview.data} entries={preview.data.entry ? [preview.data.entry] : []} height={220} />
      )}
    </FormAsk>
  );
}

/** Brings a capture into the books that could not be as it was captured. */
export function BookCaptureAsk({ card, capture, close }: { card: CardView; capture: CaptureView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const total = moneyWithCurrency(capture.amount, card.currency);
  return (
    <FormAsk
      title={`Book the capture of ${total}?`}
      yes={`Book · ${total}`}
      close={close}
      fields={[{ name: "date", label: "Date", kind: "date", hint: "Leave empty to use the day it was captured" }]}
      run={async (values, key) => {
        const booked = await got(
          api.POST("/api/card-captures/{id}/book", {
            params: { path: { id: capture.id }, header: keyed(key) },
            body: { date: values.date || null },
          }),
        );
        say({ kind: "done", text: `${total} of ${card.number} is in the books: ${booked.number}.` });
        await changed();
      }}
    >
      It was captured, and could not be brought into the books then. Choose another day where its period is closed.
    </FormAsk>
  );
}

/** Brings into the books what went back to the card, or was taken back by its bank. */
export function BookReturnAsk({ card, back, close }: { card: CardView; back: CardReturnView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const preview = useQuery({
    queryKey: ["card-return", back.id, card.version, day],
    queryFn: () =>
      got(
        api.POST("/api/card-returns/{id}/book/preview", {
          params: { path: { id: back.id }, header: keyed(newKey()) },
          body: { date: day || null },
        }),
      ),
    gcTime: 0,
    retry: false,
  });
  const total = moneyWithCurrency(back.amount, card.currency);
  const what = back.charged_back ? "charge back" : "refund";
  return (
    <FormAsk
      title={`Book the ${what} of ${total}?`}
      yes={`Book · ${total}`}
      close={close}
      fields={[
        { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the day it happened", changed: setDay },
      ]}
      run={async (values, key) => {
        const booked = await got(
          api.POST("/api/card-returns/{id}/book", {
            params: { path: { id: back.id }, header: keyed(key) },
            body: { date: values.date || null, seen: preview.data?.fingerprint ?? null },
          }),
        );
        say({ kind: "done", text: `The ${what} of ${total} is in the books: ${booked.number}.` });
        await changed();
      }}
    >
      {back.charged_back && "What it had settled is open again by what the card's bank took back."}
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (
        <WhatItDoes
          does={{ tape: preview.data.tape, blockers: [], changes: [] }}
          entries={preview.data.entries}
          height={230}
        />
      )}
    </FormAsk>
  );
}
