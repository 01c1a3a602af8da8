import Autocomplete, { createFilterOptions } from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, got } from "../../api/client";
import type { CustomerRow, InvoiceRow } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useSettled } from "../../parts/bits";

/** Who pays: a customer, or the customer of an invoice that is named. */
type Payer = { customer: CustomerRow; invoice?: never } | { invoice: InvoiceRow; customer?: never };

const label = (payer: Payer) =>
  payer.customer
    ? `${payer.customer.name} · ${payer.customer.number}`
    : `${payer.invoice.number} · ${payer.invoice.customer_name}`;

const fits = createFilterOptions<Payer>({ stringify: label });

/** What an invoice is looked for by: its number; of a payment reference what stands behind its check digits. */
export function numberIn(typed: string): string | undefined {
  const plain = typed.replace(/\s/g, "");
  const reference = /^RF\d\d([A-Za-z0-9]+)$/i.exec(plain)?.[1];
  // The number itself may have been written with a hyphen that a reference does not have.
  const wanted = reference ? reference.replace(/^\D+/, "") : typed.trim();
  return /\d{2,}/.test(wanted) ? wanted : undefined;
}

/** Whose money it is, found by name, by customer number, or by what the payer wrote: an invoice number, a payment reference. */
export function PayerField({
  customers,
  chosen,
  choose,
  error,
}: {
  customers: CustomerRow[];
  chosen: CustomerRow | null;
  choose: (customer: number | undefined, invoice?: number) => void;
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
    queryKey: ["invoices", "open", wanted],
    queryFn: () => got(api.GET("/api/invoices", { params: { query: { q: wanted, state: "open", limit: 6 } } })),
    enabled: wanted !== "" && words !== (chosen ? label({ customer: chosen }) : ""),
  });
  const invoices = wanted !== "" ? (found.data?.invoices ?? []).filter((row) => row.number) : [];
  const options: Payer[] = [
    ...invoices.map((invoice): Payer => ({ invoice })),
    ...customers.map((customer): Payer => ({ customer })),
  ];
  return (
    <Autocomplete<Payer>
      options={options}
      value={chosen ? { customer: chosen } : null}
      getOptionLabel={label}
      getOptionKey={(option) => (option.customer ? `c${option.customer.id}` : `i${option.invoice.id}`)}
      isOptionEqualToValue={(option, value) => !!option.customer && option.customer.id === value.customer?.id}
      // What was found by its number is shown whatever else was typed.
      filterOptions={(all, state) => {
        const named = all.filter((one) => one.invoice);
        return [
          ...named,
          ...fits(
            all.filter((one) => one.customer),
            state,
          ),
        ];
      }}
      onInputChange={(_, text) => setWords(text)}
      onChange={(_, option) => choose(option?.customer?.id ?? option?.invoice?.customer, option?.invoice?.id)}
      autoHighlight
      openOnFocus
      open={open}
      onOpen={() => setOpen(true)}
      onClose={() => setOpen(false)}
      noOptionsText="No customer fits, and no open invoice"
      renderOption={({ key, ...props }, option) => (
        <li key={key} {...props} style={{ display: "flex", gap: 10 }}>
          <span style={{ flex: 1 }}>{label(option)}</span>
          {option.invoice && (
            <span className="dim">{moneyWithCurrency(option.invoice.open ?? 0, option.invoice.currency)} open</span>
          )}
        </li>
      )}
      renderInput={(input) => (
        <TextField
          {...input}
          label="Customer"
          autoFocus={!chosen}
          error={!!error}
          helperText={error ?? (chosen ? undefined : "or an invoice number, or a payment reference")}
        />
      )}
    />
  );
}
