import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { CardRow } from "../../api/types";
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
import { PickedSum } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { customerColumn, useOpenElsewhere } from "../../parts/together";
import { placeOf } from "../../places";
import { Worktop } from "../../shell/Worktop";
import { prepaymentLinks } from "../deposits/Deposits";
import { CardStanding } from "./bits";
import { nextWords, states } from "./words";

/** Card authorizations: what is promised for which order, until when, and the next step of each. */
export function CardsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const list = useList({
    key: ["cards", search, state],
    load: (offset: number) =>
      got(
        api.GET("/api/cards", {
          params: { query: { q: search || undefined, state: state || "open", limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.cards,
    place: "/cards",
  });
  const openAt = useOpenElsewhere("card_authorization");
  const { first, current, picked, open } = list;
  const amount = (row: CardRow, minor: number) => (
    <>
      {money(minor, row.currency)}
      {row.currency !== base && <Marked className="dim"> {row.currency}</Marked>}
    </>
  );
  const columns: Column<CardRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Card", width: "62px", cell: (row) => row.number },
    customerColumn(openAt),
    { key: "order", sort: (row) => row.target.number, head: "For", width: "72px", cell: (row) => row.target.number },
    {
      key: "until",
      sort: (row) => row.valid_until,
      head: "Valid until",
      width: "84px",
      cell: (row) => <Marked className="dim">{row.valid_until && shortDate(row.valid_until, today)}</Marked>,
    },
    {
      key: "state",
      sort: (row) => row.state,
      head: "State",
      width: "138px",
      cell: (row) => <CardStanding state={row.state} />,
    },
    {
      key: "left",
      sort: (row) => row.left,
      sum: (row) => ({ minor: row.left, currency: row.currency }),
      head: "Left",
      width: "92px",
      right: true,
      cell: (row) => row.left > 0 && amount(row, row.left),
    },
    { key: "next", head: "Next", width: "minmax(0, 1fr)", cell: (row) => nextWords(row, today) },
  ];
  return (
    <Worktop
      title="Prepayments"
      sum={first && plural(first.count, "card authorization", "card authorizations")}
      actions={[
        {
          key: "o",
          label: current ? `Open ${current.target.number}` : "Open the order",
          run: () => current && navigate(placeOf(current.target)),
          disabled: !current,
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
        <>
          <PickedSum
            count={picked.length}
            one="card authorization"
            more="card authorizations"
            sums={[["Left", picked.map((row) => ({ minor: row.left, currency: row.currency }))]]}
          />
          {current && (
            <Paper>
              <h2>
                {current.customer_name}
                <br />
                <span>
                  {current.number} of {date(current.asked_on)}, for {current.target.number}
                </span>
              </h2>
              <CardSums row={current} />
              <div className="words quiet">
                {states[current.state].words}
                {nextWords(current, today) && `: ${nextWords(current, today)}`}
              </div>
            </Paper>
          )}
        </>
      }
    >
      <Chips>
        <RoomLinks links={prepaymentLinks} />
        <FilterField label="Customer, order, number" />
        <StateChips
          name="state"
          choices={[
            ["", "Open"],
            ["all", "All"],
          ]}
        />
        <ExportLink list="cards" state={state || "open"} />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Card authorizations"
          {...list.rows}
          columns={columns}
          empty="No card waits. Open an order and choose Authorize a card."
        />
      )}
    </Worktop>
  );
}

/** What was authorized, what of it was captured, what is left, as on a roll. */
export function CardSums({ row }: { row: CardRow }) {
  return (
    <>
      <div className="l">
        <span>Authorized</span>
        <span>{money(row.amount, row.currency)}</span>
      </div>
      {row.captured > 0 && (
        <div className="l">
          <span>captured</span>
          <span>{money(-row.captured, row.currency)}</span>
        </div>
      )}
      <div className="l due">
        <span>Left to capture</span>
        <span>{money(row.left, row.currency)}</span>
      </div>
      {row.to_capture > 0 && (
        <div className="l">
          <span>gone out and not paid</span>
          <span>{money(row.to_capture, row.currency)}</span>
        </div>
      )}
    </>
  );
}
