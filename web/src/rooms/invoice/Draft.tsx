import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { InvoiceLine, InvoiceView, ToBill } from "../../api/types";
import { date, money, moneyWithCurrency, number, typedDecimal } from "../../format";
import { Lines, Marked, Scroll, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { ApprovalStrip, OpenMark, useApprovals, useOpenElsewhere, useOpenHere } from "../../parts/together";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { Conflict } from "./Conflict";
import { useKeptDraft } from "./keeping";
import { Head, InvoiceTape, LineCells, LineHead } from "./lines";
import { Reprice } from "./Reprice";

type DateName = "document_date" | "posting_date";

/** A draft is kept as it is typed; the tape shows what it comes to. */
export function Draft({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const place = useLocation().pathname;
  const today = useToday();
  const [asking, setAsking] = useState(false);
  const [typed, setTyped] = useState<Record<number, string>>({});
  const [dates, setDates] = useState<Partial<Record<DateName, string>>>({});
  const [repricing, setRepricing] = useState<InvoiceLine>();
  const may = useMay();
  const openAt = useOpenElsewhere("invoice")(invoice.id);
  const approvals = useApprovals("invoice", invoice.id);
  useOpenHere("invoice", invoice.id);
  const document = invoice.document;
  const lines = document?.lines ?? [];
  // What was kept is no longer only typed; what was typed meanwhile still is.
  const forget = (kept: ToBill) => {
    setTyped((before) =>
      Object.fromEntries(
        Object.entries(before).filter(([line, value]) => {
          const pick = kept.picks.find((one) => one.shipment_line === Number(line));
          return pick && pick.quantity !== typedDecimal(value);
        }),
      ),
    );
    setDates((before) =>
      Object.fromEntries(Object.entries(before).filter(([name, value]) => (kept[name as DateName] ?? "") !== value)),
    );
  };
  const { change, settled, setVersion, wrong, setWrong, busy, conflict, takeTheirs, keepBoth } = useKeptDraft(
    invoice,
    forget,
  );
  const typedDate = (name: DateName) => dates[name] ?? (document?.[name].typed ? document[name].date : "");
  const others = useQuery({
    queryKey: ["unbilled", "", "", String(invoice.customer.id)],
    queryFn: () => got(api.GET("/api/unbilled", { params: { query: { customer: invoice.customer.id } } })),
  });
  const free = (others.data?.customers ?? [])
    .flatMap((owner) => owner.shipments)
    .flatMap((shipment) => shipment.lines.map((line) => ({ ...line, shipment })))
    .filter((line) => !lines.some((own) => own.shipment_line === line.shipment_line));
  const saveLines = (quantities: Record<number, string>) =>
    change((now) => ({
      ...now,
      picks: now.picks.map((pick) => {
        const value = quantities[pick.shipment_line];
        return value === undefined ? pick : { ...pick, quantity: typedDecimal(value) };
      }),
    }));
  const add = (shipmentLine: number) =>
    change((now) => ({ ...now, picks: [...now.picks, { shipment_line: shipmentLine }] }));
  const leaveOut = (shipmentLine: number) =>
    change((now) => ({ ...now, picks: now.picks.filter((pick) => pick.shipment_line !== shipmentLine) }));
  const saveDate = (name: DateName, value: string) => {
    setDates((before) => ({ ...before, [name]: value }));
    if (value === "" || /^20\d\d-\d\d-\d\d$/.test(value)) {
      change((now) => ({ ...now, [name]: value || null }));
    }
  };
  const drop = async () => {
    try {
      const version = await settled();
      await got(
        api.DELETE("/api/invoices/{id}", {
          params: { path: { id: invoice.id }, query: { version }, header: keyed(newKey()) },
        }),
      );
      say({ kind: "done", text: "The draft is dropped; its quantities are unbilled again." });
      navigate("/billing");
      await changed(["invoice", String(invoice.id)]);
    } catch (error) {
      say({ kind: "stop", text: error instanceof Problem ? error.message : String(error) });
    }
  };
  const stopped = invoice.blockers.some((blocker) => blocker.effect === "stops");
  const total = document ? moneyWithCurrency(document.total, document.currency) : "";
  const fieldError = (field: string) => (wrong?.field === field ? wrong.message : undefined);
  const unsaved = Object.keys(typed).length > 0;
  useEffect(() => {
    const first = window.document.querySelector<HTMLElement>("[data-quantity] input");
    if (window.document.activeElement === window.document.body) {
      first?.focus();
    }
  }, []);
  return (
    <Worktop
      title={`Draft for ${invoice.customer.name}`}
      sum={
        <>
          {total}
          <OpenMark names={openAt} />
        </>
      }
      back="/billing"
      actions={[
        {
          key: "p",
          label: `Post · ${total}`,
          run: () => setAsking(true),
          primary: true,
          disabled: stopped || !document || busy || unsaved || !!wrong,
          needs: "post_invoice",
        },
        { key: "d", label: "Drop the draft", run: drop, needs: "keep_draft" },
        {
          key: "r",
          label: "Change a price",
          run: () => setRepricing(lines[0]),
          disabled: lines.length !== 1,
          quiet: true,
          needs: "change_price",
        },
      ]}
      rest={busy ? "keeping…" : wrong || unsaved ? "not kept yet" : "kept as typed"}
      tape={<InvoiceTape invoice={invoice} />}
    >
      <Head invoice={invoice} />
      <ApprovalStrip approvals={approvals} />
      <div style={{ display: "flex", gap: 14, margin: "6px 0 10px" }}>
        <DateField
          label="Document date"
          typed={typedDate("document_date")}
          assumed={today}
          onType={(value) => saveDate("document_date", value)}
          error={fieldError("document_date")}
          from="the business date"
        />
        <DateField
          label="Posting date"
          typed={typedDate("posting_date")}
          assumed={typedDate("document_date") || today}
          onType={(value) => saveDate("posting_date", value)}
          error={fieldError("posting_date")}
          from="as the document"
        />
      </div>
      {wrong && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={wrong} />
        </p>
      )}
      <Scroll>
        <Lines label="Lines of the draft">
          <LineHead draft />
          <tbody>
            {lines.map((line, position) => (
              <tr key={line.shipment_line}>
                <LineCells
                  line={line}
                  currency={document?.currency ?? "EUR"}
                  quantity={
                    <TextField
                      data-quantity
                      value={typed[line.shipment_line] ?? number(line.quantity)}
                      error={!!fieldError(`lines.${position}.quantity`)}
                      onChange={(event) =>
                        setTyped((before) => ({ ...before, [line.shipment_line]: event.target.value }))
                      }
                      onBlur={() => unsaved && saveLines(typed)}
                      onKeyDown={(event) => {
                        if (event.key === "Enter" && !event.ctrlKey) {
                          event.preventDefault();
                          saveLines(typed);
                        }
                        if (event.key === "Escape") {
                          event.preventDefault();
                          setTyped({});
                          setWrong(undefined);
                          (event.target as HTMLElement).blur();
                        }
                      }}
                      disabled={!may("keep_draft")}
                      sx={{ width: 84 }}
                      slotProps={{
                        htmlInput: {
                          "aria-label": `Quantity of ${line.code}, ${line.unbilled} unbilled`,
                          inputMode: "decimal",
                          style: { textAlign: "right" },
                        },
                      }}
                    />
                  }
                  {...(may("change_price") && { reprice: () => setRepricing(line) })}
                />
                <td>
                  {lines.length > 1 && may("keep_draft") && (
                    <button
                      type="button"
                      className="quietly"
                      onClick={() => leaveOut(line.shipment_line)}
                      aria-label={`Leave ${line.code} out`}
                    >
                      ✕
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Lines>
        {free.length > 0 && may("keep_draft") && (
          <Lines label="More of this customer, unbilled">
            <thead>
              <tr>
                <th>More of this customer, unbilled</th>
                <th className="right">Unbilled</th>
                <th className="right">Net</th>
                <th aria-label="Add" />
              </tr>
            </thead>
            <tbody>
              {free.map((line) => (
                <tr key={line.shipment_line}>
                  <td>
                    <b>{line.code}</b> {line.description}{" "}
                    <Marked className="dim">
                      {line.shipment.number} · {line.shipment.order_number}
                    </Marked>
                  </td>
                  <td className="right">{number(line.quantity)}</td>
                  <td className="right">{money(line.net, line.shipment.currency)}</td>
                  <td className="right">
                    <button type="button" className="quietly" onClick={() => add(line.shipment_line)}>
                      Add to the draft
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
      </Scroll>
      {conflict && (
        <Conflict
          merge={conflict}
          name={invoice.customer.name}
          theirs={async () => {
            setTyped({});
            setDates({});
            await takeTheirs();
          }}
          both={keepBoth}
        />
      )}
      {repricing && document && (
        <Reprice
          line={repricing}
          invoice={invoice.id}
          currency={document.currency}
          seen={settled}
          set={setVersion}
          close={() => setRepricing(undefined)}
        />
      )}
      {asking && document && (
        <Ask
          title="Post this invoice?"
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/invoices/{id}/post", {
                params: { path: { id: invoice.id }, header: keyed(key) },
                body: { version: await settled(), seen: invoice.fingerprint },
              }),
            );
            say({
              kind: "done",
              text: `${posted.number} posted · ${total}, due ${date(document.due_date)}.`,
              links: [{ text: "Back to unbilled", to: "/billing" }],
            });
            await changed();
            navigate(place, { replace: true });
          }}
        >
          {invoice.customer.name} will owe {total}, due {date(document.due_date)}. It gets its number now, and nothing
          on it changes afterwards.
        </Ask>
      )}
    </Worktop>
  );
}
