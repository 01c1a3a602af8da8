import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { Limit } from "../../api/types";
import { decimal, exponentOf, money, typedDecimal } from "../../format";
import { Chips, Lines, Marked, RoomLinks, Scroll, useBase, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { roleWords, withArticle } from "../../words";
import { setupLinks } from "./links";

const kinds: Record<Limit["kind"], [name: string, what: string]> = {
  credit_memo: ["Credit memo", "the total of one credit memo"],
  write_off: ["Write-off", "an amount given up"],
  refund: ["Refund", "money sent back"],
  price_change: ["Price change", "what another price makes of the net of a line"],
  order: ["Order", "the total, with tax, of an order that is confirmed"],
};

/** How far each role goes by itself, and who may do what. */
export function LimitsRoom() {
  const base = useBase();
  const setup = useQuery({ queryKey: ["setup"], queryFn: () => got(api.GET("/api/setup")) });
  const rights = useQuery({ queryKey: ["rights"], queryFn: () => got(api.GET("/api/setup/rights")) });
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [current, setCurrent] = useState<Limit>();
  const [asking, setAsking] = useState<Limit>();
  const amount = (limit: Limit) => (limit.amount == null ? "no limit" : money(limit.amount, base));
  const columns: Column<Limit>[] = [
    { key: "role", head: "Role", width: "110px", cell: (row) => roleWords[row.role] },
    { key: "kind", head: "Limit of one", width: "130px", cell: (row) => <b>{kinds[row.kind][0]}</b> },
    {
      key: "what",
      head: "",
      width: "minmax(0, 1fr)",
      cell: (row) => <Marked className="dim">{kinds[row.kind][1]}</Marked>,
    },
    { key: "amount", head: base, width: "130px", right: true, cell: amount },
  ];
  return (
    <Worktop
      title="Limits and rights"
      actions={[
        {
          key: "Enter",
          label: current
            ? `Set the ${kinds[current.kind][0].toLowerCase()} limit of ${withArticle(roleWords[current.role])}`
            : "Set the limit",
          run: () => setAsking(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
          needs: "keep_limits",
        },
      ]}
      tape={
        <Paper>
          <h2>
            Above the limit
            <br />
            <span>a request waits for someone else</span>
          </h2>
          <div className="words">
            What is above someone's limit is not done but asked for. It stands on the day sheet of every supervisor
            whose own limit covers it. Nobody approves their own request; maker and approver both stand in the record.
          </div>
          {current && (
            <div className="l due">
              <span>
                {roleWords[current.role]}, {kinds[current.kind][0].toLowerCase()}
              </span>
              <span>{amount(current)}</span>
            </div>
          )}
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {setup.error && <Wrong error={setup.error} />}
      <Scroll>
        {setup.data && (
          <Rows
            label="Limits"
            rows={setup.data.limits}
            idOf={(row) => `${row.role} ${row.kind}`}
            columns={columns}
            onCurrent={setCurrent}
            {...(may("keep_limits") && { onOpen: setAsking })}
            empty=""
            rowHeight={34}
          />
        )}
        {rights.data && (
          <Lines label="Rights">
            <thead>
              <tr>
                <th style={{ width: "36%" }}>Who may</th>
                <th>Clerk</th>
                <th>Lead</th>
                <th>Auditor</th>
                <th>Administrator</th>
              </tr>
            </thead>
            <tbody>
              {rights.data.map((row) => (
                <tr key={row.words}>
                  <td>{row.words}</td>
                  {row.rights.map((right, at) => (
                    <td key={at} style={{ whiteSpace: "nowrap" }}>
                      <RightMark right={right} />
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
      </Scroll>
      {asking && (
        <FormAsk
          title={`${kinds[asking.kind][0]} limit of ${withArticle(roleWords[asking.role])}`}
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            {
              name: "amount",
              label: `At most, ${base}`,
              value: asking.amount == null ? "" : decimal(asking.amount, exponentOf(base)),
              right: true,
              hint: "empty: no limit",
            },
          ]}
          run={async (values, key) => {
            const typed = (values.amount ?? "").trim();
            await got(
              api.PUT("/api/setup/limits", {
                params: { header: keyed(key) },
                body: { role: asking.role, kind: asking.kind, amount: typed === "" ? null : typedDecimal(typed) },
              }),
            );
            say({
              kind: "done",
              text: `The ${kinds[asking.kind][0].toLowerCase()} limit of ${withArticle(roleWords[asking.role])} is set.`,
            });
            await changed();
          }}
        />
      )}
    </Worktop>
  );
}

function RightMark({ right }: { right: string }) {
  if (right === "yes") {
    return <Marked className="done">● yes</Marked>;
  }
  if (right === "no") {
    return <Marked className="dim">–</Marked>;
  }
  return <Marked className="heed">▲ {right === "asks" ? "by asking" : right}</Marked>;
}
