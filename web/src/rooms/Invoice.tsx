import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useLocation, useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../api/client";
import type { InvoiceLine, InvoiceView, MergeView, ToBill } from "../api/types";
import { date, money, moneyWithCurrency, number, percent, price, typedDecimal } from "../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, useToday, Wrong } from "../parts/bits";
import { DateField } from "../parts/DateField";
import { FormAsk } from "../parts/FormAsk";
import { InvoicePaper } from "../parts/InvoicePaper";
import {
  BlockerLines,
  ChangeLines,
  EntryLines,
  Paper,
  PostedEntries,
  TapeLines,
  Tear,
  TrailLines,
} from "../parts/TapeRoll";
import { ApprovalStrip, OpenMark, RecordLines, useApprovals, useOpenElsewhere, useOpenHere } from "../parts/together";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { useMay } from "../shell/session";
import { Worktop } from "../shell/Worktop";

export function InvoiceRoom() {
  const { id = "" } = useParams();
  const invoice = useQuery({
    queryKey: ["invoice", id],
    queryFn: () => got(api.GET("/api/invoices/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!invoice.data) {
    return (
      <Worktop title="Invoice" actions={[]} back="/billing/invoices">
        {invoice.error && <Wrong error={invoice.error} />}
      </Worktop>
    );
  }
  return invoice.data.number ? <Posted invoice={invoice.data} /> : <Draft key={id} invoice={invoice.data} />;
}

function InvoiceTape({ invoice }: { invoice: InvoiceView }) {
  const base = useBase();
  return (
    <Paper>
      <TapeLines tape={invoice.tape} />
      <BlockerLines blockers={invoice.blockers} />
      <Tear />
      {invoice.entry && <EntryLines entry={invoice.entry} base={base} title="Entry when posted" />}
      <PostedEntries entries={invoice.entries} base={base} />
      <ChangeLines changes={invoice.changes} base={base} />
      <TrailLines trail={invoice.trail} />
      <RecordLines kind="invoice" id={invoice.id} />
    </Paper>
  );
}

function Head({ invoice }: { invoice: InvoiceView }) {
  const document = invoice.document;
  const shipments = [...new Set(document?.lines.map((line) => line.shipment_number))].join(", ");
  const theirs = [...new Set(document?.lines.map((line) => line.customer_order_number).filter(Boolean))].join(", ");
  return (
    <Facts
      facts={[
        ["Bill to", `${invoice.customer.name}, ${invoice.customer.address}`],
        ["Shipments", shipments],
        ["Their order", theirs],
        ["Due", document && date(document.due_date)],
      ]}
    />
  );
}

function LineHead({ draft }: { draft?: boolean }) {
  return (
    <thead>
      <tr>
        <th>Item</th>
        <th className="right">Ordered</th>
        <th className="right">Billed before</th>
        <th className="right">This time</th>
        <th className="right">Still to come</th>
        <th className="right">Price</th>
        <th className="right">Off</th>
        <th className="right">Net</th>
        {draft && <th aria-label="Leave out" />}
      </tr>
    </thead>
  );
}

function LineCells({
  line,
  currency,
  quantity,
  reprice,
}: {
  line: InvoiceLine;
  currency: string;
  quantity: React.ReactNode;
  reprice?: () => void;
}) {
  const shown = price(line.unit_price);
  return (
    <>
      <td>
        <b>{line.code}</b> {line.description}
        <div>
          <Marked className="dim">
            {line.shipment_number} of {date(line.shipped_on)} · {line.order_number}
          </Marked>
        </div>
      </td>
      <td className="right dim">{number(line.ordered)}</td>
      <td className="right dim">{line.billed_before === "0" ? "" : number(line.billed_before)}</td>
      <td className="right">{quantity}</td>
      <td className="right">
        {line.still_to_come === "0" ? "" : <Marked className="heed">▲ {number(line.still_to_come)}</Marked>}
      </td>
      <td className="right">
        {reprice ? (
          <button type="button" className="quietly" onClick={reprice} aria-label={`Price of ${line.code}, ${shown}`}>
            {shown}
          </button>
        ) : (
          shown
        )}
        {line.price_reason && (
          <div>
            <Marked className="heed" title={line.price_reason}>
              ▲ {price(line.order_price)} on the order
            </Marked>
          </div>
        )}
      </td>
      <td className="right dim" title={line.discount_reason ?? undefined}>
        {line.discount === "0" ? "" : percent(line.discount)}
      </td>
      <td className="right">{money(line.net, currency)}</td>
    </>
  );
}

function Posted({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const document = invoice.document;
  if (!document) {
    return null;
  }
  const open = invoice.open ?? 0;
  return (
    <Worktop
      title={invoice.number}
      sum={
        open === 0
          ? `${invoice.customer.name} · settled`
          : `${invoice.customer.name} · ${moneyWithCurrency(open, document.currency)} open, due ${date(document.due_date)}`
      }
      back="/billing/invoices"
      actions={[
        {
          key: "n",
          label: `Receive payment · ${moneyWithCurrency(open, document.currency)}`,
          run: () => navigate(`/receipts/new?customer=${invoice.customer.id}&invoice=${invoice.id}`),
          primary: true,
          disabled: open === 0,
          needs: "post_money",
        },
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${invoice.customer.id}`) },
        { key: "w", label: "Print", run: () => window.print() },
      ]}
      tape={<InvoiceTape invoice={invoice} />}
    >
      <InvoicePaper invoice={invoice} />
      <Head invoice={invoice} />
      <Lines label="Lines of the invoice">
        <LineHead />
        <tbody>
          {document.lines.map((line) => (
            <tr key={line.shipment_line}>
              <LineCells line={line} currency={document.currency} quantity={`${number(line.quantity)} ${line.unit}`} />
            </tr>
          ))}
        </tbody>
        <tfoot>
          {(
            [
              ["Net", document.net],
              ["Tax", document.tax],
              [`Total ${document.currency}`, document.total],
            ] as const
          ).map(([label, amount]) => (
            <tr key={label}>
              <td colSpan={7} className="right">
                {label}
              </td>
              <td className="right">{money(amount, document.currency)}</td>
            </tr>
          ))}
        </tfoot>
      </Lines>
    </Worktop>
  );
}

/** A draft is kept as it is typed; the tape shows what it comes to. */
function Draft({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const place = useLocation().pathname;
  const today = useToday();
  const [asking, setAsking] = useState(false);
  const [typed, setTyped] = useState<Record<number, string>>({});
  const [dates, setDates] = useState<{ document_date?: string; posting_date?: string }>({});
  const [wrong, setWrong] = useState<Problem>();
  const saving = useRef<Promise<void>>(Promise.resolve());
  const [busy, setBusy] = useState(false);
  const [conflict, setConflict] = useState<MergeView>();
  const [repricing, setRepricing] = useState<InvoiceLine>();
  const may = useMay();
  const openAt = useOpenElsewhere("invoice")(invoice.id);
  const approvals = useApprovals("invoice", invoice.id);
  useOpenHere("invoice", invoice.id);
  const version = useRef(invoice.version);
  version.current = Math.max(version.current, invoice.version);
  const document = invoice.document;
  const lines = document?.lines ?? [];
  const typedDate = (field: "document_date" | "posting_date") =>
    dates[field] ?? (document?.[field].typed ? document[field].date : "");
  const others = useQuery({
    queryKey: ["unbilled", "", "", String(invoice.customer.id)],
    queryFn: () => got(api.GET("/api/unbilled", { params: { query: { customer: invoice.customer.id } } })),
  });
  const free = (others.data?.customers ?? [])
    .flatMap((owner) => owner.shipments)
    .flatMap((shipment) => shipment.lines.map((line) => ({ ...line, shipment })))
    .filter((line) => !lines.some((own) => own.shipment_line === line.shipment_line));
  // What the change on screen was made from: where someone else was faster, both can be put together.
  const began = (): ToBill => ({
    picks: picks({}),
    document_date: document?.document_date.typed ? document.document_date.date : null,
    posting_date: document?.posting_date.typed ? document.posting_date.date : null,
  });
  const save = (toBill: ToBill, over?: number) => {
    const base = began();
    const seen = over ?? version.current;
    setBusy(true);
    saving.current = saving.current.then(async () => {
      if (over !== undefined) {
        version.current = over;
      }
      try {
        const answer = await got(
          api.PUT("/api/invoices/{id}", {
            params: { path: { id: invoice.id }, header: keyed(newKey()) },
            body: { ...toBill, version: version.current },
          }),
        );
        version.current = answer.version;
        setWrong(undefined);
        setTyped({});
        setDates({});
        await changed();
      } catch (error) {
        if (error instanceof Problem && error.code === "stale") {
          setConflict(
            await got(
              api.POST("/api/invoices/{id}/merge", {
                params: { path: { id: invoice.id } },
                body: { version: seen, base, mine: toBill },
              }),
            ),
          );
        } else if (error instanceof Problem) {
          setWrong(error);
        }
      } finally {
        setBusy(false);
      }
    });
  };
  const picks = (quantities: Record<number, string>) =>
    lines.map((line) => ({
      shipment_line: line.shipment_line,
      quantity:
        quantities[line.shipment_line] === undefined
          ? line.quantity
          : typedDecimal(quantities[line.shipment_line] ?? ""),
    }));
  const kept = (field: "document_date" | "posting_date", value?: string) => (value ?? typedDate(field)) || null;
  const saveLines = (quantities: Record<number, string>) =>
    save({
      picks: picks(quantities),
      document_date: kept("document_date"),
      posting_date: kept("posting_date"),
    });
  const add = (shipmentLine: number) =>
    save({
      picks: [...picks({}), { shipment_line: shipmentLine }],
      document_date: kept("document_date"),
      posting_date: kept("posting_date"),
    });
  const leaveOut = (shipmentLine: number) =>
    save({
      picks: picks({}).filter((pick) => pick.shipment_line !== shipmentLine),
      document_date: kept("document_date"),
      posting_date: kept("posting_date"),
    });
  const saveDate = (field: "document_date" | "posting_date", value: string) => {
    setDates((before) => ({ ...before, [field]: value }));
    if (value === "" || /^20\d\d-\d\d-\d\d$/.test(value)) {
      save({
        picks: picks({}),
        document_date: field === "document_date" ? value || null : kept("document_date"),
        posting_date: field === "posting_date" ? value || null : kept("posting_date"),
      });
    }
  };
  const drop = async () => {
    try {
      await saving.current;
      await got(
        api.DELETE("/api/invoices/{id}", {
          params: { path: { id: invoice.id }, query: { version: version.current }, header: keyed(newKey()) },
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
            setConflict(undefined);
            setTyped({});
            setDates({});
            await changed();
          }}
          both={() => {
            setConflict(undefined);
            save(conflict.merged, conflict.version);
          }}
        />
      )}
      {repricing && (
        <FormAsk
          title={`Price of ${repricing.code}`}
          yes="Set the price"
          close={() => setRepricing(undefined)}
          fields={[
            {
              name: "unit_price",
              label: `For one ${repricing.unit}, ${document?.currency ?? ""}`,
              value: price(repricing.unit_price),
              right: true,
            },
            { name: "reason", label: "Why", kind: "words", value: repricing.price_reason ?? "" },
          ]}
          run={async (values, key) => {
            await saving.current;
            const outcome = await got(
              api.PUT("/api/invoices/{id}/lines/{line}/price", {
                params: { path: { id: invoice.id, line: repricing.shipment_line }, header: keyed(key) },
                body: {
                  version: version.current,
                  unit_price: typedDecimal(values.unit_price ?? ""),
                  reason: values.reason ?? "",
                },
              }),
            );
            version.current = outcome.version;
            say(
              outcome.waits == null
                ? { kind: "done", text: `The price of ${repricing.code} is set.` }
                : {
                    kind: "done",
                    text: "This is above your limit: it waits for a lead, and nothing has changed yet.",
                    links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
                  },
            );
            await changed();
          }}
        >
          {price(repricing.order_price)} was agreed on {repricing.order_number}. The difference stays visible; above
          your limit it is asked for.
        </FormAsk>
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
                body: { version: version.current, seen: invoice.fingerprint },
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

/** Someone else was faster: what they changed, and what can be made of both. */
function Conflict({
  merge,
  name,
  theirs,
  both,
}: {
  merge: MergeView;
  name: string;
  theirs: () => Promise<void>;
  both: () => void;
}) {
  const others = [...new Set(merge.since.map((row) => row.doer.name))].join(" and ") || "Someone else";
  return (
    <Ask
      title={`${others} changed this draft too`}
      yes={merge.clashes.length === 0 ? "Keep both changes" : "Keep mine over theirs"}
      no="Take theirs"
      careful={merge.clashes.length > 0}
      busyWords="One moment…"
      close={() => undefined}
      refuse={theirs}
      run={async () => both()}
    >
      <div>Your last change to the draft for {name} is not kept yet. In the meantime:</div>
      <ul style={{ margin: "8px 0", paddingLeft: 18 }}>
        {merge.since.map((row) => (
          <li key={row.sequence}>
            {row.doer.name} {row.deed.words}
            {row.deed.changes.map((change) => (
              <div key={change.field}>
                {change.field}: {change.from ?? "–"} → {change.to ?? "–"}
              </div>
            ))}
          </li>
        ))}
      </ul>
      {merge.clashes.length === 0 ? (
        <div>You changed other things, so both can stand.</div>
      ) : (
        <div>
          Both of you changed:
          {merge.clashes.map((clash) => (
            <div key={clash.field}>
              <b>{clash.field}</b>: was {clash.before ?? "–"}, theirs {clash.theirs ?? "–"}, yours {clash.mine ?? "–"}
            </div>
          ))}
        </div>
      )}
    </Ask>
  );
}
