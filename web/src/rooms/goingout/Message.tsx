import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { MessageView } from "../../api/types";
import { moment } from "../../format";
import { Facts, Scroll, useEverythingChanged, Wrong } from "../../parts/bits";
import { Field, FormGrid } from "../../parts/form";
import { Paper, Tear } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { GoingMark } from "./parts";

/** The message a document goes with: read, changed, sent, sent again. */
export function MessageRoom() {
  const { id = "" } = useParams();
  const message = useQuery({
    queryKey: ["delivery", Number(id)],
    queryFn: () => got(api.GET("/api/deliveries/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!message.data) {
    return (
      <Worktop title="Message" actions={[]} back="/billing/going-out">
        {message.error && <Wrong error={message.error} />}
      </Worktop>
    );
  }
  return <Message key={message.data.delivery.version} view={message.data} />;
}

function Message({ view }: { view: MessageView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState({ to: view.to, subject: view.subject, body: view.body });
  const [wrong, setWrong] = useState<Problem>();
  const busy = useRef(false);
  useEffect(() => setTyped({ to: view.to, subject: view.subject, body: view.body }), [view]);
  const { delivery } = view;
  const gone = delivery.state === "done";
  const changedHere = typed.to !== view.to || typed.subject !== view.subject || typed.body !== view.body;
  const keep = async () => {
    if (!changedHere) {
      return;
    }
    await got(
      api.PUT("/api/deliveries/{id}", {
        params: { path: { id: delivery.id }, header: keyed(newKey()) },
        body: { version: delivery.version, ...typed },
      }),
    );
  };
  const run = async (what: () => Promise<void>) => {
    if (busy.current) {
      return;
    }
    busy.current = true;
    try {
      await what();
      setWrong(undefined);
    } catch (error) {
      setWrong(error instanceof Problem ? error : new Problem({ title: String(error) }));
    }
    busy.current = false;
    await changed();
  };
  const send = () =>
    run(async () => {
      await keep();
      const sent = await got(
        api.POST("/api/deliveries/send", { params: { header: keyed(newKey()) }, body: { ids: [delivery.id] } }),
      );
      say(
        sent.failed > 0
          ? { kind: "stop", text: `Not sent: ${sent.problem}` }
          : { kind: "done", text: `${delivery.document.number} is emailed to ${typed.to}.` },
      );
    });
  return (
    <Worktop
      title={`Message with ${delivery.document.number}`}
      sum={<GoingMark going={delivery} />}
      back="/billing/going-out"
      actions={[
        {
          key: "p",
          label: delivery.state === "failed" ? "Send it again" : "Send it",
          run: send,
          primary: true,
          disabled: gone,
          needs: "send_out",
        },
        {
          key: "k",
          label: "Save text",
          run: () =>
            run(async () => {
              await keep();
              say({ kind: "done", text: "The text is saved. It goes when you send it." });
            }),
          disabled: gone || !changedHere,
          needs: "send_out",
        },
        { key: "o", label: `Open ${delivery.document.number}`, run: () => navigate(placeOf(delivery.document)) },
      ]}
      tape={
        <Paper>
          <h2>
            In the mailbox
            <br />
            <span>what the mail service took, as it was given</span>
          </h2>
          {view.taken.length === 0 && <div className="words quiet">Nothing of it yet.</div>}
          {view.taken.map((one) => (
            <div key={one.id}>
              <div className="l">
                <span>{one.recipient}</span>
                <span>{moment(one.taken_at)}</span>
              </div>
              <div className="words">
                <a href={`/api/mailbox/${one.id}.eml`} download>
                  Read the message
                </a>
              </div>
            </div>
          ))}
          {delivery.problem && (
            <>
              <Tear />
              <div className="words stop">◆ {delivery.problem}</div>
            </>
          )}
        </Paper>
      }
    >
      <Facts
        facts={[
          ["From", view.from],
          ["Customer", delivery.customer_name],
          ["Attached", view.attachment],
          ["Tried", delivery.tries > 0 ? String(delivery.tries) : ""],
        ]}
      />
      <Scroll>
        <FormGrid>
          <Field
            label="To"
            name="to"
            value={typed.to}
            onChange={(to) => setTyped({ ...typed, to })}
            faults={wrong}
            span={12}
            disabled={gone}
          />
          <Field
            label="Subject"
            name="subject"
            value={typed.subject}
            onChange={(subject) => setTyped({ ...typed, subject })}
            faults={wrong}
            span={12}
            disabled={gone}
          />
          <Field
            label="Text"
            name="body"
            value={typed.body}
            onChange={(body) => setTyped({ ...typed, body })}
            faults={wrong}
            span={12}
            words
            disabled={gone}
          />
        </FormGrid>
      </Scroll>
      {wrong && !["to", "subject", "body"].includes(wrong.field ?? "") && <Wrong error={wrong} />}
    </Worktop>
  );
}
