import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { CreditMemoRow } from "../api/types";
import { date, money, plural, shortDate } from "../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useFilter,
  useToday,
  Wrong,
} from "../parts/bits";
import { STRETCH, useList } from "../parts/list";
import { PickedSum } from "../parts/picks";
import { type Column, Rows } from "../parts/Rows";
import { Paper } from "../parts/TapeRoll";
import { Worktop } from "../shell/Worktop";
import { Amount } from "./Invoices";
import { CreditDrafts } from "./invoice/CreditDrafts";
import { billingLinks } from "./Unbilled";

/** Every credit memo, newest first, with what of it is still kept for the customer. */
export function CreditMemosRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const today = useToday();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["credit-memos", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/credit-memos", {
          params: { query: { q: search || undefined, state: state || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.memos,
    place: "/credit-memos",
  });
  const { first, current, picked, open } = list;
  const columns: Column<CreditMemoRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Credit memo", width: "92px", cell: (row) => row.number },
    { key: "date", sort: (row) => row.date, head: "Date", width: "98px", cell: (row) => shortDate(row.date, today) },
    {
      key: "customer",
      sort: (row) => row.customer_name,
      head: "Customer",
      width: "minmax(110px, 1fr)",
      cell: (row) => row.customer_name,
    },
    {
      key: "invoice",
      head: "Of invoice",
      width: "104px",
      cell: (row) => (
        <>
          {row.invoice?.number ?? <Marked className="dim">stands alone</Marked>}
          {row.whole && <Marked className="dim"> whole</Marked>}
        </>
      ),
    },
    { key: "reason", sort: (row) => row.reason, head: "Why", width: "minmax(0, 1.2fr)", cell: (row) => row.reason },
    {
      key: "total",
      sort: (row) => row.total,
      sum: (row) => ({ minor: row.total, currency: row.currency }),
      head: "Credited",
      width: "100px",
      right: true,
      cell: (row) => <Amount minor={row.total} currency={row.currency} base={base} />,
    },
    {
      key: "kept",
      sort: (row) => row.kept,
      sum: (row) => ({ minor: row.kept, currency: row.currency }),
      head: "Kept",
      width: "84px",
      right: true,
      cell: (row) => row.kept > 0 && <Marked className="heed">{money(row.kept, row.currency)}</Marked>,
    },
  ];
  return (
    <Worktop
      title="Credit memos"
      sum={first && `${plural(first.count, "credit memo", "credit memos")} · ${money(first.total_base, base)} credited`}
      back="/billing/invoices"
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        { key: "n", label: "New credit memo", run: () => navigate("/credit-memos/new"), needs: "cancel_invoice" },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="credit memo"
            more="credit memos"
            sums={[["Credited", picked.map((row) => ({ minor: row.total, currency: row.currency }))]]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number} of {date(current.date)}
                </span>
              </h2>
              <div className="words">{current.reason}</div>
              {current.invoice && (
                <div className="l">
                  <span>{current.whole ? "Cancels" : "Over lines of"}</span>
                  <span>{current.invoice.number}</span>
                </div>
              )}
              <div className="l due">
                <span>Credited</span>
                <span>{money(current.total, current.currency)}</span>
              </div>
              {current.kept > 0 && (
                <div className="l">
                  <span>kept for the customer, unapplied</span>
                  <span>{money(current.kept, current.currency)}</span>
                </div>
              )}
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
        <ExportLink list="credit-memos" />
      </Chips>
      <Chips>
        <FilterField label="Customer, number, invoice" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["kept", "With something kept"],
          ]}
        />
      </Chips>
      <CreditDrafts />
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Credit memos"
          {...list.rows}
          columns={columns}
          empty="No credit memo fits. Open a posted invoice and press l to credit lines of it, or press n for one with no invoice behind it."
        />
      )}
    </Worktop>
  );
}
