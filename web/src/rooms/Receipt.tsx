import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed, Problem } from "../api/client";
import type { ReceiptView } from "../api/types";
import { date, money, moneyWithCurrency, typedDecimal } from "../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, useToday, Wrong } from "../parts/bits";
import { DateField } from "../parts/DateField";
import { referenceOf, whereabouts } from "../parts/payment";
import { Paper, PostedEntries, TrailLines } from "../parts/TapeRoll";
import { OpenMark, RecordLines, useOpenElsewhere, useOpenHere } from "../parts/together";
import { placeOf } from "../places";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";
import { ApplyTable, asApplications, fieldErrors, MoneyTape, type Typed } from "./Applying";
import { TakeBackAsk, type TakingBack } from "./receipt/TakeBack";

export function ReceiptRoom() {
  const { id = "" } = useParams();
  const receipt = useQuery({
    queryKey: ["receipt", id],
    queryFn: () => got(api.GET("/api/receipts/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!receipt.data) {
    return (
      <Worktop title="Receipt" actions={[]} back="/receipts">
        {receipt.error && <Wrong error={receipt.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} receipt={receipt.data} />;
}

function Opened({ receipt }: { receipt: ReceiptView }) {
  const base = useBase();
  const today = useToday();
  useOpenHere("receipt", receipt.id);
  const openAt = useOpenElsewhere("receipt")(receipt.id);
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState<Typed>();
  const [when, setWhen] = useState("");
  const [asking, setAsking] = useState(false);
  const [back, setBack] = useState<TakingBack>();
  const [shows, setShows] = useState(receipt.unapplied > 0);
  const customer = useQuery({
    queryKey: ["customer", String(receipt.customer)],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: receipt.customer } } })),
    enabled: receipt.unapplied > 0,
  });
  const open = customer.data?.open_items.filter((item) => item.currency === receipt.currency) ?? [];
  const applying = receipt.unapplied > 0 && shows && open.length > 0;
  const body = { date: when || null, applications: asApplications(typed, typedDecimal) };
  const preview = useQuery({
    queryKey: ["apply-preview", receipt.id, receipt.version, body],
    queryFn: () =>
      got(api.POST("/api/receipts/{id}/applications/preview", { params: { path: { id: receipt.id } }, body })),
    enabled: applying,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = applying && !preview.error ? preview.data : undefined;
  const problem = preview.error instanceof Problem ? preview.error : null;
  const errors = fieldErrors(shown, problem);
  const stopped = !shown || preview.isFetching || shown.blockers.some((blocker) => blocker.effect === "stops");
  const all = shown ? shown.document.applied.reduce((sum, one) => sum + BigInt(one.credit_amount), 0n) : 0n;
  const total = shown ? moneyWithCurrency(Number(all), receipt.currency) : "";
  return (
    <Worktop
      title={receipt.number}
      sum={
        <>
          {receipt.customer_name} · {moneyWithCurrency(receipt.amount, receipt.currency)}
          <OpenMark names={openAt} />
        </>
      }
      back="/receipts"
      actions={[
        ...(receipt.unapplied > 0
          ? [
              {
                key: "p",
                label: applying ? `Apply ${total}` : open.length > 0 ? "Apply" : "Nothing open to apply to",
                run: () => (applying ? setAsking(true) : setShows(true)),
                primary: true,
                disabled: open.length === 0 || (applying && stopped),
                needs: "post_money" as const,
              },
            ]
          : []),
        {
          key: "n",
          label: receipt.reversed_on ? "Enter it again" : "New receipt",
          run: () =>
            navigate(
              receipt.reversed_on ? `/receipts/new?customer=${receipt.customer}&again=${receipt.id}` : "/receipts/new",
            ),
          primary: receipt.unapplied === 0,
          needs: "post_money",
        },
        ...(receipt.unapplied > 0
          ? [
              {
                key: "d",
                label: "Turn into a deposit",
                run: () => navigate(`/prepayments/new?customer=${receipt.customer}&receipt=${receipt.id}`),
                needs: "post_money" as const,
              },
            ]
          : []),
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${receipt.customer}`), quiet: true },
        // What was set aside is freed by its deposit.
        ...(receipt.applications.some((one) => one.document.kind !== "deposit")
          ? [{ key: "u", label: "Unapply", run: () => setBack("unapply"), needs: "take_back_money" as const }]
          : []),
        ...(receipt.reversed_on || receipt.whereabouts === "none"
          ? []
          : [{ key: "x", label: "Reverse receipt", run: () => setBack("reverse"), needs: "take_back_money" as const }]),
        ...(receipt.unapplied > 0
          ? [{ key: "e", label: "Entry and trail", run: () => setShows(!shows), quiet: false }]
          : []),
      ]}
      tape={
        applying ? (
          <MoneyTape preview={shown} />
        ) : (
          <Paper>
            <h2>
              {receipt.customer_name}
              <br />
              <span>
                {receipt.number}, {receipt.method} of {date(receipt.date)}
              </span>
            </h2>
            <div className="l">
              <span>Received</span>
              <span>{money(receipt.amount, receipt.currency)}</span>
            </div>
            {receipt.applications.map((one) => (
              <div className="l" key={one.id}>
                <span>to {one.document.number}</span>
                <span>{money(-one.amount, receipt.currency)}</span>
              </div>
            ))}
            <div className="l due">
              <span>Unapplied</span>
              <span>{money(receipt.unapplied, receipt.currency)}</span>
            </div>
            <div className="tear" />
            <PostedEntries entries={receipt.entries} base={base} />
            <TrailLines trail={receipt.trail} />
            <RecordLines kind="receipt" id={receipt.id} />
          </Paper>
        )
      }
    >
      <Facts
        facts={[
          ["Method", `${receipt.method}, ${receipt.reversed_on ? "reversed" : whereabouts(receipt)}`],
          ["Date", date(receipt.date)],
          ["Reference", referenceOf(receipt)],
          [
            "Unapplied",
            receipt.unapplied > 0 ? (
              <Marked key="u" className="heed">
                ▲ {money(receipt.unapplied, receipt.currency)}
              </Marked>
            ) : (
              <Marked key="u" className="done">
                ● none
              </Marked>
            ),
          ],
        ]}
      />
      {receipt.reversed_on && (
        <p style={{ margin: "0 0 10px" }}>
          Reversed on {date(receipt.reversed_on)}: {receipt.reversal_reason}. What it had settled is open again.
        </p>
      )}
      <Scroll>
        {receipt.applications.length > 0 && (
          <Lines label="Where it went">
            <thead>
              <tr>
                <th>Applied to</th>
                <th>On</th>
                <th className="right">Amount {receipt.currency}</th>
                <th className="right">Still open</th>
              </tr>
            </thead>
            <tbody>
              {receipt.applications.map((one) => (
                <tr key={one.id}>
                  <td>
                    <Link to={placeOf(one.document)}>{one.document.number}</Link>
                  </td>
                  <td className="dim">{date(one.date)}</td>
                  <td className="right">{money(one.amount, receipt.currency)}</td>
                  <td className="right">
                    {one.document.kind === "deposit" ? (
                      <span className="dim">set aside</span>
                    ) : one.open === 0 ? (
                      <Marked className="done">settled</Marked>
                    ) : (
                      money(one.open, one.currency)
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
        {receipt.unapplied > 0 && customer.data && (
          <>
            {open.length > 0 && (
              <div style={{ margin: "8px 0 12px" }}>
                <DateField
                  label="Apply on"
                  typed={when}
                  assumed={today}
                  onType={setWhen}
                  error={errors.date}
                  from="the business date"
                />
              </div>
            )}
            {errors.applications && (
              <p role="alert" style={{ margin: "0 0 8px" }}>
                <Wrong error={new Error(errors.applications)} />
              </p>
            )}
            <ApplyTable
              items={customer.data.open_items}
              currency={receipt.currency}
              typed={typed}
              setTyped={setTyped}
              preview={shown}
              errors={errors}
            />
          </>
        )}
      </Scroll>
      {back && <TakeBackAsk receipt={receipt} what={back} close={() => setBack(undefined)} />}
      {asking && shown && (
        <Ask
          title={`Apply ${total} of ${receipt.number}?`}
          yes={`Apply · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            await got(
              api.POST("/api/receipts/{id}/applications", {
                params: { path: { id: receipt.id }, header: keyed(key) },
                body: { ...body, version: receipt.version, seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `${total} of ${receipt.number} is applied.` });
            await changed();
          }}
        >
          {shown.document.applied
            .map((one) => `${moneyWithCurrency(one.credit_amount, receipt.currency)} to ${one.document.number}`)
            .join(", ")}
          .
        </Ask>
      )}
    </Worktop>
  );
}
