import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { components } from "../api/schema";
import { date, money, plural } from "../format";
import { Chips, FilterField, Late, Marked, RoomLinks, useBase, useFilter, Wrong } from "../parts/bits";
import { DateFilter } from "../parts/DateFilter";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { placeOf, rememberSequence } from "../places";
import { Worktop } from "../shell/Worktop";
import { ledgerLinks } from "./Journal";

type Row = components["schemas"]["OpenItemRow"];

/** What was open on customer accounts on any day, with its age: only what was applied by then counts. */
export function OpenItemsRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [asOf, setAsOf] = useFilter("as_of");
  const [current, setCurrent] = useState<Row>();
  const query = useQuery({
    queryKey: ["open-items", asOf],
    queryFn: () => got(api.GET("/api/ledger/open-items", { params: { query: { as_of: asOf || undefined } } })),
    placeholderData: keepPreviousData,
  });
  const [filter] = useFilter("q");
  const wanted = filter.trim().toLowerCase();
  const rows = (query.data?.items ?? []).filter(
    (row) => row.customer_name.toLowerCase().includes(wanted) || row.document.number.toLowerCase().includes(wanted),
  );
  const sign = (row: Row) => (row.side === "owed_to_us" ? 1 : -1);
  const open = (row: Row) => {
    rememberSequence(rows.map((one) => placeOf(one.document)));
    navigate(placeOf(row.document));
  };
  const columns: Column<Row>[] = [
    {
      key: "number",
      sort: (row) => row.document.number,
      head: "Document",
      width: "76px",
      cell: (row) => <b>{row.document.number}</b>,
    },
    {
      key: "customer",
      sort: (row) => row.customer_name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => row.customer_name,
    },
    {
      key: "date",
      sort: (row) => row.document_date,
      head: "Date",
      width: "98px",
      cell: (row) => <Marked className="dim">{date(row.document_date)}</Marked>,
    },
    {
      key: "due",
      sort: (row) => row.due_date,
      head: "Due",
      width: "98px",
      cell: (row) => (sign(row) > 0 ? date(row.due_date) : ""),
    },
    {
      key: "late",
      head: "Late",
      width: "98px",
      cell: (row) => (sign(row) > 0 ? <Late days={row.days_late} words={plural(row.days_late, "day", "days")} /> : ""),
    },
    // Where all is in the base currency, the room is the name's.
    ...(rows.some((row) => row.currency !== base)
      ? [
          {
            key: "open",
            head: "Other currency",
            width: "104px",
            right: true,
            cell: (row: Row) =>
              row.currency === base ? "" : `${money(sign(row) * row.open, row.currency)} ${row.currency}`,
          },
        ]
      : []),
    {
      key: "base",
      sort: (row) => sign(row) * row.open_base,
      head: `Open ${base}`,
      width: "92px",
      right: true,
      cell: (row) => <b>{money(sign(row) * row.open_base, base)}</b>,
    },
  ];
  const data = query.data;
  return (
    <Worktop
      title="Open items"
      sum={data && `as of ${date(data.as_of)} · ${plural(rows.length, "item", "items")}`}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.document.number}` : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        {
          key: "c",
          label: "Customer account",
          run: () => current && navigate(`/customers/${current.customer}`),
          disabled: !current,
        },
      ]}
      tape={
        data && (
          <Paper>
            <h2>
              All customer accounts
              <br />
              <span>as of {date(data.as_of)}</span>
            </h2>
            {(
              [
                ["Not due", data.ageing.not_due],
                ["1 to 30 days late", data.ageing.days_1_30],
                ["31 to 60 days late", data.ageing.days_31_60],
                ["Over 60 days late", data.ageing.over_60],
              ] as const
            ).map(([label, amount]) => (
              <div className="l" key={label}>
                <span>{label}</span>
                <span>{money(amount, base)}</span>
              </div>
            ))}
            <div className="l due">
              <span>Owed</span>
              <span>{money(data.owed_base, base)}</span>
            </div>
            <div className="l">
              <span>Unapplied</span>
              <span>{money(-data.unapplied_base, base)}</span>
            </div>
            <div className="words quiet" style={{ marginTop: 10 }}>
              Each installment is late by its own date. What was applied after the day does not count.
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={ledgerLinks} />
        <span className="gap" />
        <DateFilter label="As of" value={asOf} assumed={data?.as_of ?? ""} set={setAsOf} />
        <FilterField label="Customer or document" />
      </Chips>
      {query.error && <Wrong error={query.error} />}
      {data && (
        <Rows
          label="Open items"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          empty={wanted ? "Nothing of it was open that day." : "Nothing was open that day."}
          rowHeight={34}
        />
      )}
    </Worktop>
  );
}
