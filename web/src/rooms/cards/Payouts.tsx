import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { PayoutRow, PayoutView } from "../../api/types";
import { date, money, moneyWithCurrency, plural, sentence, shortDate } from "../../format";
import {
  Chips,
  ExportLink,
  Facts,
  Lines,
  Marked,
  RoomLinks,
  Scroll,
  StateChips,
  useBase,
  useEverythingChanged,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { STRETCH, useList } from "../../parts/list";
import { usePaymentMethods } from "../../parts/methods";
import { type Column, Rows } from "../../parts/Rows";
import { Paper, PostedEntries, WhatItDoes } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { prepaymentLinks } from "../deposits/Deposits";

/** What the card processor paid out. */
export function PayoutsRoom() {
  const base = useBase();
  const today = useToday();
  const [state] = useFilter("state");
  const list = useList({
    key: ["payouts", state],
    load: (offset: number) =>
      got(api.GET("/api/card-payouts", { params: { query: { state: state || undefined, limit: STRETCH, offset } } })),
    rowsOf: (page) => page.payouts,
    place: "/card-payouts",
  });
  const { first, current, open } = list;
  const amount = (row: PayoutRow, minor: number) => (
    <>
      {money(minor, row.currency)}
      {row.currency !== base && <Marked className="dim"> {row.currency}</Marked>}
    </>
  );
  const columns: Column<PayoutRow>[] = [
    {
      key: "reference",
      sort: (row) => row.reference,
      head: "Payout",
      width: "minmax(0, 1fr)",
      cell: (row) => row.reference,
    },
    {
      key: "paid",
      sort: (row) => row.paid_on,
      head: "Paid on",
      width: "84px",
      cell: (row) => shortDate(row.paid_on, today),
    },
    {
      key: "gross",
      sort: (row) => row.gross,
      sum: (row) => ({ minor: row.gross, currency: row.currency }),
      head: "Gross",
      width: "104px",
      right: true,
      cell: (row) => amount(row, row.gross),
    },
    {
      key: "fee",
      sort: (row) => row.fee,
      sum: (row) => ({ minor: row.fee, currency: row.currency }),
      head: "Fee",
      width: "92px",
      right: true,
      cell: (row) => amount(row, row.fee),
    },
    {
      key: "net",
      sort: (row) => row.net,
      sum: (row) => ({ minor: row.net, currency: row.currency }),
      head: "Net",
      width: "104px",
      right: true,
      cell: (row) => amount(row, row.net),
    },
    {
      key: "booked",
      sort: (row) => row.number,
      head: "In the books as",
      width: "132px",
      cell: (row) => row.number ?? <Marked className="heed">▲ to book</Marked>,
    },
  ];
  return (
    <Worktop
      title="Prepayments"
      sum={first && plural(first.count, "card payout", "card payouts")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.reference}` : "Open",
          run: open,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={current && <PayoutSums payout={current} />}
    >
      <Chips>
        <RoomLinks links={prepaymentLinks} />
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["to_book", "To book"],
          ]}
        />
        <ExportLink list="card-payouts" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Card payouts"
          {...list.rows}
          columns={columns}
          empty="No payout here. The card processor tells of each as it pays."
        />
      )}
    </Worktop>
  );
}

function PayoutSums({ payout }: { payout: PayoutRow }) {
  return (
    <Paper>
      <h2>
        {payout.reference}
        <br />
        <span>paid on {date(payout.paid_on)}</span>
      </h2>
      <div className="l">
        <span>Captured, less what went back</span>
        <span>{money(payout.gross, payout.currency)}</span>
      </div>
      <div className="l">
        <span>Fees of the processor</span>
        <span>{money(-payout.fee, payout.currency)}</span>
      </div>
      <div className="l due">
        <span>Paid</span>
        <span>{money(payout.net, payout.currency)}</span>
      </div>
    </Paper>
  );
}

/** One payout with its report, line by line. */
export function PayoutRoom() {
  const { id = "" } = useParams();
  const payout = useQuery({
    queryKey: ["payout", id],
    queryFn: () => got(api.GET("/api/card-payouts/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!payout.data) {
    return (
      <Worktop title="Card payout" actions={[]} back="/prepayments/payouts">
        {payout.error && <Wrong error={payout.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} payout={payout.data} />;
}

const kinds = { capture: "captured", refund: "sent back to the card", charge_back: "charged back" };

function Opened({ payout }: { payout: PayoutView }) {
  const base = useBase();
  const [asking, setAsking] = useState(false);
  const net = moneyWithCurrency(payout.net, payout.currency);
  const unmatched = payout.lines.filter((line) => line.unmatched).length;
  return (
    <Worktop
      title={payout.number ?? payout.reference}
      sum={`${net} of the card processor, paid on ${date(payout.paid_on)}`}
      back="/prepayments/payouts"
      actions={
        payout.number
          ? []
          : [
              {
                key: "p",
                label: `Book · ${net}`,
                run: () => setAsking(true),
                primary: true,
                disabled: unmatched > 0,
                needs: "post_money" as const,
              },
            ]
      }
      tape={
        <>
          <PayoutSums payout={payout} />
          <Paper>
            <PostedEntries entries={payout.entries} base={base} />
            <RecordLines kind="card_payout" id={payout.id} />
          </Paper>
        </>
      }
    >
      <Facts
        facts={[
          ["Payout", payout.reference],
          ["Paid on", date(payout.paid_on)],
          [
            "In the books",
            payout.booked_on ? (
              date(payout.booked_on)
            ) : (
              <Marked key="b" className="heed">
                ▲ not yet
              </Marked>
            ),
          ],
        ]}
      />
      {unmatched > 0 && (
        <p style={{ margin: "0 0 8px", color: "var(--heed)" }}>
          ▲ {plural(unmatched, "line is", "lines are")} not matched. Put right what stands beside each, then book the
          payout.
        </p>
      )}
      <Scroll>
        <Lines label="Lines of the payout">
          <thead>
            <tr>
              <th>What</th>
              <th>As the processor names it</th>
              <th>Customer</th>
              <th>In the books as</th>
              <th className="right">Gross {payout.currency}</th>
              <th className="right">Fee</th>
            </tr>
          </thead>
          <tbody>
            {payout.lines.map((line) => (
              <tr key={line.reference}>
                <td>{kinds[line.kind]}</td>
                <td className="dim">{line.reference}</td>
                <td>{line.customer}</td>
                <td>
                  {line.document && <Link to={placeOf(line.document)}>{line.document.number}</Link>}
                  {line.unmatched && <Marked className="heed"> ▲ {line.unmatched}</Marked>}
                </td>
                <td className="right">{money(line.gross, payout.currency)}</td>
                <td className="right">{line.fee !== 0 && money(line.fee, payout.currency)}</td>
              </tr>
            ))}
          </tbody>
        </Lines>
      </Scroll>
      {asking && <BookAsk payout={payout} close={() => setAsking(false)} />}
    </Worktop>
  );
}

/** The payout came to the bank: what that does to the books, before it is done. */
function BookAsk({ payout, close }: { payout: PayoutView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const methods = usePaymentMethods().filter((one) => one.kind === "bank");
  const [chosen, setChosen] = useState<string>();
  const [day, setDay] = useState("");
  const method = chosen ?? methods[0]?.code ?? "";
  const net = moneyWithCurrency(payout.net, payout.currency);
  const preview = useQuery({
    queryKey: ["book-payout", payout.id, method, day],
    queryFn: () =>
      got(
        api.POST("/api/card-payouts/{id}/book/preview", {
          params: { path: { id: payout.id } },
          body: { method, date: day || null },
        }),
      ),
    enabled: method !== "",
    gcTime: 0,
    retry: false,
  });
  return (
    <FormAsk
      title={`Book ${payout.reference}?`}
      yes={`Book · ${net}`}
      close={close}
      fields={[
        {
          name: "method",
          label: "Came to",
          value: method,
          choices: methods.map((one): [string, string] => [one.code, `${one.place}, ${sentence(one.name)}`]),
          changed: setChosen,
        },
        {
          name: "date",
          label: "Date",
          kind: "date",
          hint: "Leave empty to use the day of the payment",
          changed: setDay,
        },
      ]}
      run={async (values, key) => {
        const booked = await got(
          api.POST("/api/card-payouts/{id}/book", {
            params: { path: { id: payout.id }, header: keyed(key) },
            body: {
              method: values.method ?? method,
              date: values.date || null,
              seen: preview.data?.fingerprint ?? null,
            },
          }),
        );
        say({ kind: "done", text: `${booked.number} is booked: ${net} is at the bank.` });
        await changed();
      }}
    >
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (
        <WhatItDoes
          does={{ ...preview.data, changes: [] }}
          entries={preview.data.entry ? [preview.data.entry] : []}
          height={210}
        />
      )}
    </FormAsk>
  );
}
