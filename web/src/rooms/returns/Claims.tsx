import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { ClaimView } from "../../api/types";
import { date, decimal, exponentOf, money, plural, shortDate, typedDecimal } from "../../format";
import { Chips, Marked, RoomLinks, useBase, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { usePaymentMethods } from "../../parts/methods";
import { type Column, Rows } from "../../parts/Rows";
import { Paper, WhatItDoes } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { returnLinks } from "./Returns";

/** What suppliers are to credit for goods that went back to them: paid, refused, or still open. */
export function ClaimsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const [currentId, setCurrentId] = useState<number>();
  const [asking, setAsking] = useState<"answer" | "reverse">();
  const found = useQuery({ queryKey: ["claims"], queryFn: () => got(api.GET("/api/claims")) });
  const claims = found.data?.claims ?? [];
  const current = claims.find((one) => one.id === currentId);
  const open = claims.filter((one) => one.open > 0).length;
  const standing = current?.answers.filter((one) => !one.reversed_on) ?? [];
  const columns: Column<ClaimView>[] = [
    {
      key: "return",
      sort: (one) => one.returned.number,
      head: "Return",
      width: "66px",
      cell: (one) => one.returned.number,
    },
    {
      key: "item",
      sort: (one) => one.code,
      head: "Item",
      width: "minmax(0, 1fr)",
      cell: (one) => (
        <>
          <b>{one.code}</b> {one.description}
        </>
      ),
    },
    { key: "since", sort: (one) => one.date, head: "Since", width: "78px", cell: (one) => shortDate(one.date, today) },
    { key: "days", sort: (one) => one.age, head: "Days", width: "52px", right: true, cell: (one) => String(one.age) },
    {
      key: "claimed",
      sort: (one) => one.claimed,
      head: `Claimed ${base}`,
      width: "104px",
      right: true,
      cell: (one) => money(one.claimed, base),
    },
    {
      key: "paid",
      head: "Paid",
      width: "84px",
      right: true,
      cell: (one) => one.settled > 0 && money(one.settled, base),
    },
    {
      key: "refused",
      head: "Refused",
      width: "84px",
      right: true,
      cell: (one) => one.refused > 0 && money(one.refused, base),
    },
    {
      key: "open",
      head: "Still claimed",
      width: "84px",
      right: true,
      cell: (one) =>
        one.open > 0 ? (
          <Marked className="heed">{money(one.open, base)}</Marked>
        ) : (
          <Marked className="done">answered</Marked>
        ),
    },
  ];
  return (
    <Worktop
      title="Claims on suppliers"
      sum={found.data && `${plural(open, "open claim", "open claims")} · ${money(found.data.open, base)} ${base} open`}
      back="/returns"
      actions={[
        {
          key: "p",
          label: "Enter the answer",
          run: () => setAsking("answer"),
          primary: true,
          disabled: !current || current.open === 0,
          needs: "answer_claim",
        },
        {
          key: "x",
          label: "Reverse the answer…",
          run: () => setAsking("reverse"),
          disabled: standing.length === 0,
          needs: "answer_claim",
        },
        {
          key: "Enter",
          label: current ? `Open ${current.returned.number}` : "Open",
          run: () => current && navigate(placeOf(current.returned)),
          disabled: !current,
          quiet: true,
          shownOnly: true,
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.returned.number}, {current.code}
              <br />
              <span>claim of {date(current.date)}</span>
            </h2>
            <div className="l">
              <span>Claimed</span>
              <span>{money(current.claimed, base)}</span>
            </div>
            {current.answers.map((one) => (
              <div key={one.id}>
                <h3>
                  Answer {date(one.date)} <Link to={placeOf(one.entry)}>{one.entry.number}</Link>
                </h3>
                {one.settled > 0 && (
                  <div className="l">
                    <span>paid{one.reference ? `, ${one.reference}` : ""}</span>
                    <span>{money(-one.settled, base)}</span>
                  </div>
                )}
                {one.refused > 0 && (
                  <div className="l">
                    <span>refused: a loss</span>
                    <span>{money(-one.refused, base)}</span>
                  </div>
                )}
                {one.reversed_on && (
                  <div className="words stop">
                    reversed {date(one.reversed_on)}: {one.reversal_reason}
                  </div>
                )}
              </div>
            ))}
            <div className="l due">
              <span>Open</span>
              <span>{money(current.open, base)}</span>
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={returnLinks} />
      </Chips>
      {found.error && <Wrong error={found.error} />}
      {found.data && claims.length === 0 ? (
        <p>
          Nothing is claimed of suppliers. A claim begins with the inspection of a return: give back to the supplier
          what they are to credit.
        </p>
      ) : (
        <Rows
          label="Claims"
          rows={claims}
          idOf={(one) => String(one.id)}
          columns={columns}
          onOpen={(one) => navigate(placeOf(one.returned))}
          onCurrent={(one) => setCurrentId(one?.id)}
          empty=""
        />
      )}
      {asking === "answer" && current && <AnswerAsk claim={current} close={() => setAsking(undefined)} />}
      {asking === "reverse" && current && <ReverseAnswerAsk claim={current} close={() => setAsking(undefined)} />}
    </Worktop>
  );
}

/** What the supplier pays, and what they refuse. */
function AnswerAsk({ claim, close }: { claim: ClaimView; close: () => void }) {
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const methods = usePaymentMethods().filter((one) => one.kind === "bank" && (!one.currency || one.currency === base));
  const whole = decimal(claim.open, exponentOf(base));
  const [settled, setSettled] = useState(whole);
  const [refused, setRefused] = useState("");
  const [chosen, setMethod] = useState<string>();
  const [day, setDay] = useState("");
  const path = { id: claim.id };
  const body = {
    settled: typedDecimal(settled) || null,
    refused: typedDecimal(refused) || null,
    method: chosen ?? methods[0]?.code ?? null,
    date: day || null,
  };
  const asked = useSettled(JSON.stringify(body));
  const preview = useQuery({
    queryKey: ["claims", "preview", claim.id, claim.open, asked],
    queryFn: () => got(api.POST("/api/claims/{id}/answer/preview", { params: { path }, body: JSON.parse(asked) })),
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const shown = preview.error ? undefined : preview.data;
  return (
    <FormAsk
      title={`The supplier's answer to the claim on ${claim.code}`}
      yes="Enter it"
      close={close}
      fields={[
        {
          name: "settled",
          label: `Paid, ${base}`,
          value: whole,
          right: true,
          hint: `${money(claim.open, base)} ${base} are open`,
          changed: setSettled,
        },
        {
          name: "method",
          label: "Paid by",
          value: methods[0]?.code ?? "",
          choices: methods.map((one): [string, string] => [one.code, one.name]),
          changed: setMethod,
        },
        {
          name: "refused",
          label: `Refused, ${base}`,
          right: true,
          hint: "what they will not pay: a loss",
          changed: setRefused,
        },
        { name: "reference", label: "Number of their credit memo" },
        { name: "date", label: "Date, if not the business date", kind: "date", changed: setDay },
      ]}
      run={async (values, key) => {
        if (!shown || asked !== JSON.stringify(body)) {
          throw preview.error instanceof Problem
            ? preview.error
            : new Problem({ title: "One moment, then try again." });
        }
        const done = await got(
          api.POST("/api/claims/{id}/answer", {
            params: { path, header: keyed(key) },
            body: { ...body, reference: values.reference || null, seen: shown.fingerprint },
          }),
        );
        say({
          kind: "done",
          text:
            done.open === 0
              ? `The claim on ${claim.code} of ${claim.returned.number} is answered.`
              : `${money(done.open, base)} ${base} of the claim on ${claim.code} stay open.`,
        });
        await changed();
      }}
    >
      {shown && (
        <WhatItDoes
          does={{ blockers: shown.blockers, changes: shown.changes }}
          entries={shown.entry ? [shown.entry] : []}
          height={170}
        />
      )}
    </FormAsk>
  );
}

/** Reverses an answer that was entered in error. */
function ReverseAnswerAsk({ claim, close }: { claim: ClaimView; close: () => void }) {
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const standing = claim.answers.filter((one) => !one.reversed_on);
  return (
    <FormAsk
      title="Reverse an answer?"
      yes="Reverse the answer"
      no="Close"
      close={close}
      fields={[
        {
          name: "answer",
          label: "Answer",
          value: String(standing[standing.length - 1]?.id ?? ""),
          choices: standing.map((one): [string, string] => [
            String(one.id),
            `${date(one.date)}: ${money(one.settled, base)} paid, ${money(one.refused, base)} refused`,
          ]),
        },
        { name: "reason", label: "Why", kind: "words" },
        { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the business date" },
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/claims/answers/{id}/reverse", {
            params: { path: { id: Number(values.answer) }, header: keyed(key) },
            body: { reason: values.reason ?? "", date: values.date || null },
          }),
        );
        say({ kind: "done", text: `The claim on ${claim.code} of ${claim.returned.number} is open again.` });
        await changed();
      }}
    >
      For an answer that was entered in error. The entry is turned round, the claim is open again.
    </FormAsk>
  );
}
