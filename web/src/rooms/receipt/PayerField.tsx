import Autocomplete, { createFilterOptions } from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, got } from "../../api/client";
import type { CustomerRow, PayerFound } from "../../api/types";
import { decimal, exponentOf, moneyWithCurrency, typedDecimal } from "../../format";
import { useSettled } from "../../parts/bits";

/** Who pays: a customer, or the customer of something that was found by its number or its amount. */
type Payer = { customer: CustomerRow; found?: never } | { found: PayerFound; customer?: never };

const label = (payer: Payer) =>
  payer.customer
    ? `${payer.customer.name} · ${payer.customer.number}`
    : `${payer.found.document.number} · ${payer.found.customer_name}`;

/** What is open of what was found, or what it is. */
function what({ document, open, early, currency }: PayerFound): string {
  if (open == null) {
    return document.kind === "order" ? "order" : "shipment";
  }
  const less = early != null ? `, ${decimal(early, exponentOf(currency))} with the discount` : "";
  return `${moneyWithCurrency(open, currency)} open${less}`;
}

const fits = createFilterOptions<Payer>({ stringify: label });

/** What was typed, where it may be a number of something; nothing else is looked for. */
export function numberIn(typed: string): string | undefined {
  return /\d{2,}/.test(typed) ? typed.trim() : undefined;
}

/** What was typed, where it reads as an amount. */
export function amountIn(typed: string): string | undefined {
  const plain = typed.trim();
  return /^\d[\d.,' ]*$/.test(plain) ? typedDecimal(plain) : undefined;
}

/** Whose money it is, found by name, by customer number, or by what lies in front of one: a number of a document, a payment reference, an amount. */
export function PayerField({
  customers,
  chosen,
  choose,
  error,
}: {
  customers: CustomerRow[];
  chosen: CustomerRow | null;
  choose: (customer: number | undefined, invoice?: number, amount?: string) => void;
  error: string | undefined;
}) {
  const [words, setWords] = useState("");
  const [open, setOpen] = useState(false);
  // Who was named by the address is there a moment after the field: its list does not stay open over the receipt.
  const chosenId = chosen?.id;
  useEffect(() => {
    if (chosenId !== undefined) {
      setOpen(false);
    }
  }, [chosenId]);
  const wanted = useSettled(numberIn(words) ?? "");
  const found = useQuery({
    queryKey: ["payers", wanted],
    queryFn: () => {
      const amount = amountIn(wanted);
      return got(api.GET("/api/payers", { params: { query: { q: wanted, ...(amount && { amount }) } } }));
    },
    enabled: wanted !== "" && words !== (chosen ? label({ customer: chosen }) : ""),
  });
  const options: Payer[] = [
    ...(wanted !== "" ? (found.data ?? []) : []).map((found): Payer => ({ found })),
    ...customers.map((customer): Payer => ({ customer })),
  ];
  return (
    <Autocomplete<Payer>
      options={options}
      value={chosen ? { customer: chosen } : null}
      getOptionLabel={label}
      getOptionKey={(option) =>
        option.customer ? `c${option.customer.id}` : `${option.found.document.kind}${option.found.document.id}`
      }
      isOptionEqualToValue={(option, value) => !!option.customer && option.customer.id === value.customer?.id}
      // What was found by its number or amount is shown whatever else was typed.
      filterOptions={(all, state) => {
        const named = all.filter((one) => one.found);
        return [
          ...named,
          ...fits(
            all.filter((one) => one.customer),
            state,
          ),
        ];
      }}
      onInputChange={(_, text) => setWords(text)}
      onChange={(_, option) => {
        const { found } = option ?? {};
        const invoice = found?.document.kind === "invoice" ? found.document.id : undefined;
        // What was typed as an amount is what came.
        const paid = found?.by_amount ? amountIn(words) : undefined;
        choose(option?.customer?.id ?? found?.customer, invoice, paid);
      }}
      autoHighlight
      openOnFocus
      open={open}
      onOpen={() => setOpen(true)}
      onClose={() => setOpen(false)}
      noOptionsText="No customer fits, and nothing that is open"
      renderOption={({ key, ...props }, option) => (
        <li
          key={key}
          {...props}
          style={{ display: "flex", flexWrap: "wrap", justifyContent: "flex-start", gap: "0 10px" }}
        >
          <span>{label(option)}</span>
          {option.found && <span className="dim">{what(option.found)}</span>}
        </li>
      )}
      renderInput={(input) => (
        <TextField
          {...input}
          label="Customer"
          autoFocus={!chosen}
          error={!!error}
          helperText={error ?? (chosen ? undefined : "or a number of a document, a payment reference, an amount")}
        />
      )}
    />
  );
}
