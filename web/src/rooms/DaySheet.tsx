import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useCallback, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../api/client";
import type { DayItem } from "../api/types";
import { date, money, moneyWithCurrency, plural } from "../format";
import { Marked, useBase, Wrong } from "../parts/bits";
import { type Column, Rows } from "../parts/Rows";
import { Paper, Tear } from "../parts/TapeRoll";
import { placeOf } from "../places";
import { Worktop } from "../shell/Worktop";

const Figures = styled("div")({
  display: "flex",
  gap: 30,
  margin: "0 0 10px",
  alignItems: "flex-start",
  color: "var(--ink-2)",
  fontSize: 13.5,
  "& > span": { display: "grid" },
  "& b": { fontSize: 20, lineHeight: "24px", fontWeight: 680, letterSpacing: "-.01em", color: "var(--ink)" },
  "& small": { fontSize: 12.5, color: "var(--ink-3)" },
});

const Ages = styled("div")({
  display: "flex",
  gap: 3,
  height: 26,
  margin: "2px 0 4px",
  "& i": { background: "var(--fill)", borderRadius: 2, minWidth: 2 },
});

// The charts come once they are needed.
const Flow = lazy(() => import("./day/Flow"));

const works: Record<DayItem["work"], string> = {
  stopped: "Blocked",
  to_approve: "Needs your approval",
  money_lying_still: "Unapplied money",
  ready_to_go: "To ship",
  to_bill: "To bill",
  drafts: "Drafts you left",
  returned: "Returned goods",
  disputed: "In dispute",
  late: "Overdue",
  orders_to_finish: "Orders to finish",
  requested: "You requested, pending approval",
};

const nexts: Record<DayItem["next"], { words: string; title: string }> = {
  put_right: { words: "fix", title: "Fix" },
  decide: { words: "decide", title: "Approve or decline" },
  apply: { words: "apply", title: "Apply the money" },
  match: { words: "match", title: "Open the bank statement" },
  take_to_bank: { words: "take to the bank", title: "Open the slip" },
  resolve: { words: "clear up", title: "Open what is in dispute" },
  clear: { words: "clear", title: "Open the deposit" },
  credit: { words: "credit", title: "Open the prepayment invoice" },
  capture: { words: "capture", title: "Open the card authorization" },
  ask_again: { words: "ask again", title: "Open the card authorization" },
  ship_soon: { words: "ship", title: "Open the card authorization" },
  authorize_again: { words: "authorize", title: "Open the card authorization" },
  book: { words: "book", title: "Open what is to be booked" },
  post_shipment: { words: "post", title: "Look at the shipment" },
  bill: { words: "bill", title: "Bill it" },
  inspect: { words: "inspect", title: "Open the return" },
  settle: { words: "credit", title: "Open the return" },
  repair: { words: "send back", title: "Open the return" },
  ask_for_money: { words: "ask", title: "Open the account" },
  look_at_order: { words: "open", title: "Open the order" },
  confirm: { words: "confirm", title: "Open the order" },
  ask_for_missing: { words: "ask", title: "Open the order" },
  open_draft: { words: "open", title: "Open the draft" },
  look_at_request: { words: "look", title: "Open the request" },
};

type Row = { group: string; count: number; total: number } | DayItem;

function placeFor(item: DayItem): string {
  if (item.next === "bill") {
    return `/billing?customer=${item.at.id}`;
  }
  if (item.next === "put_right") {
    return `${placeOf(item.at)}?field=${item.at.kind === "customer" ? "customer.tax_id" : "order.customer_order_number"}`;
  }
  return placeOf(item.at);
}

export function DaySheetRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const sheet = useQuery({ queryKey: ["day-sheet"], queryFn: () => got(api.GET("/api/day-sheet")) });
  const [current, setCurrent] = useState<DayItem>();
  const rows = useMemo(() => {
    const all: Row[] = [];
    const items = sheet.data?.items ?? [];
    items.forEach((item, at) => {
      if (item.work !== items[at - 1]?.work) {
        const alike = items.filter((one) => one.work === item.work);
        const total = alike.reduce((sum, one) => sum + one.amount, 0);
        all.push({ group: works[item.work], count: alike.length, total });
      }
      all.push(item);
    });
    return all;
  }, [sheet.data]);
  const told = useCallback((row: Row | undefined) => setCurrent(row && !("group" in row) ? row : undefined), []);
  const open = (row: Row) => {
    if (!("group" in row)) {
      navigate(placeFor(row));
    }
  };
  const columns: Column<Row>[] = [
    { key: "mark", head: "", width: "36px", cell: (row) => ("group" in row ? "" : <Shape item={row} />) },
    {
      key: "what",
      head: "What",
      width: "minmax(0, 1fr)",
      cell: (row) =>
        "group" in row ? (
          row.group
        ) : (
          <span title={row.why}>
            <b>{row.title}</b> <Marked className="dim">{row.why}</Marked>
          </span>
        ),
    },
    {
      key: "amount",
      head: base,
      width: "96px",
      right: true,
      cell: (row) => money("group" in row ? row.total : row.amount, base),
    },
    {
      key: "days",
      head: "Days",
      width: "64px",
      right: true,
      cell: (row) => ("group" in row ? "" : <Marked className="dim">{row.days}</Marked>),
    },
    {
      key: "next",
      head: "Next",
      width: "92px",
      right: true,
      cell: (row) => ("group" in row ? "" : <b>{nexts[row.next].words}</b>),
    },
  ];
  const data = sheet.data;
  return (
    <Worktop
      title={data ? `Today, ${date(data.business_date)}` : "Day sheet"}
      sum={data ? plural(data.items.length, "thing to do", "things to do") : ""}
      actions={[
        {
          key: "Enter",
          label: current ? nexts[current.next].title : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
        },
        { key: "n", label: "New receipt", run: () => navigate("/receipts/new"), needs: "post_money" },
      ]}
      tape={
        data && (
          <Paper>
            {current && (
              <>
                <h2>
                  {current.title}
                  <br />
                  <span>
                    {works[current.work].toLowerCase()} · {current.at.number}
                  </span>
                </h2>
                <div className="words">
                  <span className={current.work === "stopped" ? "stop" : ""}>
                    {current.work === "stopped" ? "◆ " : ""}
                    {current.why}
                  </span>
                </div>
                <div className="l due">
                  <span>{plural(current.days, "day", "days")}</span>
                  <span>{money(current.amount, base)}</span>
                </div>
                <Tear />
              </>
            )}
            <h3>Who owes, by days late</h3>
            <AgeChart ageing={data.ageing} />
            {(
              [
                ["not due", data.ageing.not_due],
                ["1–30", data.ageing.days_1_30],
                ["31–60", data.ageing.days_31_60],
                ["over 60", data.ageing.over_60],
              ] as const
            ).map(([label, amount]) => (
              <div className="l quiet" key={label}>
                <span>{label}</span>
                <span>{money(amount, base)}</span>
              </div>
            ))}
            <div className="l sum">
              <span>Receivable</span>
              <span>{money(data.owed, base)}</span>
            </div>
            <CameIn base={base} today={data.business_date} />
            <h3>Last worked day, {date(data.yesterday.date)}</h3>
            <div className="l quiet">
              <span>billed</span>
              <span>{money(data.yesterday.billed, base)}</span>
            </div>
            <div className="l quiet">
              <span>received</span>
              <span>{money(data.yesterday.received, base)}</span>
            </div>
          </Paper>
        )
      }
    >
      {sheet.error && <Wrong error={sheet.error} />}
      {data && (
        <>
          <Figures>
            <span>
              Unbilled <b>{moneyWithCurrency(data.unbilled, base)}</b>
              <small>{change(data.unbilled_change, base)}</small>
            </span>
            <span>
              Receivable <b>{moneyWithCurrency(data.owed, base)}</b>
              <small>{change(data.owed_change, base)}</small>
            </span>
            <span>
              Overdue <b>{moneyWithCurrency(data.late, base)}</b>
            </span>
          </Figures>
          <Rows
            label="What needs you today"
            rows={rows}
            idOf={(row) => ("group" in row ? `group ${row.group}` : `${row.work}${row.at.kind}${row.at.id}`)}
            columns={columns}
            isGroup={(row) => "group" in row}
            groupCell={(row) =>
              "group" in row ? (
                <>
                  {row.group} <span className="sub">{row.count}</span>
                </>
              ) : (
                ""
              )
            }
            groupTail={3}
            onOpen={open}
            onCurrent={told}
            empty="Nothing to do. Everything shipped is billed, and all money is applied."
          />
        </>
      )}
    </Worktop>
  );
}

/** Which bars of the chart a line is about. */
function Swatch({ color }: { color: string }) {
  return <i style={{ display: "inline-block", width: 9, height: 9, background: `var(${color})`, marginRight: 5 }} />;
}

/** What came in today, and week by week against what was due. */
function CameIn({ base, today }: { base: string; today: string }) {
  const found = useQuery({ queryKey: ["receivables"], queryFn: () => got(api.GET("/api/receivables")) });
  const it = found.data;
  if (!it) {
    return null;
  }
  const due = it.weeks.reduce((sum, week) => sum + BigInt(week.due), 0n);
  const came = it.weeks.reduce((sum, week) => sum + BigInt(week.received), 0n);
  return (
    <>
      <h3>Came in today</h3>
      {it.today.map((one) => (
        <div className="l quiet" key={one.method}>
          <span>
            {one.method}, {one.count}
          </span>
          <span>{money(one.amount, base)}</span>
        </div>
      ))}
      {it.today.length === 0 && <div className="words quiet">nothing yet</div>}
      <div className="l quiet">
        <span>without a target, of all days</span>
        <span>{money(it.unplaced, base)}</span>
      </div>
      <h3>Received against due, by week</h3>
      <div
        role="img"
        aria-label={`In ${it.weeks.length} weeks ${money(Number(due), base)} fell due, ${money(Number(came), base)} came in.`}
      >
        <Suspense fallback={<div style={{ height: 132 }} />}>
          <Flow weeks={it.weeks} base={base} today={today} />
        </Suspense>
      </div>
      <div className="l quiet">
        <span>
          <Swatch color="--line-strong" />
          fell due in {it.weeks.length} weeks
        </span>
        <span>{money(Number(due), base)}</span>
      </div>
      <div className="l quiet">
        <span>
          <Swatch color="--fill" />
          came in
        </span>
        <span>{money(Number(came), base)}</span>
      </div>
    </>
  );
}

/** A change since yesterday, in words. */
function change(minor: number, currency: string): string {
  if (minor === 0) {
    return "as yesterday";
  }
  return `${minor > 0 ? "+" : "−"}${money(Math.abs(minor), currency)} since yesterday`;
}

interface AgeingShares {
  not_due: number;
  days_1_30: number;
  days_31_60: number;
  over_60: number;
}

function Shape({ item }: { item: DayItem }) {
  if (item.work === "stopped" || item.work === "late") {
    return <Marked className="stop">◆</Marked>;
  }
  if (
    item.work === "to_approve" ||
    item.work === "money_lying_still" ||
    item.work === "ready_to_go" ||
    item.work === "returned"
  ) {
    return <Marked className="heed">▲</Marked>;
  }
  return null;
}

function AgeChart({ ageing }: { ageing: AgeingShares }) {
  const parts = [
    ["not due", ageing.not_due, 0.45],
    ["1–30 days late", ageing.days_1_30, 0.65],
    ["31–60 days late", ageing.days_31_60, 0.85],
    ["over 60 days late", ageing.over_60, 1],
  ] as const;
  return (
    <Ages role="img" aria-label="Receivables by days late; the figures stand below">
      {parts.map(([label, amount, opacity]) =>
        amount > 0 ? <i key={label} title={label} style={{ flexGrow: amount, flexBasis: 0, opacity }} /> : null,
      )}
    </Ages>
  );
}
