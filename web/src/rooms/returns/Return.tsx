import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got } from "../../api/client";
import type { ReturnView } from "../../api/types";
import { date, money, moneyWithCurrency, number, price } from "../../format";
import { Facts, Lines, Marked, Scroll, useBase, useToday, Wrong } from "../../parts/bits";
import { PrintedPaper, usePapersReady } from "../../parts/PrintedPaper";
import { Paper, PostedEntries, PreviewTape, TrailLines } from "../../parts/TapeRoll";
import { OpenMark, RecordLines, useOpenElsewhere, useOpenHere } from "../../parts/together";
import { placeOf } from "../../places";
import { Worktop } from "../../shell/Worktop";
import { GoingOutLines, SendAgainAsk } from "../goingout/parts";
import { type Doing, InspectTable, ReceiveTable, useHandling } from "./handling";
import { Pictures } from "./Pictures";
import { ReturnAsk, type ReturnStep } from "./steps";
import { creditPlace, nextWords, stepWords } from "./words";

export function ReturnRoom() {
  const { id = "" } = useParams();
  const found = useQuery({
    queryKey: ["return", id],
    queryFn: () => got(api.GET("/api/returns/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!found.data) {
    return (
      <Worktop title="Return" actions={[]} back="/returns">
        {found.error && <Wrong error={found.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} view={found.data} />;
}

function Opened({ view }: { view: ReturnView }) {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  useOpenHere("return", view.id);
  const openAt = useOpenElsewhere("return")(view.id);
  const papersReady = usePapersReady();
  const [doing, setDoing] = useState<Doing>();
  const [asking, setAsking] = useState<ReturnStep | "send">();
  const waiting = view.lines.some((line) => line.waiting !== "0");
  const toSettle = view.lines.some((line) => line.to_settle !== "0");
  const expected = view.lines.some((line) => line.expected !== "0");
  const inRepair = view.lines.some((line) => line.in_repair !== "0");
  const handling = useHandling(view, doing, () => setDoing(undefined));
  const credit = creditPlace(view);
  // More than was announced may come too; where nothing is expected, its key is among all keys only.
  const canReceive = view.closed_on == null && view.state !== "done" && (view.live || expected);
  const standing = view.steps.filter((step) => !step.reversed_on);
  // The next thing to do is the main action; all of them have a key of their own besides.
  const next = view.next;
  return (
    <Worktop
      title={view.number}
      sum={
        <>
          {view.customer.name} · {nextWords(view, today)}
          <OpenMark names={openAt} />
        </>
      }
      back="/returns"
      actions={[
        ...(doing
          ? [handling.action]
          : [
              ...(canReceive
                ? [
                    {
                      key: "g",
                      label: "Receive goods",
                      run: () => setDoing("receive"),
                      primary: next === "receive",
                      quiet: !expected,
                      disabled: !view.live,
                      needs: "handle_return" as const,
                    },
                  ]
                : []),
              ...(canReceive && expected
                ? [
                    {
                      key: "f",
                      label: "Take in for repair",
                      run: () => setDoing("for-repair"),
                      disabled: !view.live,
                      quiet: true,
                      needs: "handle_return" as const,
                    },
                  ]
                : []),
              ...(inRepair
                ? [
                    {
                      key: "k",
                      label: "Send back repaired",
                      run: () => setDoing("repaired"),
                      primary: next === "repair",
                      needs: "handle_return" as const,
                    },
                    {
                      key: "h",
                      label: "Keep instead",
                      run: () => setDoing("kept"),
                      quiet: true,
                      needs: "handle_return" as const,
                    },
                    {
                      key: "b",
                      label: "Bill the repair",
                      run: () => navigate(`/billing/direct?customer=${encodeURIComponent(view.customer.number)}`),
                      needs: "keep_draft" as const,
                    },
                  ]
                : []),
              ...(waiting
                ? [
                    {
                      key: "i",
                      label: "Inspect",
                      run: () => setDoing("inspect"),
                      primary: next === "inspect",
                      needs: "handle_return" as const,
                    },
                  ]
                : []),
              ...(toSettle && credit
                ? [
                    {
                      key: "l",
                      label: "Credit what came back",
                      run: () => navigate(credit),
                      primary: next === "settle",
                      needs: "cancel_invoice" as const,
                    },
                    {
                      key: "t",
                      label: "Send a replacement",
                      run: () => setAsking("replace"),
                      needs: "handle_return" as const,
                    },
                  ]
                : []),
            ]),
        ...(doing ? [{ key: "a", label: "Show the return", run: () => setDoing(undefined) }] : []),
        ...(!doing && view.closed_on == null && view.state !== "done"
          ? [
              {
                key: "e",
                label: "Extend",
                run: () => setAsking("extend"),
                quiet: view.live,
                needs: "authorize_return" as const,
              },
              {
                key: "x",
                label: "Close it",
                run: () => setAsking("close"),
                needs: "authorize_return" as const,
              },
            ]
          : []),
        ...(!doing && standing.length > 0
          ? [
              {
                key: "u",
                label: "Reverse a step…",
                run: () => setAsking("undo"),
                quiet: true,
                needs: "handle_return" as const,
              },
            ]
          : []),
        {
          key: "w",
          label: "Print the return slip",
          run: () => window.print(),
          disabled: !papersReady,
          quiet: true,
        },
        {
          key: "m",
          label: "Send the slip",
          run: () => setAsking("send"),
          disabled: !view.live || !expected,
          quiet: true,
          needs: "send_out" as const,
        },
        {
          key: "c",
          label: "Customer account",
          run: () => navigate(`/customers/${view.customer.id}`),
          quiet: true,
        },
      ]}
      rest={
        doing && (
          <span>
            all of a line <kbd>=</kbd> from a field <kbd>Ctrl Enter</kbd>
          </span>
        )
      }
      tape={
        doing ? (
          <PreviewTape
            preview={handling.tape}
            until={
              doing === "receive" || doing === "kept"
                ? "Type how much: the entry appears here."
                : doing === "inspect"
                  ? "Type how much goes where: the entry appears here."
                  : "Goods in for repair stay the customer's: nothing is posted."
            }
          />
        ) : (
          <Paper>
            <h2>
              {view.customer.name}
              <br />
              <span>return {view.number}</span>
            </h2>
            <Steps view={view} base={base} />
            <div className="tear" />
            <PostedEntries entries={view.entries} base={base} />
            <TrailLines trail={view.trail} />
            <RecordLines kind="return" id={view.id} />
          </Paper>
        )
      }
    >
      <PrintedPaper kind="return" id={view.id} />
      <Facts
        facts={[
          ["Authorized", date(view.authorized_on)],
          [
            "May arrive until",
            view.closed_on ? (
              `closed ${date(view.closed_on)}`
            ) : view.live ? (
              date(view.expires_on)
            ) : (
              <Marked key="e" className={expected ? "heed" : undefined}>
                {date(view.expires_on)}, over
              </Marked>
            ),
          ],
          ["To", view.warehouse_name],
          ["Their reference", view.reference ?? "none"],
        ]}
      />
      <GoingOutLines deliveries={view.deliveries} />
      {view.note && <p style={{ margin: "0 0 8px" }}>{view.note}</p>}
      {view.closed_reason && <p style={{ margin: "0 0 8px" }}>Closed: {view.closed_reason}.</p>}
      {!view.live && !view.closed_on && view.lines.some((line) => line.progress.received === "0") && (
        <p style={{ margin: "0 0 8px", color: "var(--heed)" }}>
          ▲ Its last day has passed. Press e to extend it where the goods are still to arrive.
        </p>
      )}
      {!doing && <Pictures returnId={view.id} pictures={view.pictures} />}
      {handling.error && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(handling.error)} />
        </p>
      )}
      {doing && handling.head}
      {doing && doing !== "inspect" ? (
        <ReceiveTable view={view} handling={handling} doing={doing} />
      ) : doing === "inspect" ? (
        <InspectTable view={view} handling={handling} base={base} />
      ) : (
        <LinesOf view={view} base={base} />
      )}
      {handling.ask}
      {asking === "send" && (
        <SendAgainAsk kind="return" id={view.id} number={view.number} close={() => setAsking(undefined)} />
      )}
      {asking && asking !== "send" && <ReturnAsk view={view} step={asking} close={() => setAsking(undefined)} />}
    </Worktop>
  );
}

function LinesOf({ view, base }: { view: ReturnView; base: string }) {
  return (
    <Scroll>
      <Lines label="Lines of the return">
        <thead>
          <tr>
            <th>Item</th>
            <th>Sold with</th>
            <th>Reason</th>
            <th className="right">Authorized</th>
            <th className="right">Received</th>
            <th className="right">To inspect</th>
            <th className="right">At cost {base}</th>
            <th className="right">Settled</th>
          </tr>
        </thead>
        <tbody>
          {view.lines.map((line) => {
            const settled = [
              [line.in_repair, "in for repair"],
              [line.progress.repaired, "repaired"],
              [line.progress.credited, "credited"],
              [line.progress.replaced, "replaced"],
              [line.progress.sent_back, "sent back"],
              [line.progress.given_back, "back on its order"],
            ].filter(([quantity]) => quantity && quantity !== "0");
            return (
              <tr key={line.id}>
                <td>
                  <b>{line.code}</b> {line.description}
                  {line.in_place_of && <div className="dim">went in place of {line.in_place_of}</div>}
                </td>
                <td style={{ whiteSpace: "nowrap" }}>
                  {line.document ? <Link to={placeOf(line.document)}>{line.document.number}</Link> : "no document"}
                  {line.unbilled && <div className="dim">not billed</div>}
                  {line.unit_price != null && (
                    <div className="dim">
                      at {price(line.unit_price)} {view.currency}
                    </div>
                  )}
                  {line.unit_cost != null && (
                    <div className="dim" title={line.cost_reason ?? undefined}>
                      cost {money(line.unit_cost, base)}, as said
                    </div>
                  )}
                </td>
                <td>{line.reason_name}</td>
                <td className="right">
                  {number(line.progress.authorized)} {line.unit}
                </td>
                <td className="right">{number(line.progress.received)}</td>
                <td className="right">
                  {line.waiting === "0" ? (
                    ""
                  ) : (
                    <Marked className="heed">
                      {number(line.waiting)} {line.stock_unit}
                    </Marked>
                  )}
                </td>
                <td className="right">{line.waiting === "0" ? "" : money(line.waiting_cost, base)}</td>
                <td className="right">
                  {settled.map(([quantity, what]) => `${number(quantity ?? "0")} ${what}`).join(", ")}
                </td>
              </tr>
            );
          })}
        </tbody>
      </Lines>
      {view.credits.length > 0 && (
        <p>
          Credited:{" "}
          {view.credits.map((one, at) => (
            <span key={one.document.id}>
              {at > 0 && ", "}
              <Link to={placeOf(one.document)}>{one.document.number}</Link>{" "}
              {moneyWithCurrency(one.total, view.currency)}
            </span>
          ))}
        </p>
      )}
    </Scroll>
  );
}

/** What was done with the goods, on the roll: each step with its quantities at cost. */
function Steps({ view, base }: { view: ReturnView; base: string }) {
  if (view.steps.length === 0) {
    return (
      <div className="words quiet">
        Nothing has arrived yet. Print the slip with w, and receive the goods with g as they come.
      </div>
    );
  }
  return (
    <>
      {view.steps.map((step) => (
        <div key={step.id}>
          <h3>
            {stepWords[step.kind]} {date(step.date)}
          </h3>
          {step.lines.map((line) => (
            <div className="l" key={`${line.line}${line.disposition}${line.stock}`}>
              <span>
                {number(line.stock)} {line.unit} {line.code}
                {line.disposition ? `, ${line.disposition.toLowerCase()}` : ""}
              </span>
              <span>{step.kind === "for_repair" || step.kind === "repaired" ? "" : money(line.cost, base)}</span>
            </div>
          ))}
          {step.lines
            .filter((line) => line.claim !== 0)
            .map((line) => (
              <div className="l quiet" key={`claim ${line.line}`}>
                <span>claim on the supplier</span>
                <span>{money(line.claim, base)}</span>
              </div>
            ))}
          {step.note && <div className="words">{step.note}</div>}
          {step.reversed_on && (
            <div className="words stop">
              reversed {date(step.reversed_on)}: {step.reversal_reason}
            </div>
          )}
        </div>
      ))}
    </>
  );
}
