import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { DepositView } from "../../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency, typedDecimal } from "../../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, Wrong } from "../../parts/bits";
import { PrintedPaper, usePapersReady } from "../../parts/PrintedPaper";
import { referenceOf, whereabouts } from "../../parts/payment";
import { Paper, PostedEntries, TapeLines, TrailLines } from "../../parts/TapeRoll";
import {
  ApprovalStrip,
  OpenMark,
  RecordLines,
  useApprovals,
  useOpenElsewhere,
  useOpenHere,
} from "../../parts/together";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { ApplyTable, asApplications, fieldErrors, MoneyTape, type Typed } from "../Applying";
import { RegisterLines, whyNow } from "./Deposits";
import { DepositAsk, type DepositStep, standingEnds } from "./steps";

export function DepositRoom() {
  const { id = "" } = useParams();
  const deposit = useQuery({
    queryKey: ["deposit", id],
    queryFn: () => got(api.GET("/api/deposits/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!deposit.data) {
    return (
      <Worktop title="Deposit" actions={[]} back="/prepayments">
        {deposit.error && <Wrong error={deposit.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} deposit={deposit.data} />;
}

function Opened({ deposit }: { deposit: DepositView }) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  useOpenHere("deposit", deposit.id);
  const openAt = useOpenElsewhere("deposit")(deposit.id);
  const approvals = useApprovals("deposit", deposit.id);
  const papersReady = usePapersReady();
  const [step, setStep] = useState<DepositStep>();
  // Offered for an invoice, it opens where it is applied, to that invoice.
  const [params] = useSearchParams();
  const offeredFor = params.get("apply");
  const [applying, setApplying] = useState(offeredFor !== null && deposit.held > 0);
  const [said, setTyped] = useState<Typed>();
  const [asking, setAsking] = useState(false);
  const held = deposit.held > 0;
  const customer = useQuery({
    queryKey: ["customer", String(deposit.customer)],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: deposit.customer } } })),
    enabled: held && applying,
  });
  const wanted = customer.data?.open_items.find(
    (item) => item.document.kind === "invoice" && String(item.document.id) === offeredFor,
  );
  const whole = wanted && decimal(Math.min(wanted.open, deposit.held), exponentOf(deposit.currency));
  const typed = said ?? (wanted && whole ? { [wanted.item]: { amount: whole } } : undefined);
  const body = { date: null, applications: asApplications(typed, typedDecimal) };
  const preview = useQuery({
    queryKey: ["apply-deposit", deposit.id, deposit.version, body],
    queryFn: () =>
      got(api.POST("/api/deposits/{id}/applications/preview", { params: { path: { id: deposit.id } }, body })),
    enabled: held && applying,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = applying && !preview.error ? preview.data : undefined;
  const errors = fieldErrors(shown, preview.error instanceof Problem ? preview.error : null);
  const stopped = !shown || preview.isFetching || shown.blockers.some((blocker) => blocker.effect === "stops");
  const all = shown ? shown.document.applied.reduce((sum, one) => sum + BigInt(one.credit_amount), 0n) : 0n;
  const total = shown ? moneyWithCurrency(Number(all), deposit.currency) : "";
  const applied = deposit.applications.length > 0;
  const untouched = deposit.held === deposit.taken;
  return (
    <Worktop
      title={deposit.number}
      sum={
        <>
          {deposit.customer_name} · {moneyWithCurrency(deposit.taken, deposit.currency)}{" "}
          {deposit.order_number || deposit.quote_number
            ? `for ${deposit.order_number ?? deposit.quote_number}`
            : "on account"}
          <OpenMark names={openAt} />
        </>
      }
      back="/prepayments"
      actions={[
        ...(held && applying
          ? [
              {
                key: "p",
                label: `Apply ${total}`,
                run: () => setAsking(true),
                primary: true,
                disabled: stopped,
                needs: "post_money" as const,
              },
            ]
          : []),
        ...(held
          ? [
              {
                key: "a",
                label: applying ? "Show the deposit" : "Apply",
                run: () => setApplying(!applying),
                primary: !applying,
                needs: "post_money" as const,
              },
              { key: "m", label: "Move", run: () => setStep("move"), needs: "post_money" as const },
              { key: "f", label: "Refund", run: () => setStep("refund"), needs: "refund_deposit" as const },
              { key: "k", label: "Keep as income", run: () => setStep("keep"), needs: "keep_deposit" as const },
            ]
          : []),
        ...(applied
          ? [
              {
                key: "u",
                label: "Unapply",
                run: () => setStep("unapply"),
                primary: !held,
                needs: "take_back_money" as const,
              },
            ]
          : []),
        ...(held && untouched && !deposit.reversed_on
          ? [{ key: "x", label: "Reverse", run: () => setStep("reverse"), needs: "take_back_money" as const }]
          : standingEnds(deposit).length > 0
            ? [
                {
                  key: "x",
                  label: "Reverse a refund…",
                  run: () => setStep("undo"),
                  needs: "take_back_money" as const,
                },
              ]
            : []),
        {
          key: "w",
          label: "Print the receipt",
          run: () => window.print(),
          disabled: !papersReady,
          quiet: true,
        },
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${deposit.customer}`), quiet: true },
      ]}
      tape={
        applying ? (
          <MoneyTape preview={shown} />
        ) : (
          <Paper>
            <TapeLines tape={deposit.tape} />
            <h3>Since</h3>
            <RegisterLines row={deposit} />
            <div className="tear" />
            <PostedEntries entries={deposit.entries} base={base} />
            <TrailLines trail={deposit.trail} />
            <RecordLines kind="deposit" id={deposit.id} />
          </Paper>
        )
      }
    >
      <PrintedPaper kind="deposit" id={deposit.id} />
      <Facts
        facts={[
          deposit.made_of
            ? [
                "Made of",
                <Link key="m" to={placeOf(deposit.made_of)}>
                  {deposit.made_of.number}, {deposit.method}
                </Link>,
              ]
            : ["Method", `${deposit.method}, ${whereabouts(deposit)}`],
          ["Date", date(deposit.date)],
          ["Reference", referenceOf(deposit)],
          [
            "Held",
            held ? (
              <Marked key="h" className={whyNow(deposit) ? "heed" : undefined}>
                {whyNow(deposit) && "▲ "}
                {money(deposit.held, deposit.currency)}
              </Marked>
            ) : (
              <Marked key="h" className="done">
                ● nothing
              </Marked>
            ),
          ],
        ]}
      />
      <ApprovalStrip approvals={approvals} />
      {deposit.memo && <p style={{ margin: "0 0 8px" }}>{deposit.memo}</p>}
      {whyNow(deposit) && (
        <p style={{ margin: "0 0 8px", color: "var(--heed)" }}>
          ▲ {whyNow(deposit)}. Apply, move, refund or keep what is held, so that nothing is left hanging.
        </p>
      )}
      {deposit.reversed_on && (
        <p style={{ margin: "0 0 10px" }}>
          Reversed on {date(deposit.reversed_on)}: {deposit.reversal_reason}.
        </p>
      )}
      {!held && applied && (
        <p style={{ margin: "0 0 8px" }} className="dim">
          An applied deposit is not edited. Unapply it first: then it can be moved, refunded or kept.
        </p>
      )}
      <Scroll>
        {!applying && <Happened deposit={deposit} />}
        {applying && customer.data && (
          <>
            {(errors.applications || errors.date) && (
              <p role="alert" style={{ margin: "0 0 8px" }}>
                <Wrong error={new Error(errors.applications ?? errors.date ?? "")} />
              </p>
            )}
            <ApplyTable
              items={customer.data.open_items.filter((item) => item.customer === deposit.customer)}
              currency={deposit.currency}
              typed={typed}
              setTyped={setTyped}
              preview={shown}
              errors={errors}
            />
          </>
        )}
      </Scroll>
      {step && <DepositAsk deposit={deposit} step={step} close={() => setStep(undefined)} />}
      {asking && shown && (
        <Ask
          title={`Apply ${total} of ${deposit.number}?`}
          yes={`Apply · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            await got(
              api.POST("/api/deposits/{id}/applications", {
                params: { path: { id: deposit.id }, header: keyed(key) },
                body: { ...body, version: deposit.version, seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `${total} of ${deposit.number} is applied.` });
            setApplying(false);
            setTyped(undefined);
            await changed();
          }}
        >
          {shown.document.applied
            .map((one) => `${moneyWithCurrency(one.credit_amount, deposit.currency)} to ${one.document.number}`)
            .join(", ")}
          .
        </Ask>
      )}
    </Worktop>
  );
}

/** What became of a deposit: applied, refunded, kept, moved. */
function Happened({ deposit }: { deposit: DepositView }) {
  const rows = [
    ...deposit.applications.map((one) => ({
      key: `a${one.id}`,
      what: (
        <>
          applied to <Link to={placeOf(one.document)}>{one.document.number}</Link>
        </>
      ),
      date: one.date,
      tax: one.taxes.reduce((sum, held) => sum + held.tax, 0),
      amount: one.amount,
      note: "",
    })),
    ...deposit.ends.map((one) => ({
      key: one.number,
      what: `${one.kind === "refunded" ? "refunded" : "kept as income"} with ${one.number}${one.method ? `, ${one.method}` : ""}${one.reversed_on ? `, reversed on ${date(one.reversed_on)}` : ""}`,
      date: one.date,
      tax: 0,
      amount: one.reversed_on ? 0 : one.amount,
      note: one.reversal_reason ?? one.reason,
    })),
    ...deposit.moves.map((one, at) => ({
      key: `m${at}`,
      what: `moved from ${one.from ?? "on account"} to ${one.to ?? "on account"}`,
      date: one.date,
      tax: 0,
      amount: one.amount,
      note: one.reason,
    })),
  ];
  if (rows.length === 0) {
    return <p className="dim">Nothing was done with it yet. {whatComes(deposit)}</p>;
  }
  return (
    <Lines label="What became of it">
      <thead>
        <tr>
          <th>What became of it</th>
          <th>On</th>
          <th>Why</th>
          <th className="right">Tax in it</th>
          <th className="right">Amount {deposit.currency}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.key}>
            <td>{row.what}</td>
            <td className="dim">{date(row.date)}</td>
            <td className="dim">{row.note}</td>
            <td className="right dim">{row.tax !== 0 && money(row.tax, deposit.currency)}</td>
            <td className="right">{money(row.amount, deposit.currency)}</td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}

/** What becomes of a deposit by itself. */
function whatComes(deposit: DepositView): string {
  if (whyNow(deposit)) {
    return "";
  }
  if (deposit.order_number) {
    return `It is applied by itself as ${deposit.order_number} is billed.`;
  }
  return deposit.quote_number
    ? `It follows ${deposit.quote_number} into its order.`
    : "It is offered on each draft for this customer.";
}
