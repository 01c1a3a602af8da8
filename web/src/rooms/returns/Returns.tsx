import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { ReturnRow } from "../../api/types";
import { date, money, plural, shortDate } from "../../format";
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
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../../parts/together";
import { Worktop } from "../../shell/Worktop";
import { nextWords, progressWords, waitsForUs } from "./words";

/** The lists of returns. */
export const returnLinks: [string, string][] = [
  ["/returns", "Returns"],
  ["/returns/waiting", "Waiting for inspection"],
  ["/returns/why", "Why goods come back"],
  ["/returns/expected", "Expected"],
  ["/returns/claims", "Claims on suppliers"],
];

/** What customers may send back, what of it is here, and what each return still needs. */
export function ReturnsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["returns", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/returns", {
          params: { query: { q: search || undefined, state: state || "open", limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.returns,
    place: "/returns",
  });
  const openAt = useOpenElsewhere("return");
  const { first, current, open } = list;
  const columns: Column<ReturnRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Return", width: "66px", cell: (row) => row.number },
    {
      key: "date",
      sort: (row) => row.authorized_on,
      head: "Authorized",
      width: "78px",
      cell: (row) => shortDate(row.authorized_on, today),
    },
    customerColumn(openAt),
    { key: "items", sort: (row) => row.items, head: "Items", width: "minmax(70px, .7fr)", cell: (row) => row.items },
    {
      key: "received",
      head: "Received",
      width: "74px",
      right: true,
      cell: (row) => `${row.progress.received} of ${row.progress.authorized}`,
    },
    { key: "credited", head: "Credited", width: "66px", right: true, cell: (row) => row.progress.credited },
    { key: "days", sort: (row) => row.days, head: "Days", width: "44px", right: true, cell: (row) => row.days },
    {
      key: "next",
      head: "Next",
      width: "minmax(0, 1fr)",
      cell: (row) =>
        waitsForUs(row) ? (
          <Marked className="heed">▲ {nextWords(row, today)}</Marked>
        ) : (
          <Marked className="dim">{nextWords(row, today)}</Marked>
        ),
    },
  ];
  return (
    <Worktop
      title="Returns"
      sum={first && plural(first.count, "return", "returns")}
      actions={[
        {
          key: "n",
          label: "Authorize a return",
          run: () => navigate("/returns/new"),
          primary: true,
          needs: "authorize_return",
        },
        {
          key: "e",
          label: "Exchange without an invoice",
          run: () => navigate("/returns/exchange"),
          needs: "return_without_document",
        },
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
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
                {current.number}
                {current.reference ? `, their ${current.reference}` : ""}
              </span>
            </h2>
            <div className="words">{current.items}</div>
            <div className="l">
              <span>Billed on</span>
              <span>{current.documents}</span>
            </div>
            <div className="words">{progressWords(current)}</div>
            {current.waiting && (
              <div className="l">
                <span>Waiting for inspection, at cost</span>
                <span>{money(current.waiting_cost, base)}</span>
              </div>
            )}
            <div className="l due">
              <span>May arrive until</span>
              <span>{date(current.expires_on)}</span>
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={returnLinks} />
        <FilterField label="Customer, number, item, document" />
        <StateChips
          name="state"
          choices={[
            ["", "Open"],
            ["all", "All"],
          ]}
        />
        <ExportLink list="returns" state={state || "open"} />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Returns"
          {...list.rows}
          columns={columns}
          empty="No return is open. Press n to authorize one, or show all."
        />
      )}
    </Worktop>
  );
}
