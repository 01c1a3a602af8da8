import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import { moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { ApplyTable, asApplications, fieldErrors, type Typed } from "../Applying";

/** Something that lies open on a customer's side: money that came, or a credit memo that was kept. */
export interface OpenCredit {
  kind: "receipt" | "credit_memo";
  id: number;
  number: string;
  version: number;
  currency: string;
  customer: number;
  /** What of it lies unapplied. */
  unapplied: number;
}

/** Applying what lies open of a credit to what its customer owes: what was typed, what it does, and what stands in the way. */
export function useApplying(credit: OpenCredit, shows: boolean) {
  const [typed, setTyped] = useState<Typed>();
  const [when, setWhen] = useState("");
  const customer = useQuery({
    queryKey: ["customer", String(credit.customer)],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: credit.customer } } })),
    enabled: credit.unapplied > 0,
  });
  const open = customer.data?.open_items.filter((item) => item.currency === credit.currency) ?? [];
  const applying = credit.unapplied > 0 && shows && open.length > 0;
  const body = { date: when || null, applications: asApplications(typed, typedDecimal) };
  const path = { id: credit.id };
  const preview = useQuery({
    queryKey: ["apply-preview", credit.kind, credit.id, credit.version, body],
    queryFn: () =>
      credit.kind === "receipt"
        ? got(api.POST("/api/receipts/{id}/applications/preview", { params: { path }, body }))
        : got(api.POST("/api/credit-memos/{id}/applications/preview", { params: { path }, body })),
    enabled: applying,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = applying && !preview.error ? preview.data : undefined;
  const problem = preview.error instanceof Problem ? preview.error : null;
  const all = shown ? shown.document.applied.reduce((sum, one) => sum + BigInt(one.credit_amount), 0n) : 0n;
  return {
    credit,
    items: customer.data?.open_items,
    open,
    applying,
    body,
    shown,
    errors: fieldErrors(shown, problem),
    stopped: !shown || preview.isFetching || shown.blockers.some((blocker) => blocker.effect === "stops"),
    total: shown ? moneyWithCurrency(Number(all), credit.currency) : "",
    typed,
    setTyped,
    when,
    setWhen,
  };
}

type Applying = ReturnType<typeof useApplying>;

/** What the customer owes, each with a field for what of the credit goes to it. */
export function ApplyPart({ with: it }: { with: Applying }) {
  const today = useToday();
  if (it.credit.unapplied === 0 || !it.items) {
    return null;
  }
  return (
    <>
      {it.open.length > 0 && (
        <div style={{ margin: "8px 0 12px" }}>
          <DateField
            label="Apply on"
            typed={it.when}
            assumed={today}
            onType={it.setWhen}
            error={it.errors.date}
            from="the business date"
          />
        </div>
      )}
      {it.errors.applications && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(it.errors.applications)} />
        </p>
      )}
      <ApplyTable
        items={it.items}
        currency={it.credit.currency}
        typed={it.typed}
        setTyped={it.setTyped}
        preview={it.shown}
        errors={it.errors}
      />
    </>
  );
}

/** Asks before it is applied. */
export function ApplyAsk({ with: it, close }: { with: Applying; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const { credit, shown } = it;
  if (!shown) {
    return null;
  }
  return (
    <Ask
      title={`Apply ${it.total} of ${credit.number}?`}
      yes={`Apply · ${it.total}`}
      close={close}
      run={async (key) => {
        const params = { path: { id: credit.id }, header: keyed(key) };
        const body = { ...it.body, version: credit.version, seen: shown.fingerprint };
        await (credit.kind === "receipt"
          ? got(api.POST("/api/receipts/{id}/applications", { params, body }))
          : got(api.POST("/api/credit-memos/{id}/applications", { params, body })));
        say({ kind: "done", text: `${it.total} of ${credit.number} is applied.` });
        await changed();
      }}
    >
      {shown.document.applied
        .map((one) => `${moneyWithCurrency(one.credit_amount, credit.currency)} to ${one.document.number}`)
        .join(", ")}
      .
    </Ask>
  );
}
