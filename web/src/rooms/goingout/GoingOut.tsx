import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { DeliveryRow } from "../../api/types";
import { money, plural, shortDate } from "../../format";
import {
  Chips,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useEverythingChanged,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper, Tear } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { billingLinks } from "../Unbilled";
import { GoingMark } from "./parts";

/** Documents on their way to customers: the print queue and the outbox. */
export function GoingOutRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [search] = useFilter("q");
  const [state] = useFilter("state");
  const [way] = useFilter("way");
  const list = useList({
    key: ["deliveries", search, state, way],
    load: (offset: number) =>
      got(
        api.GET("/api/deliveries", {
          params: {
            query: {
              q: search || undefined,
              state: state || undefined,
              way: way || undefined,
              limit: STRETCH,
              offset,
            },
          },
        }),
      ),
    rowsOf: (page) => page.rows,
    place: "/going-out",
  });
  const { first, current, picked } = list;
  const chosen = picked.length > 0 ? picked : list.rows.rows;
  const toMail = chosen.filter((row) => row.way === "mail" && row.state !== "done");
  const toPrint = chosen.filter((row) => row.way === "print" && row.state === "waiting");
  const open = (row: DeliveryRow) => navigate(row.way === "mail" ? `/going-out/${row.id}` : placeOf(row.document));
  const [sending, setSending] = useState(false);
  const send = async (key: string) => {
    const sent = await got(
      api.POST("/api/deliveries/send", {
        params: { header: keyed(key) },
        body: { ids: toMail.map((row) => row.id) },
      }),
    );
    say(
      sent.failed > 0
        ? {
            kind: "stop",
            text: `${plural(sent.sent, "message", "messages")} sent, ${sent.failed} failed: ${sent.problem}`,
          }
        : { kind: "done", text: `${plural(sent.sent, "message", "messages")} sent.` },
    );
    await changed();
  };
  const recipients = [...new Set(toMail.map((row) => row.recipient ?? "no address"))];
  const print = () => navigate(`/billing/going-out/print?ids=${toPrint.map((row) => row.id).join(",")}`);
  const columns: Column<DeliveryRow>[] = [
    {
      key: "state",
      sort: (row) => row.state,
      head: "Outbox",
      width: "118px",
      cell: (row) => <GoingMark going={row} />,
    },
    {
      key: "number",
      sort: (row) => row.document.number,
      head: "Document",
      width: "92px",
      cell: (row) => row.document.number,
    },
    {
      key: "customer",
      sort: (row) => row.customer_name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => (
        <>
          {row.customer_name}
          {row.problem && (
            <Marked className="stop" title={row.problem}>
              {" "}
              · {row.problem}
            </Marked>
          )}
        </>
      ),
    },
    {
      key: "to",
      sort: (row) => row.recipient,
      head: "To",
      width: "190px",
      cell: (row) => (row.way === "mail" ? (row.recipient ?? "no address") : "on paper"),
    },
    { key: "date", sort: (row) => row.date, head: "Date", width: "98px", cell: (row) => shortDate(row.date, today) },
    {
      key: "total",
      sort: (row) => row.total,
      head: "Total",
      width: "104px",
      right: true,
      cell: (row) => row.document.kind !== "return" && money(row.total, row.currency),
    },
  ];
  return (
    <Worktop
      title="Outbox"
      sum={
        first &&
        `${plural(first.to_mail, "message", "messages")} to send · ${plural(first.to_print, "paper", "papers")} to print${first.failed > 0 ? ` · ${first.failed} failed` : ""}`
      }
      actions={[
        {
          key: "p",
          label:
            toMail.length > 0
              ? `Send ${picked.length > 0 ? "" : "all "}${plural(toMail.length, "message", "messages")}…`
              : "Nothing to send",
          run: () => setSending(true),
          primary: true,
          disabled: toMail.length === 0,
          needs: "send_out",
        },
        {
          key: "w",
          label: toPrint.length > 0 ? `Print ${plural(toPrint.length, "paper", "papers")}` : "Nothing to print",
          run: print,
          disabled: toPrint.length === 0,
          needs: "send_out",
        },
        { key: "Enter", label: "Open", run: () => current && open(current), disabled: !current, shownOnly: true },
      ]}
      rest={
        <span>
          {picked.length} selected <kbd>Space</kbd>
        </span>
      }
      tape={
        <Paper>
          {current && (
            <>
              <h2>
                {current.document.number}
                <br />
                <span>{current.customer_name}</span>
              </h2>
              <div className="l due">
                <span>Total</span>
                <span>{current.document.kind === "return" ? "" : money(current.total, current.currency)}</span>
              </div>
              {current.problem && <div className="words stop">◆ {current.problem}</div>}
              {current.tries > 0 && <div className="words quiet">Tried {plural(current.tries, "time", "times")}.</div>}
              <Tear />
            </>
          )}
          <div className="words quiet">
            Each posted document goes the way its customer wants it. A message can be read and changed before it is
            sent; what the mail server rejects stays here and can be sent again.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
        <span className="gap" />
        <FilterField label="Customer or number" />
      </Chips>
      <Chips>
        <StateChips
          name="state"
          choices={[
            ["", "All"],
            ["waiting", "Waiting"],
            ["failed", "Failed"],
            ["done", "Sent"],
          ]}
        />
        <span className="gap" />
        <StateChips
          name="way"
          choices={[
            ["", "All channels"],
            ["mail", "By email"],
            ["print", "On paper"],
          ]}
        />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Documents on their way"
          {...list.rows}
          onOpen={open}
          columns={columns}
          empty="Nothing fits. What is posted comes here by itself."
        />
      )}
      {sending && (
        <Ask
          title={
            picked.length > 0
              ? `Send ${plural(toMail.length, "selected message", "selected messages")}?`
              : `Send all ${plural(toMail.length, "message", "messages")}?`
          }
          yes={`Send ${plural(toMail.length, "message", "messages")}`}
          busyWords="Sending…"
          close={() => setSending(false)}
          run={send}
        >
          To {recipients.slice(0, 4).join(", ")}
          {recipients.length > 4 && ` and ${recipients.length - 4} more`}. What is sent cannot be called back.
        </Ask>
      )}
    </Worktop>
  );
}
