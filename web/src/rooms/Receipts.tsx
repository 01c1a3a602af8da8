import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { ReceiptRow } from "../api/types";
import { money, plural, shortDate } from "../format";
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
import { customerColumn, useOpenElsewhere } from "../parts/together";
import { Worktop } from "../shell/Worktop";
import { moneyLinks } from "./bank/links";
import { Amount } from "./Invoices";

export function ReceiptsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["receipts", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/receipts", {
          params: { query: { q: search || undefined, state: state || undefined, limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.receipts,
    place: "/receipts",
  });
  const openAt = useOpenElsewhere("receipt");
  const { first, current, picked, open } = list;
  const columns: Column<ReceiptRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Receipt", width: "76px", cell: (row) => row.number },
    { key: "date", sort: (row) => row.date, head: "Date", width: "98px", cell: (row) => shortDate(row.date, today) },
    customerColumn(openAt),
    { key: "method", sort: (row) => row.method, head: "Method", width: "78px", cell: (row) => row.method },
    {
      key: "reference",
      sort: (row) => row.reference,
      head: "Reference",
      width: "minmax(0, 0.8fr)",
      cell: (row) => <Marked className="dim">{row.reference}</Marked>,
    },
    {
      key: "amount",
      sort: (row) => row.amount,
      sum: (row) => ({ minor: row.amount, currency: row.currency }),
      head: "Amount",
      width: "106px",
      right: true,
      cell: (row) => <Amount minor={row.amount} currency={row.currency} base={base} />,
    },
    {
      key: "unapplied",
      sort: (row) => row.unapplied,
      sum: (row) => ({ minor: row.unapplied, currency: row.currency }),
      head: "Unapplied",
      width: "100px",
      right: true,
      cell: (row) => row.unapplied > 0 && <Marked className="heed">▲ {money(row.unapplied, row.currency)}</Marked>,
    },
  ];
  return (
    <Worktop
      title="Receipts"
      sum={first && `${plural(first.count, "receipt", "receipts")} · ${money(first.unapplied_base, base)} unapplied`}
      actions={[
        { key: "n", label: "New receipt", run: () => navigate("/receipts/new"), primary: true, needs: "post_money" },
        {
          key: "a",
          label: "Remittance advice",
          run: () => navigate("/receipts/advice"),
          needs: "post_money",
          quiet: true,
        },
        { key: "k", label: "Stack of checks", run: () => navigate("/receipts/new?stack=1"), needs: "post_money" },
        {
          key: "Enter",
          label: current ? (current.unapplied > 0 ? `Apply ${current.number}` : `Open ${current.number}`) : "Open",
          run: open,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <>
          <PickedSum
            count={picked.length}
            one="receipt"
            more="receipts"
            sums={[
              ["Amount", picked.map((row) => ({ minor: row.amount, currency: row.currency }))],
              ["Unapplied", picked.map((row) => ({ minor: row.unapplied, currency: row.currency }))],
            ]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number}, {current.method}
                </span>
              </h2>
              <div className="l">
                <span>Received</span>
                <span>{money(current.amount, current.currency)}</span>
              </div>
              <div className="l due">
                <span>Unapplied</span>
                <span>{money(current.unapplied, current.currency)}</span>
              </div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={moneyLinks} />
        <FilterField label="Customer, number, reference" />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["unapplied", "With money unapplied"],
          ]}
        />
        <ExportLink list="receipts" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Receipts"
          {...list.rows}
          columns={columns}
          empty="No receipt fits. Clear the filter, or enter one."
        />
      )}
    </Worktop>
  );
}
