import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../api/client";
import type { CustomerRow } from "../api/types";
import { decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../format";
import { Scroll, useBase, useCurrencies, useEverythingChanged, useToday, Wrong } from "../parts/bits";
import { DateField } from "../parts/DateField";
import { useForget, useKeptState } from "../parts/kept";
import { MethodChoice } from "../parts/MethodChoice";
import { usePaymentMethods } from "../parts/methods";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";
import { ApplyTable, asApplications, fieldErrors, MoneyTape, type Typed } from "./Applying";
import { OnAccount } from "./deposits/OnAccount";
import { Credits } from "./receipt/Credits";
import { OtherCurrency } from "./receipt/OtherCurrency";
import { PayerField } from "./receipt/PayerField";
import { type Stack, StackHead, StackRoll, standing, useStack } from "./receipt/stack";

const Form = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 2fr) minmax(0, 1fr) minmax(0, 1fr)",
  gap: "16px 14px",
  margin: "6px 0 14px",
});

const NOBODY: CustomerRow[] = [];

export function NewReceiptRoom() {
  const [params] = useSearchParams();
  const stack = useStack();
  // Each receipt of a stack begins anew, by the way and on the day of the one before: the address says which it is.
  const turn = params.get("stack");
  return <Entry key={turn ?? "one"} stack={turn ? stack : undefined} />;
}

function Entry({ stack }: { stack: Stack | undefined }) {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const base = useBase();
  const turn = params.get("stack");
  const customerId = Number(params.get("customer")) || undefined;
  const invoiceId = Number(params.get("invoice")) || undefined;
  const methods = usePaymentMethods();
  const [chosenMethod, setMethod] = useState(stack?.typed.method || undefined);
  // A stack is checks, unless another way was chosen.
  const usual = (stack && methods.find((one) => one.kind === "checks_in_hand")) ?? methods[0];
  const method = chosenMethod ?? usual?.code ?? "";
  const inHand = methods.find((one) => one.code === method)?.kind === "checks_in_hand";
  const form = `receipt.${turn ?? ""}.${customerId ?? ""}.${invoiceId ?? ""}.${params.get("again") ?? ""}`;
  const forget = useForget(form);
  const [amount, setAmount] = useKeptState<string | undefined>(form, "amount", params.get("amount") ?? undefined);
  const [receiptDate, setReceiptDate] = useKeptState(form, "date", stack?.typed.date ?? "");
  const [reference, setReference] = useKeptState(form, "reference", "");
  const [typed, setTyped] = useKeptState<Typed | undefined>(form, "typed", undefined);
  const [withCredits, setWith] = useKeptState<number[]>(form, "with", []);
  const [asking, setAsking] = useState(false);
  const [finishing, setFinishing] = useState(false);
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const customer = useQuery({
    queryKey: ["customer", String(customerId)],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: customerId ?? 0 } } })),
    enabled: !!customerId,
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const invoice = customer.data?.open_items.find(
    (item) => item.document.kind === "invoice" && item.document.id === invoiceId,
  );
  const usualCurrency = customer.data?.currency ?? chosen?.currency ?? base;
  const [otherCurrency, setOtherCurrency] = useKeptState<string | undefined>(form, "currency", undefined);
  const currency = otherCurrency ?? usualCurrency;
  const currencies = useCurrencies();
  const [choosing, setChoosing] = useState(false);
  const amountField = useRef<HTMLInputElement>(null);
  // A receipt that was reversed is typed again: what it said is there already.
  const againId = Number(params.get("again")) || undefined;
  const again = useQuery({
    queryKey: ["receipt", String(againId)],
    queryFn: () => got(api.GET("/api/receipts/{id}", { params: { path: { id: againId ?? 0 } } })),
    enabled: !!againId,
  });
  const before = again.data;
  useEffect(() => {
    if (before) {
      setAmount((typedAmount) => typedAmount ?? decimal(before.amount, exponentOf(before.currency)));
      // What it had settled is open again from the day it was reversed on.
      setReceiptDate((typedDate) => typedDate || (before.reversed_on ?? ""));
      setReference((typedReference) => typedReference || (before.reference ?? ""));
      setOtherCurrency((typedCurrency) => typedCurrency ?? before.currency);
    }
  }, [before, setAmount, setReceiptDate, setReference, setOtherCurrency]);
  // Coming from an invoice, its open amount is the likeliest.
  useEffect(() => {
    if (invoice && amount === undefined) {
      const open = decimal(invoice.open, exponentOf(invoice.currency));
      setAmount(open);
    }
  }, [invoice, amount, setAmount]);
  const body = {
    customer: customerId ?? 0,
    method,
    date: receiptDate || null,
    amount: typedDecimal(amount ?? ""),
    currency: otherCurrency ?? null,
    reference: reference || null,
    applications: asApplications(typed, typedDecimal),
    first: invoiceId ?? null,
    with: withCredits,
  };
  const ready = !!customerId && !!method && (amount ?? "").trim() !== "";
  const preview = useQuery({
    queryKey: ["receipt-preview", body],
    queryFn: () => got(api.POST("/api/receipts/preview", { body })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = ready && !preview.error ? preview.data : undefined;
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const errors = fieldErrors(shown, problem);
  const stopped = !shown || preview.isFetching || shown.blockers.some((blocker) => blocker.effect === "stops");
  const total = shown ? moneyWithCurrency(shown.document.amount, currency) : "";
  const known = ["customer", "amount", "date", "reference"];
  const elsewhere = Object.entries(errors).find(
    ([field]) => !known.includes(field) && !/^applications\.\d+\.amount$/.test(field),
  );
  return (
    <Worktop
      title={stack ? "Stack of receipts" : "New receipt"}
      sum={
        customer.data
          ? `${customer.data.name} owes ${moneyWithCurrency(customer.data.owes, base)}`
          : "Who paid, and how much?"
      }
      back="/receipts"
      actions={[
        {
          key: "p",
          label: `Post the receipt${total ? ` · ${total}` : ""}`,
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "post_money",
        },
        {
          key: "o",
          label: invoice ? `${invoice.number}, then oldest first` : "Suggest again",
          run: () => setTyped(undefined),
          disabled: !typed,
        },
        { key: "l", label: "Leave all unapplied", run: () => setTyped({}), disabled: !ready },
        ...(currencies.length > 1
          ? [{ key: "c", label: "In another currency…", run: () => setChoosing(true), quiet: true }]
          : []),
        {
          key: "a",
          label: "By remittance advice…",
          run: () => navigate(`/receipts/advice${customerId ? `?customer=${customerId}` : ""}`),
          quiet: true,
        },
        ...(stack
          ? [
              {
                key: "q",
                label: "Finish the stack",
                run: () => setFinishing(true),
                disabled: stack.typed.entered.length === 0,
              },
            ]
          : []),
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={stack && !shown ? <StackRoll stack={stack} /> : <MoneyTape preview={shown} />}
    >
      {stack && <StackHead stack={stack} />}
      <OnAccount customer={customerId} currency={currency} invoice={invoiceId} />
      <Credits
        credits={customer.data?.credits.filter((one) => one.currency === currency) ?? []}
        used={withCredits}
        use={(used) => {
          setTyped(undefined);
          setWith(used);
        }}
      />
      <Form>
        <PayerField
          customers={customers.data ?? NOBODY}
          chosen={chosen}
          choose={(customer, invoice, paid) => {
            setTyped(undefined);
            setOtherCurrency(undefined);
            setWith([]);
            if (paid) {
              setAmount(paid);
            } else if (invoice) {
              // Its open amount is the likeliest.
              setAmount(undefined);
            }
            setParams(
              {
                ...(stack && { stack: params.get("stack") ?? "1" }),
                ...(customer && { customer: String(customer) }),
                ...(invoice && { invoice: String(invoice) }),
              },
              { replace: true },
            );
          }}
          error={errors.customer}
        />
        <TextField
          label={`Amount ${currency}`}
          inputRef={amountField}
          value={amount ?? ""}
          onChange={(event) => {
            setAmount(event.target.value);
            setTyped(undefined);
          }}
          autoFocus={!!customerId}
          error={!!errors.amount}
          helperText={errors.amount}
          slotProps={{
            htmlInput: { inputMode: "decimal", style: { textAlign: "right" } },
            input: {
              startAdornment: currencies.length > 1 && (
                <OtherCurrency
                  currency={currency}
                  currencies={currencies}
                  open={choosing}
                  setOpen={setChoosing}
                  choose={(code) => {
                    setOtherCurrency(code === usualCurrency ? undefined : code);
                    setTyped(undefined);
                    setWith([]);
                  }}
                  // What comes next is how much.
                  chosen={() => amountField.current?.focus()}
                />
              ),
            },
          }}
        />
        <DateField
          label="Date"
          typed={receiptDate}
          assumed={today}
          onType={setReceiptDate}
          error={errors.date}
          from="the business date"
        />
        <TextField
          label={inHand ? "Check number, remarks" : "Reference, remarks"}
          value={reference}
          onChange={(event) => setReference(event.target.value)}
          error={!!errors.reference}
          helperText={errors.reference}
        />
        <MethodChoice methods={methods} method={method} choose={setMethod} />
      </Form>
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Scroll>
        {customer.data && (
          <ApplyTable
            items={customer.data.open_items}
            currency={currency}
            typed={typed}
            setTyped={setTyped}
            preview={shown}
            errors={errors}
          />
        )}
      </Scroll>
      {asking && shown && (
        <Ask
          title="Post this receipt?"
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/receipts", {
                params: { header: keyed(key) },
                body: { ...body, seen: shown.fingerprint },
              }),
            );
            forget();
            say({
              kind: "done",
              text: `${posted.number} posted · ${total}.`,
              links: stack ? [] : [{ text: "Another receipt", to: "/receipts/new" }],
            });
            if (stack) {
              const one = { id: posted.id, number: posted.number, name: customer.data?.name ?? "" };
              const entered = { ...one, amount: shown.document.amount, currency };
              await changed();
              stack.type((now) => ({ entered: [...now.entered, entered], method, date: receiptDate }));
              navigate(`/receipts/new?stack=${stack.typed.entered.length + 2}`, { replace: true });
              return;
            }
            await changed();
            navigate(`/receipts/${posted.id}`, { replace: true });
          }}
        >
          {total} from {customer.data?.name}
          {shown.document.applied.length > 0
            ? `: ${shown.document.applied
                .map((one) => `${moneyWithCurrency(one.credit_amount, currency)} to ${one.document.number}`)
                .join(", ")}`
            : ""}
          {shown.document.unapplied > 0 &&
            ` · ${moneyWithCurrency(shown.document.unapplied, currency)} stays unapplied`}
          .
        </Ask>
      )}
      {finishing && stack && (
        <Ask
          title={
            standing(stack.typed, base).left
              ? "The stack does not come to its control total. Finish it all the same?"
              : "Finish the stack?"
          }
          yes="Finish the stack"
          close={() => setFinishing(false)}
          run={async () => {
            stack.forget();
            forget();
            navigate("/receipts", { replace: true });
          }}
        >
          What was entered is posted and stays. Whatever differs is found in the list, and reversed where it was typed
          in error.
        </Ask>
      )}
    </Worktop>
  );
}
