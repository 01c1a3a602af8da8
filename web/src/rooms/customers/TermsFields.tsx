import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, Problem } from "../../api/client";
import type { InvoiceDocument, Terms } from "../../api/types";
import { date, money, typedDecimal } from "../../format";
import { useBase } from "../../parts/bits";
import { type Faults, Field, faultAt, Tick } from "../../parts/form";
import { Paper } from "../../parts/TapeRoll";

/** Percent as typed into a share of one: 2.5 → 0.025. What is no number stays as it was typed. */
export function share(percent: string): string {
  const plain = typedDecimal(percent);
  if (!/^\d*\.?\d*$/.test(plain)) {
    return plain;
  }
  const [whole = "", fraction = ""] = plain.split(".");
  const padded = whole.padStart(3, "0");
  const digits = `${padded}${fraction.padEnd(4, "0")}`;
  return `${digits.slice(0, padded.length - 2)}.${digits.slice(padded.length - 2)}`;
}

/** A share of one as percent: 0.025 → 2.5. */
export function percentText(rate: string): string {
  if (!/^\d*\.?\d*$/.test(rate)) {
    return rate;
  }
  const [whole = "0", fraction = ""] = rate.split(".");
  const digits = fraction.padEnd(6, "0");
  return `${whole}${digits.slice(0, 2)}.${digits.slice(2)}`.replace(/^0+(?=\d)/, "").replace(/\.?0+$/, "");
}

/** A share kept as such and typed as percent: “2.” is 2 until the 5 comes. */
function Percent(props: {
  label: string;
  name: string;
  rate: string;
  change: (rate: string) => void;
  faults: Faults;
  disabled: boolean;
}) {
  const { label, name, rate, change, faults, disabled } = props;
  const [typed, setTyped] = useState("");
  const value = share(typed) === rate ? typed : percentText(rate);
  const unread = /^-?\d*\.?\d*$/.test(rate)
    ? undefined
    : `“${value}” is not a number. Write digits with a point, like 12.5.`;
  return (
    <Field
      label={label}
      name={name}
      value={value}
      onChange={(text) => {
        setTyped(text);
        change(share(text));
      }}
      fault={unread}
      faults={faults}
      span={2}
      right
      disabled={disabled}
    />
  );
}

type Installments = Extract<Terms, { kind: "instalments" }>;

const kinds = [
  ["net_days", "days after the document"],
  ["end_of_month", "end of month plus days"],
  ["day_of_month", "a day of the month"],
  ["instalments", "in installments"],
] as const;

function whole(text: string): number {
  const found = Number.parseInt(text, 10);
  return Number.isFinite(found) && found >= 0 ? Math.min(found, 65_535) : 0;
}

function simple(kind: string, days: number): Terms {
  switch (kind) {
    case "end_of_month":
      return { kind: "end_of_month", plus_days: days };
    case "day_of_month":
      return { kind: "day_of_month", day: Math.min(days, 255) };
    case "instalments": {
      const part = (after: number) => ({ share: "0.5", due: { kind: "net_days" as const, days: after } });
      return { kind: "instalments", parts: [part(30), part(60)] };
    }
    default:
      return { kind: "net_days", days };
  }
}

function daysOf(terms: Terms): number {
  switch (terms.kind) {
    case "net_days":
      return terms.days;
    case "end_of_month":
      return terms.plus_days;
    case "day_of_month":
      return terms.day;
    default:
      return 30;
  }
}

interface Props {
  terms: Terms;
  change: (terms: Terms) => void;
  faults: Faults;
  disabled: boolean;
}

/** Payment terms of every kind, as fields. */
export function TermsFields({ terms, change, faults, disabled }: Props) {
  const discount = terms.discount;
  const keep = (next: Terms): Terms => (discount ? { ...next, discount } : next);
  const set = (part: Partial<NonNullable<Terms["discount"]>>) =>
    discount && change({ ...terms, discount: { ...discount, ...part } });
  return (
    <>
      <h2>Payment terms</h2>
      <Field
        label="Falls due"
        name="terms"
        value={terms.kind}
        onChange={(kind) => change(keep(simple(kind, daysOf(terms))))}
        choices={kinds}
        span={5}
        faults={faults}
        disabled={disabled}
      />
      {terms.kind !== "instalments" && (
        <Field
          label={terms.kind === "day_of_month" ? "Day" : "Days"}
          name="terms.days"
          value={String(daysOf(terms))}
          onChange={(text) => change(keep(simple(terms.kind, whole(text))))}
          span={2}
          right
          disabled={disabled}
        />
      )}
      <Tick
        label="Discount for paying early"
        on={!!discount}
        disabled={disabled}
        toggle={(on) => {
          const { discount: _, ...without } = terms;
          change(
            on
              ? { ...terms, discount: { rate: "0.02", days: 10, base: "gross", grace_days: 0, tax_adjusted: true } }
              : (without as Terms),
          );
        }}
        span={5}
      />
      {terms.kind === "instalments" && (
        <InstallmentFields terms={terms} change={(next) => change(keep(next))} faults={faults} disabled={disabled} />
      )}
      {discount && (
        <>
          <Percent
            label="Percent"
            name="terms.discount"
            rate={discount.rate}
            change={(rate) => set({ rate })}
            faults={faults}
            disabled={disabled}
          />
          <Field
            label="Within days"
            name="terms.discount.days"
            value={String(discount.days)}
            onChange={(text) => set({ days: whole(text) })}
            span={2}
            right
            disabled={disabled}
          />
          <Field
            label="Days of grace"
            name="terms.discount.grace"
            value={String(discount.grace_days ?? 0)}
            onChange={(text) => set({ grace_days: whole(text) })}
            span={2}
            right
            disabled={disabled}
          />
          <Field
            label="Of"
            name="terms.discount.base"
            value={discount.base}
            onChange={(base) => set({ base: base === "net" ? "net" : "gross" })}
            choices={[
              ["gross", "the total with tax"],
              ["net", "the net"],
            ]}
            disabled={disabled}
          />
          <Tick
            label="takes its tax along"
            on={discount.tax_adjusted ?? false}
            toggle={(tax_adjusted) => set({ tax_adjusted })}
            span={3}
            disabled={disabled}
          />
        </>
      )}
    </>
  );
}

function InstallmentFields({
  terms,
  change,
  faults,
  disabled,
}: {
  terms: Installments;
  change: (terms: Terms) => void;
  faults: Faults;
  disabled: boolean;
}) {
  const parts = terms.parts;
  const set = (at: number, part: Partial<Installments["parts"][number]>) =>
    change({ ...terms, parts: parts.map((one, place) => (place === at ? { ...one, ...part } : one)) });
  const fault = faultAt(faults, "terms.parts");
  return (
    <>
      {parts.map((part, at) => {
        const due = part.due;
        const days = due.kind === "net_days" ? due.days : due.kind === "end_of_month" ? due.plus_days : due.day;
        return (
          <div
            key={at}
            style={{
              gridColumn: "1 / -1",
              display: "grid",
              gridTemplateColumns: "repeat(12, minmax(0, 1fr))",
              gap: 12,
            }}
          >
            <Percent
              label={`Part ${at + 1}, percent`}
              name={`terms.parts.${at}.share`}
              rate={part.share}
              change={(share) => set(at, { share })}
              faults={faults}
              disabled={disabled}
            />
            <Field
              label="Falls due"
              name={`terms.parts.${at}.kind`}
              value={due.kind}
              onChange={(kind) => {
                const next = simple(kind, days);
                if (next.kind !== "instalments") {
                  set(at, { due: next });
                }
              }}
              choices={kinds.slice(0, 3)}
              span={4}
              disabled={disabled}
            />
            <Field
              label={due.kind === "day_of_month" ? "Day" : "Days"}
              name={`terms.parts.${at}.days`}
              value={String(days)}
              onChange={(text) => {
                const next = simple(due.kind, whole(text));
                if (next.kind !== "instalments") {
                  set(at, { due: next });
                }
              }}
              span={2}
              right
              disabled={disabled}
            />
            {parts.length > 2 && !disabled && (
              <button
                type="button"
                className="quietly"
                onClick={() => change({ ...terms, parts: parts.filter((_, place) => place !== at) })}
              >
                Remove
              </button>
            )}
          </div>
        );
      })}
      <div style={{ gridColumn: "1 / -1" }}>
        {fault && (
          <div role="alert" style={{ color: "var(--stop)" }}>
            ◆ {fault}
          </div>
        )}
        {!disabled && (
          <button
            type="button"
            className="quietly"
            onClick={() => change({ ...terms, parts: [...parts, { share: "0", due: { kind: "net_days", days: 90 } }] })}
          >
            Another part
          </button>
        )}
      </div>
    </>
  );
}

/** Asks what terms make of a document; refused where they are none. */
export function askTerms(terms: Terms, invoice?: InvoiceDocument) {
  const of = invoice && { date: invoice.document_date.date, net: invoice.net, total: invoice.total };
  return got(api.POST("/api/terms/preview", { body: { terms, ...of } }));
}

/** What an invoice falls due on and earns; without one, a document of today over a round figure. */
export function TermsShown({ terms, invoice }: { terms: Terms; invoice?: InvoiceDocument | undefined }) {
  const base = useBase();
  const currency = invoice?.currency ?? base;
  const shown = useQuery({
    queryKey: ["terms", terms, invoice],
    queryFn: () => askTerms(terms, invoice),
    retry: false,
    placeholderData: (before) => before,
  });
  return (
    <Paper>
      <h2>
        {invoice ? `Of ${date(invoice.document_date.date)}` : "If billed today"}
        <br />
        {shown.data && (
          <span>
            {money(shown.data.net, currency)} net, {money(shown.data.total, currency)} with tax
          </span>
        )}
      </h2>
      {shown.error instanceof Problem ? (
        <div className="words stop">◆ {shown.error.message}</div>
      ) : (
        shown.data && (
          <>
            <div className="words">{shown.data.words}</div>
            {shown.data.parts.map((part) => (
              <div className="l" key={part.date}>
                <span>due {date(part.date)}</span>
                <span>{money(part.amount, currency)}</span>
              </div>
            ))}
            {shown.data.offer && (
              <>
                <div className="l quiet">
                  <span>less, if paid by {date(shown.data.offer.until)}</span>
                  <span>{money(-shown.data.offer.amount, currency)}</span>
                </div>
                {shown.data.offer.until !== shown.data.offer.until_with_grace && (
                  <div className="detail">with grace to {date(shown.data.offer.until_with_grace)}</div>
                )}
              </>
            )}
          </>
        )
      )}
    </Paper>
  );
}
