import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { BankLineView, ProposalView, StatementView, ToAccept } from "../../api/types";
import { date, money, moneyWithCurrency, plural, shortDate } from "../../format";
import {
  Chips,
  Marked,
  StateChips,
  useBase,
  useEverythingChanged,
  useFilter,
  useSettled,
  useToday,
  Wrong,
} from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { type Column, Rows } from "../../parts/Rows";
import { BlockerLines, ChangeLines, EntryLines, Paper, PostedEntries, Tear } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { BookAsk, ChargeAsk, PaidByAsk } from "./asks";
import { FindAsk } from "./FindAsk";
import { certainties, reasons } from "./words";

/** What a proposal would do, as it stands now. */
function useAccepting(line: BankLineView | undefined, proposal: ProposalView | undefined) {
  const wish = useSettled(line && proposal ? JSON.stringify([line.id, proposal.accept]) : "");
  const preview = useQuery({
    queryKey: ["bank-line", "accept", wish],
    queryFn: () => {
      const [id, body] = JSON.parse(wish) as [number, ToAccept];
      return got(api.POST("/api/bank-lines/{id}/accept/preview", { params: { path: { id } }, body }));
    },
    enabled: wish !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const settled = line && proposal && wish === JSON.stringify([line.id, proposal.accept]);
  return {
    shown: settled && !preview.isFetching && !preview.error ? preview.data : undefined,
    problem: settled && preview.error instanceof Problem ? preview.error : undefined,
  };
}

export function StatementRoom() {
  const { id = "" } = useParams();
  const [state] = useFilter("state");
  const open = state === "open";
  const statement = useQuery({
    queryKey: ["bank-statement", id, open],
    queryFn: () => got(api.GET("/api/bank-statements/{id}", { params: { path: { id: Number(id) }, query: { open } } })),
    placeholderData: keepPreviousData,
  });
  if (!statement.data) {
    return (
      <Worktop title="Bank statement" actions={[]} back="/bank">
        {statement.error && <Wrong error={statement.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} statement={statement.data} />;
}

/** What a line is: what it is cleared against, or what it may be. */
function What({ line, currency }: { line: BankLineView; currency: string }) {
  const best = line.proposals[0];
  if (line.matches.length > 0) {
    return (
      <>
        {line.matches.map((one) => one.customer_name ?? one.document.number).join(", ")}
        {line.left !== 0 && <span className="dim"> · {money(line.left, currency)} left</span>}
      </>
    );
  }
  return best ? best.words : <span className="dim">nothing known fits</span>;
}

function How({ line }: { line: BankLineView }) {
  if (line.left === 0) {
    return <Marked className="done">● cleared</Marked>;
  }
  const best = line.proposals[0];
  if (line.matches.length > 0 || !best) {
    return <Marked className="heed">▲ open</Marked>;
  }
  return <Marked className={best.certainty === "sure" ? "done" : "dim"}>{certainties[best.certainty]}</Marked>;
}

function Opened({ statement }: { statement: StatementView }) {
  const today = useToday();
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const { currency } = statement;
  const [currentId, setCurrentId] = useState<number>();
  const [turn, setTurn] = useState(0);
  const [asking, setAsking] = useState<"sure" | "find" | "paid" | "book" | "charge" | "undo">();
  const lines = statement.line_list;
  const line = lines.find((one) => one.id === currentId) ?? lines[0];
  const proposal = line && line.proposals.length > 0 ? line.proposals[turn % line.proposals.length] : undefined;
  const { shown, problem } = useAccepting(line, proposal);
  const stopped = !shown || shown.blockers.some((blocker) => blocker.effect === "stops");
  const matched = line?.matches[line.matches.length - 1];
  const columns: Column<BankLineView>[] = [
    { key: "place", head: "Line", width: "48px", right: true, cell: (one) => String(one.place) },
    { key: "day", head: "Booked", width: "76px", cell: (one) => shortDate(one.booked_on, today) },
    {
      key: "who",
      head: "From the bank",
      width: "minmax(0, 1fr)",
      cell: (one) => (
        <>
          <b>{one.party ?? ""}</b> <span className="dim">{[one.reference, one.words].filter(Boolean).join(" ")}</span>
        </>
      ),
    },
    {
      key: "amount",
      head: `Amount ${currency}`,
      width: "108px",
      right: true,
      cell: (one) => money(one.amount, currency),
    },
    {
      key: "what",
      head: "In the books",
      width: "minmax(0, 0.95fr)",
      cell: (one) => <What line={one} currency={currency} />,
    },
    { key: "how", head: "", width: "88px", cell: (one) => <How line={one} /> },
  ];
  const [failed, setFailed] = useState<Problem>();
  // The same key for every try of what is in view, so that a lost answer doubles nothing; another one for what comes next, so
  // that a line that was opened again can be accepted again.
  const key = useRef(newKey());
  const choose = (one: BankLineView | undefined) => {
    setCurrentId(one?.id);
    setTurn(0);
    setFailed(undefined);
    key.current = newKey();
  };
  const sent = async (key: string, id: number, wish: ToAccept, seen: string) => {
    const done = await got(
      api.POST("/api/bank-lines/{id}/accept", {
        params: { path: { id }, header: keyed(key) },
        body: { ...wish, seen },
      }),
    );
    say({ kind: "done", text: `Line ${line?.place} is cleared as ${done.document.number}.` });
    // The next line that is open comes under the cursor.
    const at = lines.findIndex((one) => one.id === id);
    const next = [...lines.slice(at + 1), ...lines.slice(0, at)].find((one) => one.left !== 0);
    await changed();
    choose(next);
  };
  const [accepting, setAccepting] = useState(false);
  const accept = async () => {
    if (!line || !proposal || !shown) {
      return;
    }
    setAccepting(true);
    setFailed(undefined);
    try {
      await sent(key.current, line.id, proposal.accept, shown.fingerprint);
      key.current = newKey();
    } catch (error) {
      const problem = error instanceof Problem ? error : new Problem({ title: String(error) });
      if (problem.code !== "unreachable") {
        key.current = newKey();
      }
      setFailed(problem);
    } finally {
      setAccepting(false);
    }
  };
  return (
    <Worktop
      title={statement.number}
      sum={`${statement.place_name}, ${date(statement.until)} · ${plural(statement.open, "line", "lines")} of ${statement.lines} open`}
      back="/bank"
      actions={[
        {
          key: "p",
          label: proposal ? `Accept · ${proposal.words}` : "Accept",
          run: accept,
          primary: true,
          disabled: stopped || accepting,
          needs: "post_money",
        },
        {
          key: "a",
          label: `Accept ${statement.sure} sure · ${money(statement.sure_amount, currency)}`,
          run: () => setAsking("sure"),
          disabled: statement.sure === 0,
          needs: "post_money",
        },
        {
          key: "v",
          label: line
            ? `Suggestion ${(turn % Math.max(line.proposals.length, 1)) + 1} of ${line.proposals.length}`
            : "Suggestion",
          run: () => {
            setTurn((now) => now + 1);
            key.current = newKey();
          },
          disabled: !line || line.proposals.length < 2,
        },
        ...(proposal?.accept.as === "returned"
          ? [
              {
                key: "c",
                label: "Accept and charge it on…",
                run: () => setAsking("charge"),
                needs: "post_money" as const,
              },
            ]
          : []),
        {
          key: "f",
          label: "Find what it is…",
          run: () => setAsking("find"),
          disabled: !line || line.left === 0,
          needs: "post_money",
        },
        {
          key: "r",
          label: "Receipt of…",
          run: () => setAsking("paid"),
          disabled: !line || line.left <= 0,
          needs: "post_money",
        },
        {
          key: "b",
          label: "Book to…",
          run: () => setAsking("book"),
          disabled: !line || line.left === 0,
          needs: "post_money",
        },
        { key: "x", label: "Undo…", run: () => setAsking("undo"), disabled: !matched, needs: "take_back_money" },
        {
          key: "Enter",
          label: matched ? `Open ${matched.document.number}` : "Open",
          run: () => matched && navigate(placeOf(matched.document)),
          disabled: !matched || matched.document.kind === "bank_statement",
          quiet: true,
          shownOnly: true,
        },
      ]}
      tape={
        line && (
          <Paper>
            <h2>
              {line.party ?? "Line of the bank"}
              <br />
              <span>
                line {line.place}, {date(line.booked_on)}
              </span>
            </h2>
            <div className="l">
              <span>Booked by the bank</span>
              <span>{money(line.amount, currency)}</span>
            </div>
            {line.reference && <div className="detail">reference {line.reference}</div>}
            {line.words && <div className="detail">“{line.words}”</div>}
            {line.advised > 0 && (
              <div className="detail">its remittance advice names {plural(line.advised, "document", "documents")}</div>
            )}
            {line.party_account && (
              <div className="detail">account {line.party_account.replace(/(.{4})(?=.)/g, "$1 ")}</div>
            )}
            {line.matches.map((one) => (
              <div className="l" key={one.id}>
                <Link to={placeOf(one.document)}>{one.document.number}</Link>
                <span>{money(-one.amount, currency)}</span>
              </div>
            ))}
            <div className="l due">
              <span>{line.left === 0 ? "Cleared" : "Left"}</span>
              <span>{money(line.left, currency)}</span>
            </div>
            {proposal && (
              <>
                <h3>
                  {proposal.words} · {certainties[proposal.certainty]}
                </h3>
                <div className="words">{proposal.because.map((why) => reasons[why]).join("; ")}.</div>
              </>
            )}
            {problem && <div className="words stop">{problem.message}</div>}
            {failed && (
              <div className="words stop" role="alert">
                {failed.message}
              </div>
            )}
            {shown && (
              <>
                <BlockerLines blockers={shown.blockers} />
                <ChangeLines changes={shown.changes} base={base} />
                {shown.entry && (
                  <>
                    <Tear />
                    <EntryLines
                      entry={shown.entry}
                      base={base}
                      title={
                        proposal?.accept.as === "clears" && !proposal.accept.counted
                          ? "Entry that is there"
                          : "Entry when accepted"
                      }
                    />
                  </>
                )}
                {shown.beside.map((entry) => (
                  <EntryLines key={entry.text} entry={entry} base={base} title={entry.text} />
                ))}
              </>
            )}
            {line.matches.some((one) => one.how === "booked") && (
              <>
                <Tear />
                <PostedEntries entries={statement.entries} base={base} />
              </>
            )}
            <RecordLines kind="bank_statement" id={statement.id} />
          </Paper>
        )
      }
    >
      <Chips>
        <StateChips
          name="state"
          choices={[
            ["", "All lines"],
            ["open", "Open"],
          ]}
        />
        <span className="dim">
          {money(statement.opening, currency)} before, {money(statement.closing, currency)} after
        </span>
      </Chips>
      <Rows
        label="Lines"
        rows={lines}
        idOf={(one) => String(one.id)}
        columns={columns}
        onCurrent={choose}
        onOpen={(one) => {
          const first = one.matches[0];
          if (first && first.document.kind !== "bank_statement") {
            navigate(placeOf(first.document));
          }
        }}
        empty="Every line of this statement is cleared."
      />
      {asking === "sure" && (
        <Ask
          title={`Accept ${plural(statement.sure, "line that is sure", "lines that are sure")}?`}
          yes={`Accept ${statement.sure} · ${moneyWithCurrency(statement.sure_amount, currency)}`}
          close={() => setAsking(undefined)}
          run={async (key) => {
            const done = await got(
              api.POST("/api/bank-statements/{id}/accept-sure", {
                params: { path: { id: statement.id }, header: keyed(key) },
                body: { seen: statement.sure_mark },
              }),
            );
            const left = done.left.map(([place, why]) => ` Line ${place}: ${why}`).join("");
            say({
              kind: "done",
              text: `${plural(done.accepted, "line is", "lines are")} cleared, ${plural(done.receipts, "receipt", "receipts")} posted.${left}`,
            });
            await changed();
          }}
        >
          Sure is what names what it pays and comes to it exactly, what a known account pays exactly, and what the books
          expected. Each becomes a receipt of its own day, or is cleared; any can be undone.
        </Ask>
      )}
      {asking === "find" && line && (
        <FindAsk
          line={line}
          currency={currency}
          close={() => setAsking(undefined)}
          run={(key, wish, seen) => sent(key, line.id, wish, seen)}
        />
      )}
      {asking === "paid" && line && (
        <PaidByAsk
          line={line}
          currency={currency}
          close={() => setAsking(undefined)}
          run={(key, wish, seen) => sent(key, line.id, wish, seen)}
        />
      )}
      {asking === "book" && line && (
        <BookAsk
          line={line}
          currency={currency}
          close={() => setAsking(undefined)}
          run={(key, wish, seen) => sent(key, line.id, wish, seen)}
        />
      )}
      {asking === "charge" && line && proposal?.accept.as === "returned" && (
        <ChargeAsk
          line={line}
          receipt={proposal.accept.receipt}
          words={proposal.words}
          currency={currency}
          close={() => setAsking(undefined)}
          run={(key, wish, seen) => sent(key, line.id, wish, seen)}
        />
      )}
      {asking === "undo" && line && matched && (
        <FormAsk
          title={`Undo line ${line.place}, ${matched.document.number}?`}
          yes="Undo"
          close={() => setAsking(undefined)}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          run={async (values, key) => {
            await got(
              api.POST("/api/bank-matches/{id}/undo", {
                params: { path: { id: matched.id }, header: keyed(key) },
                body: { reason: values.reason ?? "" },
              }),
            );
            say({ kind: "done", text: `Line ${line.place} is open again.` });
            await changed();
          }}
        >
          {matched.how === "receipt"
            ? `${matched.document.number} was made of this line: it is reversed, and what it settled is open again.`
            : matched.how === "booked"
              ? "What was booked from this line is booked back."
              : `${matched.document.number} stays in the books, and is expected of the bank again.`}
        </FormAsk>
      )}
    </Worktop>
  );
}
