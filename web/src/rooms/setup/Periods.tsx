import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { PeriodRow } from "../../api/types";
import { date, plural } from "../../format";
import { Chips, Marked, RoomLinks, useEverythingChanged, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

const months = [
  "January",
  "February",
  "March",
  "April",
  "May",
  "June",
  "July",
  "August",
  "September",
  "October",
  "November",
  "December",
];
const nameOf = (period: PeriodRow) =>
  `${months[Number(period.first.slice(5, 7)) - 1] ?? ""} ${period.first.slice(0, 4)}`;

/** Which months take entries. */
export function PeriodsRoom() {
  const setup = useQuery({ queryKey: ["setup"], queryFn: () => got(api.GET("/api/setup")) });
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [current, setCurrent] = useState<PeriodRow>();
  const [asking, setAsking] = useState<PeriodRow>();
  const columns: Column<PeriodRow>[] = [
    { key: "name", head: "Period", width: "minmax(0, 1fr)", cell: (row) => <b>{nameOf(row)}</b> },
    {
      key: "state",
      head: "",
      width: "130px",
      cell: (row) => (row.open ? <Marked className="dim">○ open</Marked> : <Marked className="done">● closed</Marked>),
    },
    {
      key: "entries",
      head: "Entries",
      width: "110px",
      right: true,
      cell: (row) => (row.entries === 0 ? "" : row.entries),
    },
    { key: "drafts", head: "Drafts", width: "90px", right: true, cell: (row) => (row.drafts === 0 ? "" : row.drafts) },
  ];
  const add = async () => {
    try {
      await got(api.POST("/api/setup/periods", { params: { header: keyed(newKey()) } }));
      say({ kind: "done", text: "The next month is there." });
      await changed();
    } catch (error) {
      say({ kind: "stop", text: error instanceof Problem ? error.message : String(error) });
    }
  };
  const verb = current?.open ? "Close" : "Open";
  return (
    <Worktop
      title="Periods"
      sum={setup.data && plural(setup.data.periods.filter((one) => one.open).length, "month open", "months open")}
      actions={[
        {
          key: "Enter",
          label: current ? `${verb} ${nameOf(current)}` : "Close",
          run: () => setAsking(current),
          primary: true,
          disabled: !current || !!current.obstacle,
          shownOnly: true,
          needs: "close_period",
        },
        { key: "n", label: "Add a month", run: add, needs: "add_period" },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {nameOf(current)}
              <br />
              <span>{current.open ? "takes entries" : "takes no more entries"}</span>
            </h2>
            <div className="l">
              <span>Entries</span>
              <span>{current.entries}</span>
            </div>
            <div className="l">
              <span>Drafts dated in it</span>
              <span>{current.drafts}</span>
            </div>
            <h3>In order</h3>
            {current.obstacle && <div className="words heed">▲ {current.obstacle}</div>}
            <div className="words">
              Periods are closed from the first and opened from the last, so that no closed month stands after an open
              one.
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {setup.error && <Wrong error={setup.error} />}
      {setup.data && (
        <Rows
          label="Periods"
          rows={setup.data.periods}
          idOf={(row) => row.first}
          columns={columns}
          onCurrent={setCurrent}
          {...(may("close_period") && { onOpen: (row: PeriodRow) => !row.obstacle && setAsking(row) })}
          empty="There are no periods."
          rowHeight={34}
        />
      )}
      {asking && (
        <Ask
          title={`${asking.open ? "Close" : "Open"} ${nameOf(asking)}?`}
          yes={`${asking.open ? "Close" : "Open"} ${nameOf(asking)}`}
          busyWords="One moment…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(
              api.PUT("/api/setup/periods/{first}", {
                params: { path: { first: asking.first }, header: keyed(key) },
                body: { open: !asking.open },
              }),
            );
            say({ kind: "done", text: `${nameOf(asking)} is ${asking.open ? "closed" : "open"}.` });
            await changed();
          }}
        >
          {asking.open
            ? `Nothing can be posted from ${date(asking.first)} to ${date(asking.last)} any more.${asking.drafts > 0 ? ` ${plural(asking.drafts, "draft is", "drafts are")} dated in it and will need another posting date.` : ""}`
            : `Entries from ${date(asking.first)} to ${date(asking.last)} can be posted again. What was reported for it may change.`}
        </Ask>
      )}
    </Worktop>
  );
}
