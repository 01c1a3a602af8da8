import type { InHandRow, SlipRow } from "../../api/types";
import { date, money, shortDate } from "../../format";
import { Marked } from "../../parts/bits";
import type { Column } from "../../parts/Rows";

/** How far a slip is. */
export function SlipMark({ state }: { state: SlipRow["state"] }) {
  switch (state) {
    case "prepared":
      return <Marked className="heed">▲ prepared</Marked>;
    case "banked":
      return <Marked className="dim">at the bank</Marked>;
    case "cleared":
      return <Marked className="done">● cleared</Marked>;
    case "canceled":
      return <Marked className="dim">canceled</Marked>;
  }
}

/** What rows come to, each currency by itself. */
export function sums(rows: InHandRow[]): [currency: string, sum: number][] {
  const found = new Map<string, bigint>();
  for (const row of rows) {
    found.set(row.currency, (found.get(row.currency) ?? 0n) + BigInt(row.amount));
  }
  return [...found].map(([currency, sum]) => [currency, Number(sum)]);
}

/** Columns of what lies in hand or stands on a slip. */
export function inHandColumns(today: string | undefined): Column<InHandRow>[] {
  return [
    { key: "number", head: "Document", width: "92px", cell: (row) => row.document.number },
    {
      key: "date",
      head: "Date",
      width: "108px",
      cell: (row) => (today ? shortDate(row.date, today) : date(row.date)),
    },
    { key: "customer", head: "Customer", width: "minmax(0, 1fr)", cell: (row) => row.customer_name },
    {
      key: "kind",
      head: "What",
      width: "110px",
      cell: (row) => (row.kind === "checks_in_hand" ? "check" : row.amount < 0 ? "cash paid out" : "cash"),
    },
    {
      key: "words",
      head: "Reference",
      width: "minmax(0, 0.7fr)",
      cell: (row) => <Marked className="dim">{row.words}</Marked>,
    },
    {
      key: "amount",
      head: "Amount",
      width: "128px",
      right: true,
      cell: (row) => `${money(row.amount, row.currency)} ${row.currency}`,
    },
  ];
}
