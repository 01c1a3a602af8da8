import { BarChart } from "@mui/x-charts/BarChart";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { api, got } from "../../api/client";
import type { ReturnReport } from "../../api/types";
import { date, money, plural } from "../../format";
import { Chips, Lines, RoomLinks, Scroll, StateChips, useBase, useFilter, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { Paper } from "../../parts/TapeRoll";
import { Worktop } from "../../shell/Worktop";
import { returnLinks } from "./Returns";

type By = "reason" | "item" | "customer" | "month";
type Row = ReturnReport["rows"][number];

const heads: Record<By, string> = { reason: "Reason", item: "Item", customer: "Customer", month: "Month" };

/** How many bars can be told apart. */
const MOST_BARS = 8;

/** Why goods come back, and what it costs, over a stretch of days. */
export function WhyRoom() {
  const base = useBase();
  const [chosen] = useFilter("by");
  const by = (chosen || "reason") as By;
  const [params, setParams] = useSearchParams();
  const from = params.get("from") ?? "";
  const to = params.get("to") ?? "";
  const report = useQuery({
    queryKey: ["return-report", by, from, to],
    queryFn: () =>
      got(
        api.GET("/api/returns/report", {
          params: { query: { by, from: from || undefined, to: to || undefined } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const data = report.data;
  const set = (name: string, value: string) =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        if (value) {
          next.set(name, value);
        } else {
          next.delete(name);
        }
        return next;
      },
      { replace: true },
    );
  return (
    <Worktop
      title="Why goods come back"
      sum={data && `${plural(data.total.returns, "return", "returns")} · ${money(data.total.lost, base)} ${base} lost`}
      back="/returns"
      actions={[]}
      tape={
        data && (
          <Paper>
            <h2>
              What returns cost
              <br />
              <span>
                {date(data.from)} to {date(data.to)}
              </span>
            </h2>
            <div className="l">
              <span>Came back, at cost</span>
              <span>{money(data.total.came_back, base)}</span>
            </div>
            <div className="l">
              <span>of that restocked</span>
              <span>{money(data.total.restocked, base)}</span>
            </div>
            <div className="l due">
              <span>Lost</span>
              <span>{money(data.total.lost, base)}</span>
            </div>
            <div className="words quiet">
              Lost is what was scrapped, what the supplier is not to credit, and what was sent as a replacement, all at
              cost. Credited is net, at the rate of each credit memo.
            </div>
            <div className="l sum">
              <span>Credited, net</span>
              <span>{money(data.total.credited, base)}</span>
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={returnLinks} />
        <StateChips
          name="by"
          choices={[
            ["", "By reason"],
            ["item", "By item"],
            ["customer", "By customer"],
            ["month", "By month"],
          ]}
        />
      </Chips>
      <div style={{ display: "flex", gap: 12, margin: "4px 0 10px" }}>
        <DateField
          label="From"
          typed={from}
          assumed={data?.from ?? ""}
          onType={(day) => set("from", day)}
          from="half a year"
        />
        <DateField
          label="To"
          typed={to}
          assumed={data?.to ?? ""}
          onType={(day) => set("to", day)}
          from="the business date"
        />
      </div>
      {report.error && <Wrong error={report.error} />}
      {data && data.rows.length === 0 && <p>Nothing came back in these days. Choose other days above.</p>}
      {data && data.rows.length > 0 && (
        <Scroll>
          <Bars rows={data.rows} by={by} base={base} />
          <Lines label="What came back">
            <thead>
              <tr>
                <th>{heads[by]}</th>
                <th className="right">Returns</th>
                <th className="right">Came back, at cost {base}</th>
                <th className="right">Restocked {base}</th>
                <th className="right">Lost {base}</th>
                <th className="right">Credited, net {base}</th>
              </tr>
            </thead>
            <tbody>
              {data.rows.map((row) => (
                <tr key={row.code}>
                  <td>{nameOf(row, by)}</td>
                  <Amounts row={row} base={base} />
                </tr>
              ))}
            </tbody>
            <tfoot>
              <tr>
                <td>All</td>
                <Amounts row={data.total} base={base} />
              </tr>
            </tfoot>
          </Lines>
        </Scroll>
      )}
    </Worktop>
  );
}

function nameOf(row: Row, by: By) {
  return by === "item" || by === "customer" ? (
    <>
      <b>{row.code}</b> {row.name}
    </>
  ) : (
    row.name
  );
}

function Amounts({ row, base }: { row: Row; base: string }) {
  return (
    <>
      <td className="right">{row.returns}</td>
      {[row.came_back, row.restocked, row.lost, row.credited].map((amount, at) => (
        <td className="right" key={at}>
          {money(amount, base)}
        </td>
      ))}
    </>
  );
}

/** Lost and credited beside each other, the dearest first; months in their order. The table below says the same. */
function Bars({ rows, by, base }: { rows: Row[]; by: By; base: string }) {
  const shown = rows.slice(0, MOST_BARS);
  const amount = (minor: number | null) => money(minor ?? 0, base);
  return (
    <div role="img" aria-label={`Lost and credited, by ${by}; the figures stand below`} style={{ marginBottom: 12 }}>
      <BarChart
        layout="horizontal"
        height={70 + 44 * shown.length}
        skipAnimation
        yAxis={[{ scaleType: "band", data: shown.map((row) => (by === "item" ? row.code : row.name)), width: 170 }]}
        xAxis={[{ valueFormatter: amount, tickNumber: 5, tickLabelInterval: () => true }]}
        series={[
          { data: shown.map((row) => row.lost), label: `Lost ${base}`, color: "var(--here)", valueFormatter: amount },
          {
            data: shown.map((row) => row.credited),
            label: `Credited, net ${base}`,
            color: "var(--fill)",
            valueFormatter: amount,
          },
        ]}
      />
    </div>
  );
}
