import { useQuery } from "@tanstack/react-query";
import { api, got, keyed } from "../../api/client";
import type { DisputeView, DisputeWords } from "../../api/types";
import { decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged } from "../../parts/bits";
import { FormAsk, type FormField } from "../../parts/FormAsk";
import { useNotices } from "../../shell/notices";
import { useSession } from "../../shell/session";
import { disputeReasons } from "./words";

/** Who can look after a dispute. */
export function useOwners() {
  const list = useQuery({
    queryKey: ["disputes", false],
    queryFn: () => got(api.GET("/api/disputes", { params: { query: {} } })),
  });
  return list.data?.owners ?? [];
}

function fields(before: DisputeWords | undefined, owners: { id: number; name: string }[], me: string): FormField[] {
  const mine = owners.find((one) => one.name === me)?.id;
  return [
    { name: "reason", label: "Reason", value: before?.reason ?? "price", choices: Object.entries(disputeReasons) },
    { name: "words", label: "In words", value: before?.words ?? "", kind: "words" },
    {
      name: "owner",
      label: "Who looks after it",
      value: String((before ? before.owner : mine) ?? ""),
      choices: [["", "nobody yet"], ...owners.map((one): [string, string] => [String(one.id), one.name])],
    },
  ];
}

function asWords(values: Record<string, string>): DisputeWords {
  return {
    reason: (values.reason ?? "other") as DisputeWords["reason"],
    words: values.words ?? "",
    owner: values.owner ? Number(values.owner) : null,
  };
}

/** Why what stays open is not paid, to be kept with the money that is entered. */
export function DisputeWordsAsk({
  number,
  before,
  keep,
  close,
}: {
  number: string;
  before: DisputeWords | undefined;
  keep: (words: DisputeWords) => void;
  close: () => void;
}) {
  const owners = useOwners();
  const me = useSession().person.name;
  return (
    <FormAsk
      key={owners.length}
      title={`What stays open of ${number} is in dispute`}
      yes="Save"
      close={close}
      fields={fields(before, owners, me)}
      run={async (values) => keep(asWords(values))}
    >
      It is put into dispute with the posting.
    </FormAsk>
  );
}

/** Puts an invoice, or some of it, into dispute. */
export function OpenDisputeAsk({
  invoice,
  number,
  open,
  currency,
  close,
}: {
  invoice: number;
  number: string;
  open: number;
  currency: string;
  close: () => void;
}) {
  const owners = useOwners();
  const me = useSession().person.name;
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      key={owners.length}
      title={`Is ${number} in dispute?`}
      yes="Put into dispute"
      close={close}
      fields={[
        {
          name: "amount",
          label: `Amount ${currency}`,
          value: decimal(open, exponentOf(currency)),
          right: true,
          hint: "what the customer will not pay",
        },
        ...fields(undefined, owners, me),
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/disputes", {
            params: { header: keyed(key) },
            body: { invoice, amount: typedDecimal(values.amount ?? "") || null, ...asWords(values) },
          }),
        );
        say({ kind: "done", text: `${number} is in dispute.` });
        await changed();
      }}
    >
      The ledger does not change; it stands among the disputes until it is settled or closed.
    </FormAsk>
  );
}

/** Changes a dispute. */
export function ChangeDisputeAsk({ dispute, close }: { dispute: DisputeView; close: () => void }) {
  const owners = useOwners();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const { reason, words, owner } = dispute;
  return (
    <FormAsk
      key={owners.length}
      title={`The dispute over ${dispute.document.number}`}
      yes="Save"
      close={close}
      fields={fields({ reason, words, owner }, owners, "")}
      run={async (values, key) => {
        await got(
          api.PUT("/api/disputes/{id}", {
            params: { path: { id: dispute.id }, header: keyed(key) },
            body: { version: dispute.version, ...asWords(values) },
          }),
        );
        say({ kind: "done", text: `The dispute over ${dispute.document.number} is saved.` });
        await changed();
      }}
    />
  );
}

/** Closes a dispute: what came of it. */
export function CloseDisputeAsk({ dispute, close }: { dispute: DisputeView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={`Close the dispute over ${dispute.document.number}?`}
      yes="Close the dispute"
      close={close}
      fields={[{ name: "outcome", label: "What came of it", kind: "words" }]}
      run={async (values, key) => {
        await got(
          api.POST("/api/disputes/{id}/close", {
            params: { path: { id: dispute.id }, header: keyed(key) },
            body: { version: dispute.version, outcome: values.outcome ?? "" },
          }),
        );
        say({ kind: "done", text: `The dispute over ${dispute.document.number} is closed.` });
        await changed();
      }}
    >
      {moneyWithCurrency(dispute.open, dispute.currency)} stay open: credit them, write them off, or ask for them.
    </FormAsk>
  );
}
