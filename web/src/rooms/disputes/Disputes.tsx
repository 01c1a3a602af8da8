import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { DisputeView } from "../../api/types";
import { date, money, moneyWithCurrency, plural, shortDate } from "../../format";
import { Chips, Marked, RoomLinks, StateChips, useFilter, useToday, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { placeOf } from "../../places";
import { Worktop } from "../../shell/Worktop";
import { moneyLinks } from "../bank/links";
import { ChangeDisputeAsk, CloseDisputeAsk } from "./asks";
import { disputeReasons } from "./words";

/** What customers will not pay, why, and who looks after it. */
export function DisputesRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const [state] = useFilter("state");
  const ended = state === "ended";
  const [currentId, setCurrentId] = useState<number>();
  const [asking, setAsking] = useState<"change" | "close">();
  const list = useQuery({
    queryKey: ["disputes", ended],
    queryFn: () => got(api.GET("/api/disputes", { params: { query: { ended } } })),
  });
  const rows = list.data?.disputes ?? [];
  const current = rows.find((one) => one.id === currentId) ?? rows[0];
  const standing = current && !current.closed_on && current.open > 0;
  const columns: Column<DisputeView>[] = [
    {
      key: "document",
      sort: (one) => one.document.number,
      head: "Of",
      width: "84px",
      cell: (one) => one.document.number,
    },
    {
      key: "customer",
      sort: (one) => one.customer_name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (one) => one.customer_name,
    },
    {
      key: "why",
      head: "Why",
      width: "minmax(0, 1.2fr)",
      cell: (one) => (
        <>
          {disputeReasons[one.reason]} <span className="dim">{one.words}</span>
        </>
      ),
    },
    {
      key: "owner",
      sort: (one) => one.owner_name,
      head: "Who looks after it",
      width: "minmax(0, 0.7fr)",
      cell: (one) => one.owner_name ?? <Marked className="heed">▲ nobody</Marked>,
    },
    {
      key: "since",
      sort: (one) => one.since,
      head: "Since",
      width: "84px",
      cell: (one) => shortDate(one.since, today),
    },
    { key: "days", sort: (one) => one.days, head: "Days", width: "56px", right: true, cell: (one) => String(one.days) },
    {
      key: "amount",
      sort: (one) => one.amount,
      head: "In dispute",
      width: "124px",
      right: true,
      cell: (one) => `${money(one.amount, one.currency)} ${one.currency}`,
    },
    ...(ended
      ? [
          {
            key: "outcome",
            head: "What came of it",
            width: "minmax(0, 0.9fr)",
            cell: (one: DisputeView) => one.outcome ?? "settled",
          },
        ]
      : []),
  ];
  return (
    <Worktop
      title="Disputes"
      sum={list.data && plural(rows.length, ended ? "dispute ended" : "dispute", ended ? "disputes ended" : "disputes")}
      back="/receipts"
      actions={[
        {
          key: "p",
          label: "Close it…",
          run: () => setAsking("close"),
          primary: true,
          disabled: !standing,
          needs: "post_money",
        },
        {
          key: "e",
          label: "Change…",
          run: () => setAsking("change"),
          disabled: !standing,
          needs: "post_money",
        },
        {
          key: "Enter",
          label: current ? `Open ${current.document.number}` : "Open",
          run: () => current && navigate(placeOf(current.document)),
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.customer_name}
              <br />
              <span>
                {current.document.number}, since {date(current.since)}
              </span>
            </h2>
            <div className="l">
              <span>Open</span>
              <span>{money(current.open, current.currency)}</span>
            </div>
            <div className="l due">
              <span>In dispute</span>
              <span>{money(current.amount, current.currency)}</span>
            </div>
            <div className="words">
              {disputeReasons[current.reason]}
              {current.words && `: ${current.words}`}.{" "}
              {current.owner_name ? `${current.owner_name} looks after it.` : "Nobody looks after it yet."}
            </div>
            {current.outcome && <div className="words">Closed: {current.outcome}.</div>}
            {current.closed_on == null && current.open > 0 && (
              <div className="words dim">
                {moneyWithCurrency(current.open, current.currency)} stay on the account until they are credited, written
                off or paid.
              </div>
            )}
            <RecordLines kind={current.document.kind} id={current.document.id} />
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={moneyLinks} />
        <StateChips
          name="state"
          choices={[
            ["", "Standing"],
            ["ended", "Ended"],
          ]}
        />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {list.data && (
        <Rows
          label="Disputes"
          rows={rows}
          idOf={(one) => String(one.id)}
          columns={columns}
          onCurrent={(one) => setCurrentId(one?.id)}
          onOpen={(one) => navigate(placeOf(one.document))}
          empty={
            ended
              ? "No dispute has ended yet."
              : "Nothing is in dispute. What a customer will not pay is put here from its receipt, or from its invoice."
          }
        />
      )}
      {asking === "change" && current && <ChangeDisputeAsk dispute={current} close={() => setAsking(undefined)} />}
      {asking === "close" && current && <CloseDisputeAsk dispute={current} close={() => setAsking(undefined)} />}
    </Worktop>
  );
}
