import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { InHandRow, SlipView } from "../../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency, plural, typedDecimal } from "../../format";
import { Facts, useBase, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Rows } from "../../parts/Rows";
import { Paper, PostedEntries, Tear, WhatItDoes } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { PaperSheet } from "../papers/Sheet";
import { inHandColumns, SlipMark } from "./parts";

const idOf = (row: InHandRow) => String(row.entry);

/** The paper that goes to the bank with the checks and the cash. */
function SlipPaper({ slip }: { slip: SlipView }) {
  const cash = slip.line_list.filter((one) => one.kind === "drawer");
  const inCash = cash.reduce((sum, one) => sum + BigInt(one.amount), 0n);
  return (
    <PaperSheet
      title={`Bank deposit slip ${slip.number}`}
      addresses={[
        ["To", { name: slip.bank_name, address: slip.bank_account?.replace(/(.{4})(?=.)/g, "$1 ") ?? "", country: "" }],
      ]}
      facts={[
        ["Date", date(slip.banked_on ?? slip.prepared_on)],
        ["Checks", String(slip.line_list.length - cash.length)],
        ["State", slip.canceled_on ? "canceled" : undefined],
      ]}
    >
      <table>
        <thead>
          <tr>
            <th>Check of</th>
            <th>Number</th>
            <th>Our number</th>
            <th className="right">Amount {slip.currency}</th>
          </tr>
        </thead>
        <tbody>
          {slip.line_list
            .filter((one) => one.kind !== "drawer")
            .map((one) => (
              <tr key={one.entry}>
                <td>{one.customer_name}</td>
                <td>{one.words}</td>
                <td>{one.document.number}</td>
                <td className="right">{money(one.amount, slip.currency)}</td>
              </tr>
            ))}
          {cash.length > 0 && (
            <tr>
              <td colSpan={3}>Cash</td>
              <td className="right">{money(Number(inCash), slip.currency)}</td>
            </tr>
          )}
        </tbody>
        <tfoot>
          <tr className="due">
            <td colSpan={3}>Total {slip.currency}</td>
            <td className="right">{money(slip.amount, slip.currency)}</td>
          </tr>
        </tfoot>
      </table>
      <div className="signed">
        <span>handed over by</span>
        <span>taken by the bank</span>
      </div>
    </PaperSheet>
  );
}

/** What the bank took, and what it counted. */
function BankAsk({ slip, close }: { slip: SlipView; close: () => void }) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const all = decimal(slip.amount, exponentOf(slip.currency));
  const [typed, setTyped] = useState({ counted: all, date: "" });
  const body = (values: Record<string, string>) => ({
    counted: typedDecimal(values.counted ?? "") || null,
    date: values.date || null,
  });
  const path = { id: slip.id };
  const wish = useSettled(JSON.stringify(body(typed)));
  const preview = useQuery({
    queryKey: ["bank-slip-bank", slip.id, wish],
    queryFn: () => got(api.POST("/api/bank-slips/{id}/bank/preview", { params: { path }, body: JSON.parse(wish) })),
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  return (
    <FormAsk
      title={`Was ${slip.number} taken to the bank?`}
      yes={`Banked${preview.data && !preview.error ? ` · ${moneyWithCurrency(preview.data.counted, slip.currency)}` : ""}`}
      close={close}
      fields={[
        {
          name: "counted",
          label: `Counted by the bank ${slip.currency}`,
          value: all,
          right: true,
          hint: "short or over is booked beside it",
          changed: (counted) => setTyped((before) => ({ ...before, counted })),
        },
        {
          name: "date",
          label: "Date",
          kind: "date",
          hint: "Leave empty to use the business date",
          changed: (date) => setTyped((before) => ({ ...before, date })),
        },
      ]}
      run={async (values, key) => {
        const now = body(values);
        const seen = await got(api.POST("/api/bank-slips/{id}/bank/preview", { params: { path }, body: now }));
        await got(
          api.POST("/api/bank-slips/{id}/bank", {
            params: { path, header: keyed(key) },
            body: { ...now, version: slip.version, seen: seen.fingerprint },
          }),
        );
        say({ kind: "done", text: `${moneyWithCurrency(seen.counted, slip.currency)} of ${slip.number} are banked.` });
        await changed();
      }}
    >
      Its money leaves the hand and is on its way; the bank statement clears it.
      {preview.data && !preview.error && (
        <WhatItDoes
          does={{ blockers: preview.data.blockers, changes: [] }}
          entries={preview.data.entry ? [preview.data.entry] : []}
          height={150}
        />
      )}
    </FormAsk>
  );
}

export function SlipRoom() {
  const { id = "" } = useParams();
  const slip = useQuery({
    queryKey: ["bank-slip", id],
    queryFn: () => got(api.GET("/api/bank-slips/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!slip.data) {
    return (
      <Worktop title="Bank deposit slip" actions={[]} back="/bank-slips">
        {slip.error && <Wrong error={slip.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} slip={slip.data} />;
}

function Opened({ slip }: { slip: SlipView }) {
  const today = useToday();
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState<"bank" | "cancel">();
  const [current, setCurrent] = useState<InHandRow>();
  const prepared = slip.state === "prepared";
  return (
    <Worktop
      title={slip.number}
      sum={`${moneyWithCurrency(slip.amount, slip.currency)} to ${slip.bank_name} · ${plural(slip.lines, "line", "lines")}`}
      back="/bank-slips"
      actions={[
        ...(prepared
          ? [
              {
                key: "p",
                label: "It is banked…",
                run: () => setAsking("bank"),
                primary: true,
                needs: "post_money" as const,
              },
            ]
          : []),
        { key: "w", label: "Print", run: () => window.print() },
        ...(prepared || slip.state === "banked"
          ? [{ key: "x", label: "Cancel slip…", run: () => setAsking("cancel"), needs: "take_back_money" as const }]
          : []),
        {
          key: "Enter",
          label: current ? `Open ${current.document.number}` : "Open",
          run: () => current && navigate(placeOf(current.document)),
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <Paper>
          <h2>
            {slip.bank_name}
            <br />
            <span>
              {slip.number}, prepared on {date(slip.prepared_on)}
            </span>
          </h2>
          <div className="l">
            <span>On the slip</span>
            <span>{money(slip.amount, slip.currency)}</span>
          </div>
          {slip.counted != null && slip.counted !== slip.amount && (
            <div className="l">
              <span>{slip.counted < slip.amount ? "counted short" : "counted over"}</span>
              <span>{money(slip.counted - slip.amount, slip.currency)}</span>
            </div>
          )}
          <div className="l due">
            <span>{slip.counted == null ? "To the bank" : "Banked"}</span>
            <span>{money(slip.counted ?? slip.amount, slip.currency)}</span>
          </div>
          {slip.entries.length > 0 && (
            <>
              <Tear />
              <PostedEntries entries={slip.entries} base={base} />
            </>
          )}
          <RecordLines kind="bank_slip" id={slip.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["State", <SlipMark key="s" state={slip.state} />],
          ["Prepared", date(slip.prepared_on)],
          ["Taken to the bank", slip.banked_on ? date(slip.banked_on) : "not yet"],
          ["Account", slip.bank_account?.replace(/(.{4})(?=.)/g, "$1 ") ?? slip.bank_name],
        ]}
      />
      {slip.canceled_on && (
        <p style={{ margin: "0 0 10px" }}>
          Canceled on {date(slip.canceled_on)}: {slip.cancel_reason}. What stood on it is in hand.
        </p>
      )}
      <Rows
        label="On the slip"
        rows={slip.line_list}
        idOf={idOf}
        columns={inHandColumns(today)}
        onCurrent={setCurrent}
        onOpen={(one) => navigate(placeOf(one.document))}
        empty="Nothing stands on it."
      />
      <SlipPaper slip={slip} />
      {asking === "bank" && <BankAsk slip={slip} close={() => setAsking(undefined)} />}
      {asking === "cancel" && (
        <FormAsk
          title={`Cancel ${slip.number}?`}
          yes="Cancel the slip"
          no="Close"
          close={() => setAsking(undefined)}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          run={async (values, key) => {
            await got(
              api.POST("/api/bank-slips/{id}/cancel", {
                params: { path: { id: slip.id }, header: keyed(key) },
                body: { version: slip.version, reason: values.reason ?? "", date: null },
              }),
            );
            say({ kind: "done", text: `${slip.number} is canceled: what stood on it is in hand.` });
            await changed();
          }}
        >
          {prepared
            ? "What stands on it is in hand again, for another slip."
            : "Its entry is turned round: what stands on it is in hand again."}
        </FormAsk>
      )}
    </Worktop>
  );
}
