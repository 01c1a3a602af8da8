import Autocomplete from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { GoodsSettings, OrderForm } from "../../api/types";
import { FormAsk } from "../../parts/FormAsk";
import { type Faults, Field, FormGrid, faultAt, Tick } from "../../parts/form";
import { MarkFields } from "./MarkFields";

interface Props {
  form: OrderForm;
  change: (part: Partial<OrderForm>) => void;
  goods: GoodsSettings | undefined;
  faults: Faults;
  quote: boolean;
  /** An order that exists stays with its customer. */
  fixed: boolean;
  today: string;
  toLines: () => void;
}

/** Fields above the fold. */
const ABOVE = ["customer", "customer_order_number", "promised_date", "ship_to"];
/** Fields under the fold. */
const FOLDED = [
  "order_date",
  "requested_date",
  "warehouse",
  "carrier",
  "delivery_terms",
  "delivery_place",
  "salesperson",
  "tags",
  "call_off",
  "note",
  "own_note",
  "address",
  "address.country",
];

/** Whether a field of the head says itself what is wrong with it. */
export function saysItself(field: string): boolean {
  return ABOVE.includes(field) || FOLDED.includes(field);
}

/** Custom fields and codes lie there too, and so does what says nothing itself. */
function underTheFold(field: string): boolean {
  return FOLDED.includes(field) || /^(contact$|address\.|fields\.|codes\.)/.test(field);
}

/** Whose order it is, and what else stands at its head. */
export function OrderHead({ form, change, goods, faults, quote, fixed, today, toLines }: Props) {
  const [adding, setAdding] = useState(false);
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const strangers = useQuery({ queryKey: ["contacts"], queryFn: () => got(api.GET("/api/contacts")), enabled: quote });
  const chosen = customers.data?.find((one) => one.id === form.customer) ?? null;
  const stranger = form.customer === 0 ? strangers.data?.find((one) => one.id === form.contact) : undefined;
  const file = useQuery({
    queryKey: ["customer-file", String(form.customer)],
    queryFn: () => got(api.GET("/api/customers/{id}/file", { params: { path: { id: form.customer ?? 0 } } })),
    enabled: !!form.customer,
  });
  const calls = useQuery({
    queryKey: ["call-offs", form.customer],
    queryFn: () => got(api.GET("/api/call-offs", { params: { query: { customer: form.customer ?? 0 } } })),
    enabled: !!form.customer && !quote,
  });
  const shipTos = (file.data?.ship_tos ?? []).filter((one) => one.active);
  const contacts = (file.data?.contacts ?? []).filter((one) => one.active);
  const running = (calls.data ?? []).filter((one) => one.runs || one.id === form.call_off);
  const fault = faultAt(faults, "customer");
  // What is wrong is never hidden under the fold.
  const fold = useRef<HTMLDetailsElement>(null);
  const wrong = faults ? [faults.field ?? "", ...faults.blockers.map((one) => one.field)] : [];
  const hidden = wrong.some(underTheFold);
  useEffect(() => {
    if (hidden && fold.current) {
      fold.current.open = true;
    }
  }, [hidden]);
  return (
    <>
      <FormGrid>
        <div style={{ gridColumn: "span 4" }} data-field="customer">
          {stranger ? (
            <TextField
              fullWidth
              label="For, not a customer yet"
              value={`${stranger.name}${stranger.company ? ` · ${stranger.company}` : ""}`}
              slotProps={{ htmlInput: { readOnly: true } }}
            />
          ) : (
            <Autocomplete
              options={customers.data ?? []}
              value={chosen}
              disabled={fixed}
              getOptionLabel={(option) => `${option.name} · ${option.number}`}
              isOptionEqualToValue={(option, value) => option.id === value.id}
              onChange={(_, option, reason) => {
                change({ customer: option?.id ?? 0, ship_to: null, contact: null, call_off: null, address: null });
                if (option && reason === "selectOption") {
                  setTimeout(() => document.getElementById("their-number")?.focus(), 0);
                }
              }}
              autoHighlight
              openOnFocus
              renderInput={(input) => (
                <TextField {...input} label="Customer" autoFocus={!form.customer} error={!!fault} helperText={fault} />
              )}
            />
          )}
        </div>
        <div style={{ gridColumn: "span 3" }} data-field="customer_order_number">
          <TextField
            fullWidth
            id="their-number"
            label="Customer PO"
            value={form.customer_order_number ?? ""}
            onChange={(event) => change({ customer_order_number: event.target.value })}
            onKeyDown={(event) => {
              if (event.key === "Enter" && !event.ctrlKey) {
                event.preventDefault();
                toLines();
              }
            }}
            error={!!faultAt(faults, "customer_order_number")}
            helperText={faultAt(faults, "customer_order_number")}
          />
        </div>
        <Field
          label="Promised"
          name="promised_date"
          type="date"
          span={3}
          value={form.promised_date ?? ""}
          onChange={(promised_date) => change({ promised_date })}
          faults={faults}
        />
        <Field
          label="Ship to"
          name="ship_to"
          span={2}
          value={form.ship_to ? String(form.ship_to) : ""}
          onChange={(id) => change({ ship_to: id ? Number(id) : null })}
          faults={faults}
          choices={
            shipTos.length === 0
              ? [["", ""]]
              : shipTos.map((one) => [
                  one.code === "MAIN" ? "" : String(one.id),
                  one.code === "MAIN" ? "main" : one.name,
                ])
          }
        />
      </FormGrid>
      {quote && !form.customer && !stranger && (
        <p style={{ margin: "-6px 0 8px" }}>
          <button type="button" className="quietly" onClick={() => setAdding(true)}>
            Someone who is no customer yet
          </button>
        </p>
      )}
      <details ref={fold} style={{ marginBottom: 8 }}>
        <summary style={{ cursor: "pointer", color: "var(--ink-2)" }}>
          Dates, delivery, contact, notes, custom fields{summary(form)}
        </summary>
        <FormGrid>
          <Field
            label="Ordered"
            name="order_date"
            type="date"
            value={form.order_date ?? today}
            onChange={(order_date) => change({ order_date: order_date === today ? null : order_date })}
            faults={faults}
          />
          <Field
            label="Requested"
            name="requested_date"
            type="date"
            value={form.requested_date ?? ""}
            onChange={(requested_date) => change({ requested_date })}
            faults={faults}
          />
          <Field
            label="Ship from"
            name="warehouse"
            value={form.warehouse ?? ""}
            onChange={(warehouse) => change({ warehouse })}
            faults={faults}
            choices={[
              ["", goods ? `${goods.warehouse}, as usual` : ""],
              ...(goods?.warehouses ?? []).map((one) => [one.code, `${one.code} · ${one.name}`] as const),
            ]}
          />
          <Field
            label="Carrier"
            name="carrier"
            value={form.carrier ?? ""}
            onChange={(carrier) => change({ carrier })}
            faults={faults}
          />
          <Field
            label="Delivery terms"
            name="delivery_terms"
            value={form.delivery_terms ?? ""}
            onChange={(delivery_terms) => change({ delivery_terms })}
            faults={faults}
            choices={[["", "none"], ...(goods?.delivery_terms ?? []).map((one) => [one, one] as const)]}
          />
          <Field
            label="Their place"
            name="delivery_place"
            value={form.delivery_place ?? ""}
            onChange={(delivery_place) => change({ delivery_place })}
            faults={faults}
          />
          <Field
            label="Salesperson"
            name="salesperson"
            value={form.salesperson ?? ""}
            onChange={(salesperson) => change({ salesperson })}
            faults={faults}
          />
          <Field
            label="Tags, by comma"
            name="tags"
            value={(form.tags ?? []).join(",")}
            onChange={(tags) => change({ tags: tags === "" ? [] : tags.split(",") })}
            faults={faults}
          />
          {form.customer !== 0 && (
            <Field
              label="Contact"
              name="contact"
              value={form.contact ? String(form.contact) : ""}
              onChange={(id) => change({ contact: id ? Number(id) : null })}
              choices={[
                ["", "none"],
                ...contacts.map((one) => [String(one.id), `${one.name}${one.role ? `, ${one.role}` : ""}`] as const),
              ]}
            />
          )}
          {running.length > 0 && (
            <Field
              label="Release from blanket order"
              name="call_off"
              value={form.call_off ? String(form.call_off) : ""}
              onChange={(id) => change({ call_off: id ? Number(id) : null })}
              faults={faults}
              choices={[["", "none"], ...running.map((one) => [String(one.id), one.number] as const)]}
            />
          )}
          <Field
            label="Note for the customer"
            name="note"
            value={form.note ?? ""}
            onChange={(note) => change({ note })}
            faults={faults}
            words
            span={6}
          />
          <Field
            label="Note for ourselves"
            name="own_note"
            value={form.own_note ?? ""}
            onChange={(own_note) => change({ own_note })}
            faults={faults}
            words
            span={6}
          />
          <Tick
            label="An address for this order only"
            on={!!form.address}
            toggle={(on) => change({ address: on ? { name: "", address: "", country: "" } : null })}
            span={form.address ? 12 : 6}
          />
          {form.address && (
            <>
              <Field
                label="Name"
                name="address"
                value={form.address.name}
                onChange={(name) => form.address && change({ address: { ...form.address, name } })}
                faults={faults}
                span={4}
              />
              <Field
                label="Street and place"
                name="address.address"
                value={form.address.address}
                onChange={(address) => form.address && change({ address: { ...form.address, address } })}
                span={6}
              />
              <Field
                label="Country"
                name="address.country"
                value={form.address.country}
                onChange={(country) =>
                  form.address && change({ address: { ...form.address, country: country.toUpperCase() } })
                }
                faults={faults}
                span={2}
              />
            </>
          )}
          <MarkFields
            goods={goods}
            place="order"
            marks={form.marks ?? {}}
            change={(marks) => change({ marks })}
            faults={faults}
          />
        </FormGrid>
      </details>
      {adding && (
        <FormAsk
          title="Someone who is no customer yet"
          yes="Add"
          close={() => setAdding(false)}
          fields={[
            { name: "name", label: "Name" },
            { name: "company", label: "Company" },
            { name: "email", label: "Email" },
            { name: "phone", label: "Phone" },
          ]}
          run={async (values, key) => {
            const contact = await got(
              api.POST("/api/contacts", {
                params: { header: keyed(key) },
                body: {
                  name: values.name ?? "",
                  company: values.company ?? "",
                  email: values.email ?? "",
                  phone: values.phone ?? "",
                },
              }),
            );
            await strangers.refetch();
            change({ customer: 0, contact });
            toLines();
          }}
        />
      )}
    </>
  );
}

/** What of the rest is filled in, so that nothing hides behind the fold. */
function summary(form: OrderForm): string {
  const said = [
    form.requested_date && "requested",
    form.warehouse,
    form.carrier,
    form.delivery_terms,
    form.call_off && "blanket order",
    form.address && "own address",
    form.note && "note",
    form.own_note && "own note",
    ...(form.tags ?? []).map((tag) => `#${tag.trim()}`),
    ...Object.values(form.marks?.fields ?? {}),
    ...Object.values(form.marks?.codes ?? {}),
  ].filter(Boolean);
  return said.length > 0 ? `: ${said.join(", ")}` : "";
}
