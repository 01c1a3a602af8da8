import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { BackPreview, Blocker, Change, DepositView, Entry, Tape } from "../../api/types";
import { decimal, exponentOf, moneyWithCurrency, sentence, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk, type FormField } from "../../parts/FormAsk";
import { usePaymentMethods } from "../../parts/methods";
import { WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";

/** What can be done with a deposit beside applying it. */
export type DepositStep = "refund" | "keep" | "reverse" | "undo" | "unapply" | "move";

interface Shown {
  amount: number;
  tape: Tape;
  entries: Entry[];
  changes: Change[];
  blockers: Blocker[];
  fingerprint: string;
}

const words: Record<DepositStep, { verb: string; title: (number: string) => string; what: string; done: string }> = {
  refund: {
    verb: "Refund",
    title: (number) => `Refund ${number}?`,
    what: "The money goes back to the customer, and the tax that was due with it is reversed.",
    done: "is refunded",
  },
  keep: {
    verb: "Keep",
    title: (number) => `Keep ${number} as income?`,
    what: "For an order the customer gave up, where the terms let the deposit be kept. Tax that was due stays due.",
    done: "is kept as income",
  },
  reverse: {
    verb: "Reverse",
    title: (number) => `Reverse ${number}?`,
    what: "For a deposit that was typed in error: the wrong customer, the wrong amount. The entry is turned round.",
    done: "is reversed",
  },
  undo: {
    verb: "Reverse",
    title: (number) => `Reverse a refund of ${number}?`,
    what: "For a refund that was never sent, or a part that was kept in error. The entry is turned round, the money is held again.",
    done: "is held again",
  },
  unapply: {
    verb: "Unapply",
    title: (number) => `Unapply ${number}?`,
    what: "What it settled is open again, and the money is held again.",
    done: "is held again",
  },
  move: {
    verb: "Move",
    title: (number) => `Move ${number}?`,
    what: "What is held goes to another order of the customer, or on account. Nothing is posted.",
    done: "is moved",
  },
};

/** Refunds, and what was kept as income, that were not taken back; what went back to a card stays gone. */
export function standingEnds(deposit: DepositView) {
  return deposit.ends.filter((one) => one.id != null && !one.reversed_on);
}

/** One step of a deposit: what it does, before it is done. */
export function DepositAsk({ deposit, step, close }: { deposit: DepositView; step: DepositStep; close: () => void }) {
  return step === "move" ? <MoveAsk deposit={deposit} close={close} /> : <PostAsk {...{ deposit, step, close }} />;
}

function PostAsk({
  deposit,
  step,
  close,
}: {
  deposit: DepositView;
  step: Exclude<DepositStep, "move">;
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  // Money is sent back from a bank account or out of the drawer.
  const methods = usePaymentMethods().filter((one) => one.kind === "bank" || one.kind === "drawer");
  const [day, setDay] = useState("");
  const held = decimal(deposit.held, exponentOf(deposit.currency));
  const [amount, setAmount] = useState(held);
  const [chosen, setChosen] = useState<string>();
  const ends = step === "refund" || step === "keep";
  const method = chosen ?? methods[0]?.code ?? "";
  const path = { id: deposit.id };
  const standing = standingEnds(deposit);
  const [typedEnd, setEnd] = useState<string>();
  // The last one, unless another is chosen.
  const end = Number(typedEnd ?? standing.at(-1)?.id ?? 0);
  const asked = (reason: string) => ({ date: day || null, reason });
  const ending = (reason: string) => ({
    ...asked(reason),
    amount: typedDecimal(amount) || null,
    method: step === "refund" ? method : null,
  });
  const preview = useQuery({
    queryKey: ["deposit-step", step, deposit.id, deposit.version, day, ends && [amount, method], end],
    queryFn: async (): Promise<Shown> => {
      // The reason is asked for below; what it does to the books is the same for any.
      const why = "to be said";
      if (step === "unapply") {
        const back: BackPreview = await got(
          api.POST("/api/deposits/{id}/unapply/preview", { params: { path }, body: asked(why) }),
        );
        return { ...back, entries: back.entries.map((one) => one.entry) };
      }
      const shown =
        step === "refund"
          ? await got(api.POST("/api/deposits/{id}/refund/preview", { params: { path }, body: ending(why) }))
          : step === "keep"
            ? await got(api.POST("/api/deposits/{id}/keep/preview", { params: { path }, body: ending(why) }))
            : step === "undo"
              ? await got(
                  api.POST("/api/deposits/{id}/ends/{end}/reverse/preview", {
                    params: { path: { ...path, end } },
                    body: asked(why),
                  }),
                )
              : await got(api.POST("/api/deposits/{id}/reverse/preview", { params: { path }, body: asked(why) }));
      return { ...shown, entries: shown.entry ? [shown.entry] : [] };
    },
    enabled: (step !== "refund" || method !== "") && (step !== "undo" || end > 0),
    gcTime: 0,
    retry: false,
  });
  const total = preview.data ? moneyWithCurrency(preview.data.amount, deposit.currency) : "";
  const { verb, title, what, done } = words[step];
  const fields: FormField[] = [
    { name: "reason", label: "Why", kind: "words" },
    ...(ends
      ? [{ name: "amount", label: `Amount ${deposit.currency}`, value: held, right: true, changed: setAmount }]
      : []),
    ...(step === "refund"
      ? [
          {
            name: "method",
            label: "Sent back by",
            value: methods[0]?.code ?? "",
            choices: methods.map((one): [string, string] => [one.code, sentence(one.name)]),
            changed: setChosen,
          },
        ]
      : []),
    ...(step === "undo" && standing.length > 1
      ? [
          {
            name: "end",
            label: "Which",
            value: String(end),
            choices: standing.map((one): [string, string] => [
              String(one.id),
              `${one.number} · ${moneyWithCurrency(one.amount, deposit.currency)} ${one.kind === "refunded" ? "refunded" : "kept"}`,
            ]),
            changed: setEnd,
          },
        ]
      : []),
    { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the business date", changed: setDay },
  ];
  if (step === "refund" && methods.length === 0) {
    return null;
  }
  return (
    <FormAsk
      title={title(deposit.number)}
      yes={total ? `${verb} · ${total}` : verb}
      close={close}
      fields={fields}
      run={async (values, key) => {
        const params = { path, header: keyed(key) };
        const reason = values.reason ?? "";
        const beside = { version: deposit.version, seen: preview.data?.fingerprint ?? "" };
        let waits = false;
        if (step === "unapply") {
          await got(api.POST("/api/deposits/{id}/unapply", { params, body: { ...asked(reason), ...beside } }));
        } else if (step === "reverse") {
          await got(api.POST("/api/deposits/{id}/reverse", { params, body: { ...asked(reason), ...beside } }));
        } else if (step === "undo") {
          const params = { path: { ...path, end }, header: keyed(key) };
          await got(
            api.POST("/api/deposits/{id}/ends/{end}/reverse", { params, body: { ...asked(reason), ...beside } }),
          );
        } else {
          const body = { ...ending(reason), ...beside };
          const ended = await (step === "refund"
            ? got(api.POST("/api/deposits/{id}/refund", { params, body }))
            : got(api.POST("/api/deposits/{id}/keep", { params, body })));
          waits = !ended.number;
        }
        say({
          kind: "done",
          text: waits
            ? `A supervisor is asked: ${verb.toLowerCase()} ${total} of ${deposit.number}.`
            : `${total} of ${deposit.number} ${done}.`,
        });
        await changed();
      }}
    >
      {what}
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && <WhatItDoes does={preview.data} entries={preview.data.entries} height={160} />}
    </FormAsk>
  );
}

function MoveAsk({ deposit, close }: { deposit: DepositView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const orders = useQuery({
    queryKey: ["orders", "of", deposit.customer_name],
    queryFn: () => got(api.GET("/api/orders", { params: { query: { q: deposit.customer_name, limit: 200 } } })),
  });
  if (!orders.data) {
    return null;
  }
  const targets = orders.data.orders
    .filter((order) => order.customer === deposit.customer && order.state !== "closed" && order.id !== deposit.order)
    .filter((order) => order.currency === deposit.currency)
    .map((order): [string, string] => [
      String(order.id),
      `${order.number} · ${moneyWithCurrency(order.net, order.currency)} net`,
    ]);
  const choices: [string, string][] = deposit.order || deposit.quote ? [...targets, ["", "On account"]] : targets;
  const held = moneyWithCurrency(deposit.held, deposit.currency);
  if (choices.length === 0) {
    return (
      <FormAsk title={words.move.title(deposit.number)} yes="Close" close={close} fields={[]} run={async () => close()}>
        This customer has no other order in {deposit.currency} that is not closed.
      </FormAsk>
    );
  }
  return (
    <FormAsk
      title={words.move.title(deposit.number)}
      yes={`Move · ${held}`}
      close={close}
      fields={[
        { name: "order", label: "To", value: choices[0]?.[0] ?? "", choices },
        { name: "reason", label: "Why", kind: "words" },
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/deposits/{id}/move", {
            params: { path: { id: deposit.id }, header: keyed(key) },
            body: {
              version: deposit.version,
              order: values.order ? Number(values.order) : null,
              reason: values.reason ?? "",
            },
          }),
        );
        say({ kind: "done", text: `${held} of ${deposit.number} ${words.move.done}.` });
        await changed();
      }}
    >
      {words.move.what}
    </FormAsk>
  );
}
