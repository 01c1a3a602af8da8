import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { Contact, CustomerFile, CustomerForm, ShipTo } from "../../api/types";
import { date, money, number, typedDecimal } from "../../format";
import { Lines, Marked, Scroll, useBase, useEverythingChanged, useFieldFocus, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Field, FormGrid, Tick, useGoods } from "../../parts/form";
import { useForget, useKeptState } from "../../parts/kept";
import { useSaving } from "../../parts/saving";
import { Paper, Tear } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { ExposureLines } from "./Customers";
import { TermsFields, TermsShown } from "./TermsFields";

const NEW: CustomerForm = {
  number: "",
  name: "",
  address: "",
  country: "",
  currency: "EUR",
  terms: { kind: "net_days", days: 30 },
  delivery: "paper",
  billing: "shipment",
  statement_cycle: "none",
};

export function NewCustomerRoom() {
  return <Opened form={NEW} />;
}

/** A customer as saved: everything about it that is not its account. */
export function CustomerFileRoom() {
  const { id = "" } = useParams();
  const file = useQuery({
    queryKey: ["customer-file", id],
    queryFn: () => got(api.GET("/api/customers/{id}/file", { params: { path: { id: Number(id) } } })),
  });
  const customer = useQuery({
    queryKey: ["customer", id],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!file.data || !customer.data) {
    return (
      <Worktop title="Customer" actions={[]} back="/customers">
        {(file.error ?? customer.error) && <Wrong error={file.error ?? customer.error ?? new Error()} />}
      </Worktop>
    );
  }
  return (
    <Opened
      key={customer.data.version}
      form={file.data.form}
      file={file.data}
      id={Number(id)}
      version={customer.data.version}
    />
  );
}

interface Props {
  form: CustomerForm;
  file?: CustomerFile;
  id?: number;
  version?: number;
}

const treatments: [ShipTo["taxed"]["treatment"], string][] = [
  ["standard", "standard"],
  ["exempt", "exempt, with certificate"],
  ["reverse_charge", "reverse charge"],
  ["union", "within the union"],
  ["export", "export"],
];

function Opened({ form: started, file, id, version }: Props) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay()("keep_customer");
  const goods = useGoods();
  const prices = useQuery({ queryKey: ["prices"], queryFn: () => got(api.GET("/api/prices")) });
  // What is half typed is kept for this version: after another change it would take that back.
  const place = `customer.${id ?? "new"}.${version ?? 0}`;
  const forget = useForget(place);
  const [form, setForm] = useKeptState(place, "form", started);
  const saving = useSaving({ kind: "customer", id, version });
  const { faults, setFaults, stale } = saving;
  const [shipTo, setShipTo] = useState<ShipTo | "new">();
  const [contact, setContact] = useState<Contact | "new">();
  useFieldFocus();
  const change = (part: Partial<CustomerForm>) => {
    setFaults(undefined);
    setForm((before) => ({ ...before, ...part }));
  };
  const text = (name: keyof CustomerForm, label: string, span = 3, more: object = {}) => (
    <Field
      key={name}
      label={label}
      name={name}
      value={String(form[name] ?? "")}
      onChange={(value) => change({ [name]: value })}
      faults={faults}
      span={span}
      disabled={!may}
      {...more}
    />
  );
  const save = () => {
    const body: CustomerForm = {
      ...form,
      credit_limit: form.credit_limit ? typedDecimal(form.credit_limit) : "",
      share_ahead: form.share_ahead ? typedDecimal(form.share_ahead) : "",
    };
    return saving.save(async (header) => {
      const saved = id
        ? await got(
            api.PUT("/api/customers/{id}", {
              params: { path: { id }, header },
              body: { version: version ?? 0, form: body },
            }),
          )
        : await got(api.POST("/api/customers", { params: { header }, body }));
      forget();
      say({ kind: "done", text: `${form.name} is saved.` });
      await changed();
      navigate(id ? `/customers/${id}` : `/customers/${saved.id}/file`);
    });
  };
  const lists = (prices.data?.lists ?? []).filter((one) => one.currency === form.currency);
  const known = Object.keys({
    ...NEW,
    class: 1,
    tax_id: 1,
    credit_limit: 1,
    parent: 1,
    email: 1,
    share_ahead: 1,
    salesperson: 1,
    price_list: 1,
  });
  const elsewhere = faults && !known.includes(faults.field ?? "") && !(faults.field ?? "").startsWith("terms");
  return (
    <Worktop
      title={id ? form.name : "New customer"}
      sum={id ? `customer ${form.number}, as saved` : "who will it be?"}
      back={id ? `/customers/${id}` : "/customers"}
      actions={[
        { key: "p", label: "Save", run: save, primary: true, needs: "keep_customer" },
        ...(id
          ? [
              { key: "s", label: "New ship-to", run: () => setShipTo("new"), needs: "keep_customer" as const },
              { key: "c", label: "New contact", run: () => setContact("new"), needs: "keep_customer" as const },
            ]
          : []),
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <>
          <TermsShown terms={form.terms} />
          {file && (
            <Paper>
              <Tear />
              <h3>Credit</h3>
              <ExposureLines
                exposure={file.exposure}
                total={file.exposed}
                limit={file.form.credit_limit ?? ""}
                base={base}
              />
              {file.containers.length > 0 && <h3>Containers of ours</h3>}
              {file.containers.map((one) => (
                <div className="l quiet" key={one.code}>
                  <span>
                    {number(one.there)} × {one.code}
                  </span>
                  <span>{money(one.owed_back, base)}</span>
                </div>
              ))}
              {id && <RecordLines kind="customer" id={id} />}
            </Paper>
          )}
        </>
      }
    >
      <Scroll>
        {elsewhere && (
          <p role="alert" style={{ margin: "0 0 8px" }}>
            <Wrong error={new Error(stale ?? faults.message)} />
          </p>
        )}
        <FormGrid>
          {text("number", "Number", 2, { autoFocus: !id })}
          {text("name", "Name", 6)}
          {text("class", "Class, for the account map", 4, { hint: goods?.customer_classes.join(", ") })}
          {text("address", "Bill-to address: street, place", 6)}
          {text("country", "Country", 2)}
          {text("tax_id", "Tax id", 4)}
          {text("currency", "Currency", 2, { disabled: !may || !!id })}
          {text("credit_limit", `Credit limit ${base}`, 3, { right: true, hint: "empty: no limit" })}
          {text("parent", "Paid for by, number", 3, { hint: "empty: itself" })}
          {text("salesperson", "Salesperson", 4)}
          <TermsFields terms={form.terms} change={(terms) => change({ terms })} faults={faults} disabled={!may} />
          <h2>Prices and papers</h2>
          <Field
            label="Price list"
            name="price_list"
            value={form.price_list ? String(form.price_list) : ""}
            onChange={(value) => change({ price_list: value ? Number(value) : null })}
            faults={faults}
            disabled={!may}
            choices={[["", "list prices"], ...lists.map((one) => [String(one.id), one.name] as const)]}
          />
          {text("share_ahead", "Usual advance %", 3, { right: true, hint: "Leave empty for none" })}
          <Field
            label="Papers go"
            name="delivery"
            value={form.delivery}
            onChange={(value) => change({ delivery: value as CustomerForm["delivery"] })}
            disabled={!may}
            choices={[
              ["paper", "on paper"],
              ["email", "by email"],
              ["structured", "as structured invoices"],
            ]}
          />
          {text("email", "Email for papers", 3)}
          <Field
            label="Billed"
            name="billing"
            value={form.billing}
            onChange={(value) => change({ billing: value as CustomerForm["billing"] })}
            disabled={!may}
            choices={[
              ["shipment", "each shipment"],
              ["order", "each order"],
              ["weekly", "combined, weekly"],
              ["monthly", "combined, monthly"],
            ]}
          />
          <Field
            label="Statements"
            name="statement_cycle"
            value={form.statement_cycle}
            onChange={(value) => change({ statement_cycle: value as CustomerForm["statement_cycle"] })}
            disabled={!may}
            choices={[
              ["none", "when asked for"],
              ["weekly", "weekly"],
              ["monthly", "monthly"],
              ["quarterly", "quarterly"],
            ]}
          />
          <Tick
            label="billed only when all has gone"
            on={form.bill_when_complete ?? false}
            toggle={(bill_when_complete) => change({ bill_when_complete })}
            span={3}
            disabled={!may}
          />
          <Tick
            label="prices with tax"
            on={form.gross_priced ?? false}
            toggle={(gross_priced) => change({ gross_priced })}
            span={3}
            disabled={!may}
          />
          <Tick
            label="its order number on every invoice"
            on={form.needs_order_number ?? false}
            toggle={(needs_order_number) => change({ needs_order_number })}
            span={3}
            disabled={!may}
          />
        </FormGrid>
        {file && (
          <div data-field="customer.ship_tos">
            <Lines label="Ship-tos">
              <thead>
                <tr>
                  <th>Goods go to</th>
                  <th>Address</th>
                  <th>Tax</th>
                </tr>
              </thead>
              <tbody>
                {file.ship_tos.map((one) => (
                  <tr key={one.id}>
                    <td>
                      <button type="button" className="quietly" disabled={!may} onClick={() => setShipTo(one)}>
                        {one.code}
                      </button>{" "}
                      {one.name}
                      {!one.active && <Marked className="dim"> · not used any more</Marked>}
                    </td>
                    <td className="dim">
                      {one.address}, {one.country}
                    </td>
                    <td>
                      {treatments.find(([treatment]) => treatment === one.taxed.treatment)?.[1]}
                      {one.taxed.certificate && <Marked className="dim"> · {one.taxed.certificate}</Marked>}
                      {one.taxed.until && <Marked className="dim"> to {date(one.taxed.until)}</Marked>}
                    </td>
                  </tr>
                ))}
              </tbody>
            </Lines>
          </div>
        )}
        {file && file.contacts.length > 0 && (
          <Lines label="Contacts">
            <thead>
              <tr>
                <th>Contact</th>
                <th>For</th>
                <th>Email</th>
                <th>Phone</th>
              </tr>
            </thead>
            <tbody>
              {file.contacts.map((one) => (
                <tr key={one.id}>
                  <td>
                    <button type="button" className="quietly" disabled={!may} onClick={() => setContact(one)}>
                      {one.name}
                    </button>
                    {!one.active && <Marked className="dim"> · not used any more</Marked>}
                  </td>
                  <td className="dim">{one.role}</td>
                  <td className="dim">{one.email}</td>
                  <td className="dim">{one.phone}</td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
      </Scroll>
      {shipTo && id && (
        <ShipToAsk id={id} shipTo={shipTo === "new" ? undefined : shipTo} close={() => setShipTo(undefined)} />
      )}
      {contact && id && (
        <ContactAsk id={id} contact={contact === "new" ? undefined : contact} close={() => setContact(undefined)} />
      )}
    </Worktop>
  );
}

function ShipToAsk({ id, shipTo, close }: { id: number; shipTo: ShipTo | undefined; close: () => void }) {
  const changed = useEverythingChanged();
  return (
    <FormAsk
      title={shipTo ? `Ship-to ${shipTo.code}` : "New ship-to"}
      yes="Save"
      close={close}
      fields={[
        { name: "code", label: "Code", value: shipTo?.code ?? "" },
        { name: "name", label: "Name", value: shipTo?.name ?? "" },
        { name: "address", label: "Street, place", value: shipTo?.address ?? "" },
        { name: "country", label: "Country, two letters", value: shipTo?.country ?? "" },
        { name: "treatment", label: "Tax", value: shipTo?.taxed.treatment ?? "standard", choices: treatments },
        {
          name: "certificate",
          label: "Certificate",
          value: shipTo?.taxed.certificate ?? "",
          hint: "where it is exempt",
        },
        { name: "until", label: "Certificate holds until", kind: "date", value: shipTo?.taxed.until ?? "" },
        ...(shipTo && shipTo.code !== "MAIN"
          ? [{ name: "active", label: "still used", kind: "tick" as const, value: shipTo.active ? "on" : "" }]
          : []),
      ]}
      run={async (values, key) => {
        await got(
          api.PUT("/api/customers/{id}/ship-tos", {
            params: { path: { id }, header: keyed(key) },
            body: {
              id: shipTo?.id ?? null,
              code: values.code ?? "",
              name: values.name ?? "",
              address: values.address ?? "",
              country: values.country ?? "",
              taxed: {
                treatment: values.treatment as ShipTo["taxed"]["treatment"],
                certificate: values.certificate || null,
                until: values.until || null,
              },
              active: !shipTo || shipTo.code === "MAIN" || values.active === "on",
            },
          }),
        );
        await changed();
      }}
    />
  );
}

function ContactAsk({ id, contact, close }: { id: number; contact: Contact | undefined; close: () => void }) {
  const changed = useEverythingChanged();
  return (
    <FormAsk
      title={contact ? contact.name : "New contact"}
      yes="Save"
      close={close}
      fields={[
        { name: "name", label: "Name", value: contact?.name ?? "" },
        { name: "role", label: "For: buying, paying, receiving", value: contact?.role ?? "" },
        { name: "email", label: "Email", value: contact?.email ?? "" },
        { name: "phone", label: "Phone", value: contact?.phone ?? "" },
        ...(contact
          ? [{ name: "active", label: "still used", kind: "tick" as const, value: contact.active ? "on" : "" }]
          : []),
      ]}
      run={async (values, key) => {
        await got(
          api.PUT("/api/customers/{id}/contacts", {
            params: { path: { id }, header: keyed(key) },
            body: {
              id: contact?.id ?? null,
              name: values.name ?? "",
              role: values.role ?? "",
              email: values.email ?? "",
              phone: values.phone ?? "",
              active: !contact || values.active === "on",
            },
          }),
        );
        await changed();
      }}
    />
  );
}
