import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { InvoiceRow } from "../api/types";
import { date, money, plural, shortDate } from "../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Late,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useFilter,
  useToday,
  Wrong,
} from "../parts/bits";
import { STRETCH, useList } from "../parts/list";
import { InvoiceLines } from "../parts/Peek";
import { PickedSum } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { Paper, Tear } from "../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../parts/together";
import { Worktop } from "../shell/Worktop";
import { GoingMark } from "./goingout/parts";
import { billingLinks } from "./Unbilled";

export function InvoicesRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["invoices", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/invoices", {
          params: { query: { q: search || undefined, state: state || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.invoices,
    place: "/invoices",
  });
  const openAt = useOpenElsewhere("invoice");
  const { first, current, picked, open } = list;
  const columns: Column<InvoiceRow>[] = [
    {
      key: "number",
      sort: (row) => row.number,
      head: "Invoice",
      width: "64px",
      cell: (row) => row.number ?? <Marked className="dim">draft</Marked>,
    },
    customerColumn(openAt),
    {
      key: "source",
      sort: (row) => row.source,
      head: "From",
      width: "76px",
      cell: (row) => {
        const [first, ...more] = row.source.split(" ");
        return (
          <span title={row.source}>
            {first}
            {more.length > 0 && <Marked className="dim"> +{more.length}</Marked>}
          </span>
        );
      },
    },
    { key: "going", head: "Outbox", width: "86px", cell: (row) => <GoingMark going={row.going_out} /> },
    {
      key: "date",
      sort: (row) => row.document_date,
      head: "Date",
      width: "94px",
      cell: (row) => (row.document_date ? shortDate(row.document_date, today) : <Marked className="dim">today</Marked>),
    },
    {
      key: "due",
      sort: (row) => row.due_date,
      head: "Due",
      width: "94px",
      cell: (row) =>
        row.due_date &&
        // What is late says how late; since when, the tape tells.
        (row.days_late > 0 ? (
          <Late days={row.days_late} words={`${row.days_late} d late`} />
        ) : (
          shortDate(row.due_date, today)
        )),
    },
    {
      key: "total",
      sort: (row) => row.total,
      sum: (row) => (row.total != null ? { minor: row.total, currency: row.currency } : null),
      head: "Total",
      width: "100px",
      right: true,
      cell: (row) => row.total != null && <Amount minor={row.total} currency={row.currency} base={base} />,
    },
    {
      key: "open",
      sort: (row) => row.open,
      sum: (row) => (row.open != null ? { minor: row.open, currency: row.currency } : null),
      head: "Balance due",
      width: "92px",
      right: true,
      cell: (row) =>
        row.open != null &&
        (row.cancelled_by ? (
          <Marked className="dim" title={`canceled by ${row.cancelled_by}`}>
            canceled
          </Marked>
        ) : row.open === 0 ? (
          <Marked className="done">settled</Marked>
        ) : (
          money(row.open, row.currency)
        )),
    },
  ];
  return (
    <Worktop
      title="Invoices"
      sum={first && `${plural(first.count, "invoice", "invoices")} · ${money(first.open_base, base)} due`}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number ?? "the draft"}` : "Open",
          run: open,
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        {
          key: "r",
          label: "Record receipt",
          run: () => current && navigate(`/receipts/new?customer=${current.customer}&invoice=${current.id}`),
          disabled: !current?.open,
          needs: "post_money",
        },
        { key: "u", label: "Unbilled", run: () => navigate("/billing") },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="invoice"
            more="invoices"
            sums={[
              ["Total", picked.map((row) => ({ minor: row.total ?? 0, currency: row.currency }))],
              ["Balance due", picked.map((row) => ({ minor: row.open ?? 0, currency: row.currency }))],
            ]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>{current.number ?? "draft"}</span>
              </h2>
              {current.due_date && (
                <div className="l">
                  <span>Due</span>
                  <span>{date(current.due_date)}</span>
                </div>
              )}
              {current.total != null && current.open != null && (
                <>
                  <div className="l">
                    <span>Total</span>
                    <span>{money(current.total, current.currency)}</span>
                  </div>
                  <div className="l due">
                    <span>Balance due</span>
                    <span>{money(current.open, current.currency)}</span>
                  </div>
                </>
              )}
              <Tear />
              <InvoiceLines id={current.id} />
              <div className="words quiet">
                <kbd>Enter</kbd> opens it, with its arithmetic, its entry, and its related documents.
              </div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
        <ExportLink list="invoices" />
      </Chips>
      <Chips>
        <FilterField label="Customer, number, order" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["draft", "Drafts"],
            ["open", "Open"],
            ["late", "Late"],
            ["settled", "Settled"],
            ["cancelled", "Canceled"],
            ["to_send", "To send"],
          ]}
        />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Invoices"
          {...list.rows}
          columns={columns}
          empty="No invoice fits. Clear the filter, or bill what is unbilled."
        />
      )}
    </Worktop>
  );
}

/** An amount that names its currency where it is not the books' own. */
export function Amount({ minor, currency, base }: { minor: number; currency: string; base: string }) {
  return (
    <>
      {currency !== base && <Marked className="dim">{currency} </Marked>}
      {money(minor, currency)}
    </>
  );
}
