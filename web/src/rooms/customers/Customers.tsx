import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { CustomerRow } from "../../api/types";
import { money, plural, price } from "../../format";
import { Chips, ExportLink, FilterField, useBase, useFilter, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { rememberSequence } from "../../places";
import { Worktop } from "../../shell/Worktop";

/** Everyone we sell to. */
export function CustomersRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const customers = useQuery({
    queryKey: ["customers", search],
    queryFn: () => got(api.GET("/api/customers", { params: { query: { q: search || undefined } } })),
  });
  const [current, setCurrent] = useState<CustomerRow>();
  const file = useQuery({
    queryKey: ["customer-file", String(current?.id)],
    queryFn: () => got(api.GET("/api/customers/{id}/file", { params: { path: { id: current?.id ?? 0 } } })),
    enabled: !!current,
  });
  const rows = customers.data ?? [];
  const open = (row: CustomerRow | undefined) => {
    if (row) {
      rememberSequence(rows.map((one) => `/customers/${one.id}`));
      navigate(`/customers/${row.id}`);
    }
  };
  const columns: Column<CustomerRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Number", width: "84px", cell: (row) => row.number },
    {
      key: "name",
      sort: (row) => row.name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => <b>{row.name}</b>,
    },
    { key: "currency", sort: (row) => row.currency, head: "Currency", width: "90px", cell: (row) => row.currency },
    {
      key: "open",
      sort: (row) => row.open_invoices,
      head: "Open invoices",
      width: "110px",
      right: true,
      cell: (row) => (row.open_invoices > 0 ? row.open_invoices : ""),
    },
    {
      key: "owes",
      sort: (row) => row.owes,
      head: `Owes ${base}`,
      width: "120px",
      right: true,
      cell: (row) => (row.owes === 0 ? "" : money(row.owes, base)),
    },
  ];
  const exposure = file.data?.exposure;
  return (
    <Worktop
      title="Customers"
      sum={customers.data && plural(rows.length, "customer", "customers")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.name}` : "Open",
          run: () => open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        { key: "n", label: "New customer", run: () => navigate("/customers/new"), needs: "keep_customer" },
        {
          key: "o",
          label: "New order",
          run: () => current && navigate(`/orders/new?customer=${current.id}`),
          disabled: !current,
          needs: "keep_order",
        },
      ]}
      tape={
        current &&
        exposure && (
          <Paper>
            <h2>
              {current.name}
              <br />
              <span>what it could leave us without</span>
            </h2>
            <ExposureLines
              exposure={exposure}
              total={file.data?.exposed ?? 0}
              limit={file.data?.form.credit_limit ?? ""}
              base={base}
            />
          </Paper>
        )
      }
    >
      <Chips>
        <FilterField label="Name or number" />
        <ExportLink list="customers" />
      </Chips>
      {customers.error && <Wrong error={customers.error} />}
      {customers.data && (
        <Rows
          label="Customers"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onCurrent={setCurrent}
          onOpen={open}
          empty="No customer fits. Clear the filter, or press n to add one."
        />
      )}
    </Worktop>
  );
}

interface Exposure {
  receivables: number;
  in_hand: number;
  unbilled: number;
  to_ship: number;
  money_ahead: number;
}

interface ExposureProps {
  exposure: Exposure;
  total: number;
  limit: string;
  base: string;
}

/** The parts of a customer's exposure, with their sum and the limit it stands against. */
export function ExposureLines({ exposure, total, limit, base }: ExposureProps) {
  const parts = [
    ["open invoices", exposure.receivables],
    ["checks not cleared", exposure.in_hand],
    ["shipped, not billed", exposure.unbilled],
    ["ordered, not shipped", exposure.to_ship],
    ["less prepayments", -exposure.money_ahead],
  ] as const;
  return (
    <>
      {parts.map(([label, amount]) => (
        <div className="l quiet" key={label}>
          <span>{label}</span>
          <span>{money(amount, base)}</span>
        </div>
      ))}
      <div className="l sum">
        <span>Exposure, with tax</span>
        <span>{money(total, base)}</span>
      </div>
      <div className="l quiet">
        <span>credit limit</span>
        <span>{limit ? price(limit) : "none"}</span>
      </div>
    </>
  );
}
