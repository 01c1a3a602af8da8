import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { WaitingRow } from "../../api/types";
import { date, money, number, plural, shortDate } from "../../format";
import { Chips, RoomLinks, useBase, useToday, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Worktop } from "../../shell/Worktop";
import { returnLinks } from "./Returns";

type Row = { group: string; cost: number; count: number } | WaitingRow;

/** What waits for inspection, by place, the longest first. */
export function WaitingRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [current, setCurrent] = useState<WaitingRow>();
  const waiting = useQuery({ queryKey: ["returns-waiting"], queryFn: () => got(api.GET("/api/returns/waiting")) });
  const rows = useMemo(() => {
    const all: Row[] = [];
    for (const row of waiting.data ?? []) {
      const head = all.findLast((one) => "group" in one);
      if (!head || !("group" in head) || head.group !== row.warehouse) {
        all.push({ group: row.warehouse, cost: 0, count: 0 });
      }
      const group = all.findLast((one) => "group" in one);
      if (group && "group" in group) {
        group.cost += row.cost;
        group.count += 1;
      }
      all.push(row);
    }
    return all;
  }, [waiting.data]);
  const cost = (waiting.data ?? []).reduce((sum, row) => sum + row.cost, 0);
  const open = (row: Row) => !("group" in row) && navigate(`/returns/${row.id}`);
  const columns: Column<Row>[] = [
    { key: "number", head: "Return", width: "66px", cell: (row) => ("group" in row ? "" : row.number) },
    {
      key: "item",
      head: "Item",
      width: "minmax(0, 1.2fr)",
      cell: (row) =>
        "group" in row ? (
          ""
        ) : (
          <>
            <b>{row.code}</b> {row.name}
          </>
        ),
    },
    {
      key: "quantity",
      head: "Waiting",
      width: "84px",
      right: true,
      cell: (row) => ("group" in row ? "" : `${number(row.quantity)} ${row.unit}`),
    },
    {
      key: "cost",
      head: `At cost ${base}`,
      width: "104px",
      right: true,
      cell: (row) => money(row.cost, base),
    },
    {
      key: "customer",
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => ("group" in row ? "" : row.customer_name),
    },
    {
      key: "since",
      head: "Since",
      width: "72px",
      cell: (row) => ("group" in row ? "" : shortDate(row.since, today)),
    },
    { key: "days", head: "Days", width: "48px", right: true, cell: (row) => ("group" in row ? "" : row.days) },
  ];
  return (
    <Worktop
      title="Waiting for inspection"
      sum={waiting.data && `${plural(waiting.data.length, "line", "lines")} · ${money(cost, base)} at cost`}
      back="/returns"
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: () => current && open(current),
          primary: true,
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
                {current.number}, here since {date(current.since)}
              </span>
            </h2>
            <div className="words">
              {current.code} {current.name}
            </div>
            <div className="l due">
              <span>
                {number(current.quantity)} {current.unit}, at cost
              </span>
              <span>{money(current.cost, base)}</span>
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={returnLinks} />
      </Chips>
      {waiting.error && <Wrong error={waiting.error} />}
      {waiting.data && (
        <Rows
          label="Waiting for inspection"
          rows={rows}
          idOf={(row) => ("group" in row ? `group ${row.group}` : `${row.number}${row.code}`)}
          columns={columns}
          isGroup={(row) => "group" in row}
          groupCell={(row) =>
            "group" in row ? `${row.group} · ${plural(row.count, "line", "lines")} · ${money(row.cost, base)}` : ""
          }
          onOpen={open}
          onCurrent={(row) => setCurrent(row && !("group" in row) ? row : undefined)}
          empty="Nothing waits for inspection."
        />
      )}
    </Worktop>
  );
}
