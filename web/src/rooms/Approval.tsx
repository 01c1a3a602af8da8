import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../api/client";
import type { ApprovalView } from "../api/types";
import { date, money, moneyWithCurrency, sentence } from "../format";
import { Facts, Lines, useBase, useEverythingChanged, Wrong } from "../parts/bits";
import { FormAsk } from "../parts/FormAsk";
import { Paper } from "../parts/TapeRoll";
import { ApprovalState, RecordLines } from "../parts/together";
import { placeOf } from "../places";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";

/** Something that waits for someone's word. */
export function ApprovalRoom() {
  const { id = "" } = useParams();
  const approval = useQuery({
    queryKey: ["approval", id],
    queryFn: () => got(api.GET("/api/approvals/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!approval.data) {
    return (
      <Worktop title="Approval" actions={[]} back="/">
        {approval.error && <Wrong error={approval.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} approval={approval.data} />;
}

type Question = "approve" | "decline" | "withdraw";

function Opened({ approval }: { approval: ApprovalView }) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState<Question>();
  const waiting = approval.state === "waiting";
  const path = { params: { path: { id: approval.id } } };
  const done = async (words: string) => {
    say({
      kind: "done",
      text: words,
      links: [{ text: `Open ${approval.document.number}`, to: placeOf(approval.document) }],
    });
    await changed();
  };
  return (
    <Worktop
      title={sentence(approval.words)}
      back="/"
      actions={[
        {
          key: "p",
          label: approval.amount > 0 ? `Approve · ${moneyWithCurrency(approval.amount, base)}` : "Approve",
          run: () => setAsking("approve"),
          primary: true,
          disabled: !waiting || !!approval.obstacle,
          needs: "decide_approval",
        },
        {
          key: "d",
          label: "Decline",
          run: () => setAsking("decline"),
          disabled: !waiting || approval.own,
          needs: "decide_approval",
        },
        ...(approval.own && waiting
          ? [
              {
                key: "x",
                label: "Withdraw request…",
                run: () => setAsking("withdraw"),
                needs: "withdraw_approval",
              } as const,
            ]
          : []),
        { key: "o", label: `Open ${approval.document.number}`, run: () => navigate(placeOf(approval.document)) },
      ]}
      tape={
        <Paper>
          <h2>
            {sentence(approval.words)}
            <br />
            <span>asked by {approval.maker}</span>
          </h2>
          <div className="l due">
            <span>Amount</span>
            <span>{money(approval.amount, base)}</span>
          </div>
          {approval.limit != null && (
            <div className="l quiet">
              <span>limit of who asked</span>
              <span>{money(approval.limit, base)}</span>
            </div>
          )}
          <RecordLines kind={approval.document.kind} id={approval.document.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["Stands", <ApprovalState key="s" approval={approval} />],
          ["Asked by", `${approval.maker}, ${date(approval.made_on)}`],
          [
            "About",
            <Link key="d" to={placeOf(approval.document)}>
              {approval.document.number}
            </Link>,
          ],
          ["Decided by", approval.decided_by],
        ]}
      />
      <Lines label="What would change">
        <thead>
          <tr>
            <th>What</th>
            <th className="right">Now</th>
            <th className="right">{approval.state === "approved" ? "Since" : "Then"}</th>
          </tr>
        </thead>
        <tbody>
          {approval.changes.map((change) => (
            <tr key={change.field}>
              <td>{change.field}</td>
              <td className="right dim">{change.from ?? ""}</td>
              <td className="right">{change.to ?? "–"}</td>
            </tr>
          ))}
          <tr>
            <td>why</td>
            <td colSpan={2} style={{ textAlign: "right" }}>
              “{approval.reason}”
            </td>
          </tr>
          {approval.decision && (
            <tr>
              <td>what {approval.decided_by} said to it</td>
              <td colSpan={2} style={{ textAlign: "right" }}>
                “{approval.decision}”
              </td>
            </tr>
          )}
        </tbody>
      </Lines>
      {waiting && approval.obstacle && <p style={{ margin: 0, color: "var(--ink-2)" }}>{approval.obstacle}</p>}
      {asking === "approve" && (
        <Ask
          title="Approve this?"
          yes="Approve"
          busyWords="One moment…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(api.POST("/api/approvals/{id}/approve", { params: { ...path.params, header: keyed(key) } }));
            await done(`Approved: ${approval.words}. It is done.`);
          }}
        >
          {sentence(approval.words)}. It is carried out at once; both names are logged.
        </Ask>
      )}
      {asking === "decline" && (
        <FormAsk
          title="Decline this?"
          fields={[{ name: "reason", label: "Why, for who asked", kind: "words" }]}
          yes="Decline"
          close={() => setAsking(undefined)}
          run={async (values, key) => {
            await got(
              api.POST("/api/approvals/{id}/decline", {
                params: { ...path.params, header: keyed(key) },
                body: { reason: values.reason ?? "" },
              }),
            );
            await done(`Declined: ${approval.words}. ${approval.maker} can read why.`);
          }}
        >
          {sentence(approval.words)}. Nothing changes.
        </FormAsk>
      )}
      {asking === "withdraw" && (
        <Ask
          title="Withdraw this request?"
          yes="Withdraw request"
          busyWords="One moment…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(api.POST("/api/approvals/{id}/withdraw", { params: { ...path.params, header: keyed(key) } }));
            await done("The request is withdrawn. Nothing has changed.");
          }}
        >
          {sentence(approval.words)}. Nobody is asked any more.
        </Ask>
      )}
    </Worktop>
  );
}
