import Autocomplete from "@mui/material/Autocomplete";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import { date as day, decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../../format";
import { useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { useForget, useKeptState } from "../../parts/kept";
import { MethodChoice, Methods } from "../../parts/MethodChoice";
import { usePaymentMethods } from "../../parts/methods";
import { PreviewTape } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";

const Form = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 2fr) minmax(0, 1fr) minmax(0, 1fr)",
  gap: "16px 14px",
  margin: "6px 0 14px",
  "& .wide": { gridColumn: "span 2" },
});

interface Target {
  id: number;
  number: string;
  net: number;
  currency: string;
}

/** Takes a deposit for an order, or on account. */
export function NewDepositRoom() {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const customerId = Number(params.get("customer")) || undefined;
  const orderId = Number(params.get("order")) || undefined;
  const quoteId = Number(params.get("quote")) || undefined;
  const receiptId = Number(params.get("receipt")) || undefined;
  const methods = usePaymentMethods();
  const form = `deposit.${customerId ?? ""}.${orderId ?? ""}.${quoteId ?? ""}.${receiptId ?? ""}`;
  const forget = useForget(form);
  const [chosenMethod, setMethod] = useKeptState<string | undefined>(form, "method", undefined);
  const [typedAmount, setAmount] = useKeptState<string | undefined>(form, "amount", undefined);
  const [when, setWhen] = useKeptState(form, "date", "");
  const [reference, setReference] = useKeptState(form, "reference", "");
  const [memo, setMemo] = useKeptState(form, "memo", "");
  const [asking, setAsking] = useState(false);
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  // Money that lies unapplied on a receipt is reserved: it did come in, and is in a currency.
  const receipt = useQuery({
    queryKey: ["receipt", String(receiptId)],
    queryFn: () => got(api.GET("/api/receipts/{id}", { params: { path: { id: receiptId ?? 0 } } })),
    enabled: !!receiptId,
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const orders = useQuery({
    queryKey: ["orders", "of", chosen?.name],
    queryFn: () => got(api.GET("/api/orders", { params: { query: { q: chosen?.name, limit: 200 } } })),
    enabled: !!chosen,
  });
  const targets: Target[] = (orders.data?.orders ?? [])
    .filter((order) => order.customer === customerId && order.state !== "closed")
    .map(({ id, number, net, currency }) => ({ id, number, net, currency }));
  const quote = useQuery({
    queryKey: ["quote", String(quoteId)],
    queryFn: () => got(api.GET("/api/quotes/{id}", { params: { path: { id: quoteId ?? 0 } } })),
    enabled: !!quoteId,
  });
  const offered: Target[] = quote.data
    ? [{ id: -quote.data.id, number: quote.data.number, net: quote.data.net, currency: quote.data.currency }]
    : [];
  // A quote stands among the orders with its id below zero.
  const choices = [...offered, ...targets];
  const target = choices.find((one) => one.id === (quoteId ? -quoteId : orderId)) ?? null;
  const currency = receipt.data?.currency ?? target?.currency ?? chosen?.currency ?? "EUR";
  const method = receiptId ? "" : (chosenMethod ?? methods[0]?.code ?? "");
  const lies = receipt.data ? decimal(receipt.data.unapplied, exponentOf(currency)) : "";
  const amount = typedAmount ?? lies;
  const body = {
    customer: customerId ?? 0,
    order: quoteId ? null : (orderId ?? null),
    quote: quoteId ?? null,
    method,
    receipt: receiptId ?? null,
    date: when || null,
    amount: typedDecimal(amount),
    reference: reference || null,
    memo: memo || null,
  };
  const ready =
    !!customerId && !!(method || receipt.data) && amount.trim() !== "" && ((!orderId && !quoteId) || !!target);
  const preview = useQuery({
    queryKey: ["deposit-preview", body],
    queryFn: () => got(api.POST("/api/deposits/preview", { body })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = ready && !preview.error ? preview.data : undefined;
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const errors: Record<string, string> = {};
  for (const blocker of shown?.blockers ?? []) {
    if (blocker.effect === "stops") {
      errors[blocker.field] ??= blocker.sentence;
    }
  }
  if (problem?.field) {
    errors[problem.field] = problem.message;
  }
  const stopped = !shown || preview.isFetching || shown.blockers.some((blocker) => blocker.effect === "stops");
  const total = shown ? moneyWithCurrency(shown.amount, currency) : "";
  const known = ["customer", "order", "quote", "amount", "date", "reference", "memo", "receipt"];
  const elsewhere = Object.entries(errors).find(([field]) => !known.includes(field));
  return (
    <Worktop
      title={receipt.data ? `Turn ${receipt.data.number} into a deposit` : "Take a deposit"}
      sum={
        target
          ? `For ${target.number} · ${moneyWithCurrency(target.net, target.currency)} net`
          : receipt.data
            ? `${moneyWithCurrency(receipt.data.unapplied, currency)} unapplied`
            : "Who paid, for what?"
      }
      back={receiptId ? `/receipts/${receiptId}` : "/prepayments"}
      actions={[
        {
          key: "p",
          label: `Take the deposit${total ? ` · ${total}` : ""}`,
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "post_money",
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={shown}
          until="The arithmetic and the entry appear here as soon as there is a customer and an amount."
        />
      }
    >
      <Form>
        <Autocomplete
          options={customers.data ?? []}
          value={chosen}
          getOptionLabel={(option) => `${option.name} · ${option.number}`}
          isOptionEqualToValue={(option, value) => option.id === value.id}
          onChange={(_, option) => setParams(option ? { customer: String(option.id) } : {}, { replace: true })}
          disabled={!!receiptId}
          autoHighlight
          openOnFocus
          renderInput={(input) => (
            <TextField
              {...input}
              label="Customer"
              autoFocus={!customerId}
              error={!!errors.customer}
              helperText={errors.customer}
            />
          )}
        />
        <Autocomplete
          className="wide"
          options={choices}
          value={target}
          getOptionLabel={(option) => `${option.number} · ${moneyWithCurrency(option.net, option.currency)} net`}
          isOptionEqualToValue={(option, value) => option.id === value.id}
          onChange={(_, option) =>
            setParams(
              {
                customer: String(customerId ?? ""),
                ...(receiptId ? { receipt: String(receiptId) } : {}),
                ...(option ? (option.id < 0 ? { quote: String(-option.id) } : { order: String(option.id) }) : {}),
              },
              { replace: true },
            )
          }
          autoHighlight
          openOnFocus
          noOptionsText="No order of this customer is open"
          renderInput={(input) => (
            <TextField
              {...input}
              label={quoteId ? "For quote" : "For order"}
              placeholder="on account"
              error={!!(errors.order ?? errors.quote)}
              helperText={errors.order ?? errors.quote ?? "Leave empty for a deposit on account"}
            />
          )}
        />
        <TextField
          label={`Amount ${currency}`}
          value={amount}
          onChange={(event) => setAmount(event.target.value)}
          onFocus={(event) => event.target.select()}
          autoFocus={!!customerId}
          error={!!errors.amount}
          helperText={errors.amount ?? errors.receipt}
          slotProps={{ htmlInput: { inputMode: "decimal", style: { textAlign: "right" } } }}
        />
        <DateField
          label="Date"
          typed={when}
          assumed={today}
          onType={setWhen}
          error={errors.date}
          from="the business date"
        />
        <TextField
          label="Reference"
          value={reference}
          onChange={(event) => setReference(event.target.value)}
          error={!!errors.reference}
          helperText={errors.reference}
        />
        {receiptId ? (
          <Methods style={{ gridColumn: "span 3" }}>
            <legend>Made of</legend>
            {receipt.data && (
              <span>
                {receipt.data.number}, {receipt.data.method} of {day(receipt.data.date)}:{" "}
                {moneyWithCurrency(receipt.data.unapplied, currency)} unapplied
              </span>
            )}
            {receipt.error && <Wrong error={receipt.error} />}
          </Methods>
        ) : (
          <div style={{ gridColumn: "span 3" }}>
            <MethodChoice methods={methods} method={method} choose={setMethod} />
          </div>
        )}
        <TextField
          className="wide"
          label="Memo, for ourselves"
          value={memo}
          onChange={(event) => setMemo(event.target.value)}
          error={!!errors.memo}
          helperText={errors.memo}
        />
      </Form>
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      {asking && shown && (
        <Ask
          title={receiptId ? "Turn this into a deposit?" : "Take this deposit?"}
          yes={`Take · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const taken = await got(
              api.POST("/api/deposits", {
                params: { header: keyed(key) },
                body: { ...body, seen: shown.fingerprint },
              }),
            );
            forget();
            say({
              kind: "done",
              text: `${taken.number} taken · ${total}.`,
              links: [{ text: "Another deposit", to: "/prepayments/new" }],
            });
            await changed();
            navigate(`/prepayments/${taken.id}`, { replace: true });
          }}
        >
          {total} from {receipt.data?.number ?? chosen?.name}, {target ? `for ${target.number}` : "on account"}.{" "}
          {shown.taxes.length > 0 ? "Its tax is due now." : "Its tax is due with the invoice."}
        </Ask>
      )}
    </Worktop>
  );
}
