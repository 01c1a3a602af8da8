import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey } from "../../api/client";
import type { CaptureView, CardReturnView, CardView } from "../../api/types";
import { date, money, moneyWithCurrency } from "../../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { Paper, PostedEntries } from "../../parts/TapeRoll";
import {
  ApprovalStrip,
  OpenMark,
  RecordLines,
  useApprovals,
  useOpenElsewhere,
  useOpenHere,
} from "../../parts/together";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { CardStanding } from "./bits";
import { CardSums } from "./Cards";
import { BookCaptureAsk, BookReturnAsk, CaptureAsk, RefundAsk, VoidAsk } from "./steps";
import { became, nextWords } from "./words";

/** A card authorization: how it stands, what was captured of it, what became of that. */
export function CardRoom() {
  const { id = "" } = useParams();
  const card = useQuery({
    queryKey: ["card", id],
    queryFn: () => got(api.GET("/api/cards/{id}", { params: { path: { id: Number(id) } } })),
    // The processor may answer, or tell of something, at any moment.
    refetchInterval: (query) => (query.state.data?.waits_for ? 2_000 : false),
  });
  if (!card.data) {
    return (
      <Worktop title="Card authorization" actions={[]} back="/prepayments/cards">
        {card.error && <Wrong error={card.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} card={card.data} />;
}

type Step =
  | { name: "capture" | "void" }
  | { name: "refund" | "book"; capture: CaptureView }
  | { name: "return"; back: CardReturnView };

function Opened({ card }: { card: CardView }) {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  useOpenHere("card_authorization", card.id);
  const openAt = useOpenElsewhere("card_authorization")(card.id);
  const approvals = useApprovals("card_authorization", card.id);
  const [step, setStep] = useState<Step>();
  const close = () => setStep(undefined);
  const askAgain = async () => {
    try {
      const asked = await got(
        api.POST("/api/cards/{id}/ask-again", { params: { path: { id: card.id }, header: keyed(newKey()) } }),
      );
      say(became(asked, `The card processor answered for ${card.number}.`));
      await changed();
    } catch (error) {
      say({ kind: "stop", text: error instanceof Error ? error.message : String(error) });
    }
  };
  const stands = card.left > 0;
  return (
    <Worktop
      title={card.number}
      sum={
        <>
          {card.customer_name} · {moneyWithCurrency(card.amount, card.currency)} for {card.target.number}
          <OpenMark names={openAt} />
        </>
      }
      back="/prepayments/cards"
      actions={[
        ...(card.waits_for
          ? [{ key: "a", label: "Ask again", run: askAgain, primary: true, needs: "post_money" as const }]
          : []),
        ...(stands && !card.waits_for
          ? [
              {
                key: "c",
                label:
                  card.to_capture > 0 ? `Capture · ${moneyWithCurrency(card.to_capture, card.currency)}` : "Capture",
                run: () => setStep({ name: "capture" }),
                primary: card.next === "capture",
                needs: "post_money" as const,
              },
              { key: "v", label: "Void", run: () => setStep({ name: "void" }), needs: "post_money" as const },
            ]
          : []),
        ...(card.next === "authorize_again" && card.target.kind === "order"
          ? [
              {
                key: "k",
                label: "Authorize again",
                run: () => navigate(`${placeOf(card.target)}?card`),
                primary: true,
                needs: "post_money" as const,
              },
            ]
          : []),
        { key: "o", label: `Open ${card.target.number}`, run: () => navigate(placeOf(card.target)) },
        { key: "u", label: "Customer account", run: () => navigate(`/customers/${card.customer}`), quiet: true },
      ]}
      tape={
        <Paper>
          <h2>
            {card.customer_name}
            <br />
            <span>
              card ends in {card.last_four}, for {card.target.number}
            </span>
          </h2>
          <CardSums row={card} />
          {card.entries.length === 0 && <div className="words quiet">No entry before it is captured.</div>}
          <PostedEntries entries={card.entries} base={base} />
          <RecordLines kind="card_authorization" id={card.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["State", <CardStanding key="s" state={card.state} />],
          ["Next", nextWords(card, today)],
          ["Valid until", card.valid_until && date(card.valid_until)],
          ["Asked for", date(card.asked_on)],
        ]}
      />
      <ApprovalStrip approvals={approvals} />
      {card.waits_for && (
        <p style={{ margin: "0 0 8px", color: "var(--stop)" }}>
          ◆ The card processor did not answer yet: {card.waits_for}. Ask again; it is the same request, and nothing is
          charged twice.
        </p>
      )}
      {card.words && <p style={{ margin: "0 0 8px", color: "var(--heed)" }}>▲ {card.words}</p>}
      <Scroll>
        <Captures card={card} setStep={setStep} />
      </Scroll>
      {step?.name === "capture" && <CaptureAsk card={card} close={close} />}
      {step?.name === "void" && <VoidAsk card={card} close={close} />}
      {step?.name === "refund" && <RefundAsk card={card} capture={step.capture} close={close} />}
      {step?.name === "book" && <BookCaptureAsk card={card} capture={step.capture} close={close} />}
      {step?.name === "return" && <BookReturnAsk card={card} back={step.back} close={close} />}
    </Worktop>
  );
}

/** What was captured, and what went back of it. */
function Captures({ card, setStep }: { card: CardView; setStep: (step: Step) => void }) {
  const may = useMay();
  if (card.captures.length === 0) {
    return <p className="dim">Nothing was captured yet.</p>;
  }
  return (
    <Lines label="Captures">
      <thead>
        <tr>
          <th>What</th>
          <th>On</th>
          <th>In the books as</th>
          <th>Paid out with</th>
          <th className="right">Amount {card.currency}</th>
          <th aria-label="Next step" />
        </tr>
      </thead>
      <tbody>
        {card.captures.map((capture) => [
          <tr key={capture.id}>
            <td>captured</td>
            <td className="dim nowrap">{date(capture.captured_on)}</td>
            <td>
              {capture.document ? (
                <Link to={placeOf(capture.document)}>{capture.document.number}</Link>
              ) : (
                <Marked className="heed">▲ not in the books</Marked>
              )}
            </td>
            <td className="dim">
              {capture.payout ? <Link to={placeOf(capture.payout)}>{capture.payout.number}</Link> : "not yet"}
            </td>
            <td className="right">{money(capture.amount, card.currency)}</td>
            <td className="right">
              {!capture.document && may("post_money") && (
                <button
                  type="button"
                  className="quietly"
                  aria-label={`Book the capture of ${moneyWithCurrency(capture.amount, card.currency)}`}
                  onClick={() => setStep({ name: "book", capture })}
                >
                  Book…
                </button>
              )}
              {capture.document && capture.left > 0 && may("refund_deposit") && (
                <button
                  type="button"
                  className="quietly"
                  aria-label={`Refund ${capture.document.number}`}
                  onClick={() => setStep({ name: "refund", capture })}
                >
                  Refund…
                </button>
              )}
            </td>
          </tr>,
          ...capture.returns.map((back) => (
            <tr key={`back ${back.id}`}>
              <td>
                {back.charged_back ? <Marked className="stop">◆ charged back</Marked> : "sent back to the card"}
                <Marked className="dim"> {back.reason}</Marked>
              </td>
              <td className="dim nowrap">{date(back.happened_on)}</td>
              <td className="nowrap">{back.number ?? <Marked className="heed">▲ not in the books</Marked>}</td>
              <td className="dim">
                {back.payout ? <Link to={placeOf(back.payout)}>{back.payout.number}</Link> : "not yet"}
              </td>
              <td className="right">{money(-back.amount, card.currency)}</td>
              <td className="right">
                {!back.number && may("post_money") && (
                  <button
                    type="button"
                    className="quietly"
                    aria-label={`Book the ${back.charged_back ? "charge back" : "refund"} of ${moneyWithCurrency(back.amount, card.currency)}`}
                    onClick={() => setStep({ name: "return", back })}
                  >
                    Book…
                  </button>
                )}
              </td>
            </tr>
          )),
        ])}
      </tbody>
    </Lines>
  );
}
