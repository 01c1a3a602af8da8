import TextField from "@mui/material/TextField";
import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import { type AddedLine, type InvoiceLine, type InvoiceView, type ToBill, whole } from "../../api/types";
import { date, moneyWithCurrency, number, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { isDay } from "../../parts/dates";
import { ApprovalStrip, OpenMark, useApprovals, useOpenElsewhere, useOpenHere } from "../../parts/together";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { AddLineAsk, TermsAsk, TextsAsk } from "./adding";
import { Conflict } from "./Conflict";
import { DepositsOfDraft } from "./deposits";
import { useKeptDraft } from "./keeping";
import { Head, InvoiceTape, LineCells, LineHead } from "./lines";
import { MoreOfCustomer } from "./more";
import { DiscountAsk, Reprice, Retax } from "./Reprice";
import { type Shifted, ShiftedAsk, shiftedBetween } from "./shifted";
import { type Source, sourcesOf } from "./source";

type DateName = "document_date" | "posting_date";
type Open =
  | { what: "post" | "discount" | "texts" | "terms" | "delete" }
  | { what: "price" | "tax"; line: InvoiceLine; source: Source }
  | { what: "line"; at?: number };

/** Quantities that were typed, kept on what is billed. */
function withQuantities(now: ToBill, typed: Record<string, string>): ToBill {
  const said = (key: string) => (typed[key] === undefined ? undefined : typedDecimal(typed[key] ?? ""));
  return {
    ...now,
    picks: now.picks.map((pick) => {
      const quantity = said(`s${pick.shipment_line}`);
      return quantity === undefined ? pick : { ...pick, quantity };
    }),
    order_picks: now.order_picks.map((pick) => {
      const quantity = said(`o${pick.order_line}`);
      return quantity === undefined ? pick : { ...pick, quantity };
    }),
    added: now.added.map((line, at) => {
      const quantity = said(`t${at}`);
      return quantity === undefined ? line : { ...line, quantity };
    }),
  };
}

/** What is billed without one of its lines. */
function without(now: ToBill, source: Source): ToBill {
  return {
    ...now,
    picks: now.picks.filter((pick) => `s${pick.shipment_line}` !== source.key),
    order_picks: now.order_picks.filter((pick) => `o${pick.order_line}` !== source.key),
    added: now.added.filter((_, at) => `t${at}` !== source.key),
  };
}

/** What became of a draft since a version that was looked at. */
async function whatShifted(seen: InvoiceView, version: number): Promise<Shifted> {
  const path = { id: seen.id };
  const asSeen = whole(seen.to_bill);
  const body = { version, base: asSeen, mine: asSeen };
  const { since } = await got(api.POST("/api/invoices/{id}/merge", { params: { path }, body }));
  const now = await got(api.GET("/api/invoices/{id}", { params: { path } }));
  return shiftedBetween(seen, now, since);
}

/** A draft is kept as it is typed; the tape shows what it comes to. */
export function Draft({ invoice }: { invoice: InvoiceView }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const place = useLocation().pathname;
  const today = useToday();
  const [open, setOpen] = useState<Open>();
  const [shifted, setShifted] = useState<Shifted>();
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [dates, setDates] = useState<Partial<Record<DateName, string>>>({});
  const may = useMay();
  const openAt = useOpenElsewhere("invoice")(invoice.id);
  const approvals = useApprovals("invoice", invoice.id);
  useOpenHere("invoice", invoice.id);
  const document = invoice.document;
  const lines = document?.lines ?? [];
  const sources = sourcesOf(lines);
  // What was kept is no longer only typed; what was typed meanwhile still is.
  const forget = (kept: ToBill) => {
    const quantities = new Map<string, string | null | undefined>([
      ...kept.picks.map((pick): [string, string | null | undefined] => [`s${pick.shipment_line}`, pick.quantity]),
      ...kept.order_picks.map((pick): [string, string | null | undefined] => [`o${pick.order_line}`, pick.quantity]),
      ...kept.added.map((line, at): [string, string] => [`t${at}`, line.quantity]),
    ]);
    setTyped((before) =>
      Object.fromEntries(
        Object.entries(before).filter(
          ([key, value]) => quantities.has(key) && quantities.get(key) !== typedDecimal(value),
        ),
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
  const saveLines = (quantities: Record<string, string>) => change((now) => withQuantities(now, quantities));
  const saveDate = (name: DateName, value: string) => {
    setDates((before) => ({ ...before, [name]: value }));
    if (value === "" || isDay(value)) {
      change((now) => ({ ...now, [name]: value || null }));
    }
  };
  const saveAdded = (at: number | undefined, line: AddedLine) =>
    change((now) => ({
      ...now,
      added: at === undefined ? [...now.added, line] : now.added.map((one, place) => (place === at ? line : one)),
    }));
  const back = invoice.run ? `/runs/${invoice.run}` : "/billing";
  const stopped = invoice.blockers.some((blocker) => blocker.effect === "stops");
  const total = document ? moneyWithCurrency(document.total, document.currency) : "";
  const fieldError = (field: string) => (wrong?.field === field ? wrong.message : undefined);
  // A day that is none is not saved either: the draft would be posted on another.
  const unsaved = Object.keys(typed).length > 0 || Object.values(dates).some((day) => day !== "" && !isDay(day));
  const close = () => setOpen(undefined);
  useEffect(() => {
    const first = window.document.querySelector<HTMLInputElement>("[data-quantity] input");
    if (window.document.activeElement === window.document.body) {
      first?.focus();
      // What is typed next is the quantity, not the end of another.
      first?.select();
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
      back={back}
      actions={[
        {
          key: "p",
          label: `Post · ${total}`,
          run: () => setOpen({ what: "post" }),
          primary: true,
          disabled: stopped || !document || busy || unsaved || !!wrong,
          needs: "post_invoice",
        },
        { key: "a", label: "Add a line", run: () => setOpen({ what: "line" }), needs: "keep_draft" },
        { key: "o", label: "Discount", run: () => setOpen({ what: "discount" }), needs: "change_price" },
        { key: "m", label: "Terms", run: () => setOpen({ what: "terms" }), needs: "keep_draft" },
        { key: "t", label: "Texts", run: () => setOpen({ what: "texts" }), needs: "keep_draft" },
        { key: "x", label: "Delete draft…", run: () => setOpen({ what: "delete" }), quiet: true, needs: "keep_draft" },
        {
          key: "r",
          label: "Change a price",
          run: () => lines[0] && sources[0] && setOpen({ what: "price", line: lines[0], source: sources[0] }),
          disabled: lines.length !== 1 || sources[0]?.orderLine === undefined,
          quiet: true,
          needs: "change_price",
        },
      ]}
      rest={busy ? "saving…" : wrong || unsaved ? "not saved yet" : "all changes saved"}
      tape={<InvoiceTape invoice={invoice} />}
    >
      <Head invoice={invoice} />
      {invoice.held && (
        <p style={{ margin: "0 0 6px", color: "var(--heed)" }}>▲ Not posted with its run: {invoice.held}</p>
      )}
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
          <LineHead draft gross={document?.gross_priced ?? false} />
          <tbody>
            {lines.map((line, position) => {
              const source = sources[position] ?? { key: `t${position}` };
              const ordered = source.orderLine !== undefined;
              const editing = source.added;
              return (
                <tr key={source.key}>
                  <LineCells
                    line={line}
                    source={source}
                    currency={document?.currency ?? "EUR"}
                    quantity={
                      <TextField
                        data-quantity
                        value={typed[source.key] ?? number(line.quantity)}
                        error={!!fieldError(`lines.${position}.quantity`)}
                        onChange={(event) => setTyped((before) => ({ ...before, [source.key]: event.target.value }))}
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
                        sx={{ width: 76 }}
                        slotProps={{
                          htmlInput: {
                            "aria-label": `Quantity of ${line.code}, ${line.unbilled} unbilled`,
                            inputMode: "decimal",
                            style: { textAlign: "right" },
                          },
                        }}
                      />
                    }
                    {...(ordered
                      ? may("change_price") && { reprice: () => setOpen({ what: "price", line, source }) }
                      : may("keep_draft") &&
                        editing !== undefined && { reprice: () => setOpen({ what: "line", at: editing }) })}
                    {...(may("keep_draft") &&
                      (ordered
                        ? { retax: () => setOpen({ what: "tax", line, source }) }
                        : editing !== undefined && { retax: () => setOpen({ what: "line", at: editing }) }))}
                  />
                  <td>
                    {lines.length > 1 && may("keep_draft") && (
                      <button
                        type="button"
                        className="quietly"
                        onClick={() => change((now) => without(now, source))}
                        aria-label={`Leave ${line.code} out`}
                      >
                        ✕
                      </button>
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </Lines>
        <DepositsOfDraft
          invoice={invoice}
          currency={document?.currency ?? "EUR"}
          seen={settled}
          set={setVersion}
          locked={!may("keep_draft")}
        />
        {may("keep_draft") && (
          <MoreOfCustomer
            customer={invoice.customer.id}
            taken={sources}
            typing={() => setWrong(undefined)}
            add={(picks, orderPicks) =>
              change((now) => ({
                ...now,
                picks: [...now.picks, ...picks],
                order_picks: [...now.order_picks, ...orderPicks],
              }))
            }
          />
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
      {open?.what === "price" && document && (
        <Reprice
          line={open.line}
          source={open.source}
          invoice={invoice.id}
          currency={document.currency}
          seen={settled}
          set={setVersion}
          close={close}
        />
      )}
      {open?.what === "tax" && (
        <Retax
          line={open.line}
          source={open.source}
          invoice={invoice.id}
          seen={settled}
          set={setVersion}
          close={close}
        />
      )}
      {open?.what === "discount" && <DiscountAsk invoice={invoice} seen={settled} set={setVersion} close={close} />}
      {open?.what === "line" && (
        <AddLineAsk invoice={invoice} at={open.at} keep={(line) => saveAdded(open.at, line)} close={close} />
      )}
      {open?.what === "texts" && <TextsAsk invoice={invoice} change={change} close={close} />}
      {open?.what === "terms" && <TermsAsk invoice={invoice} change={change} close={close} />}
      {open?.what === "delete" && (
        <Ask
          title={`Delete the draft for ${invoice.customer.name}?`}
          yes="Delete draft"
          busyWords="Deleting…"
          close={close}
          run={async (key) => {
            const version = await settled();
            await got(
              api.DELETE("/api/invoices/{id}", {
                params: { path: { id: invoice.id }, query: { version }, header: keyed(key) },
              }),
            );
            say({ kind: "done", text: "The draft is deleted; its quantities are unbilled again." });
            navigate(back);
            await changed(["invoice", String(invoice.id)]);
          }}
        >
          What it bills{total ? `, ${total},` : ""} is unbilled again. Prices, discounts, and texts typed on it are
          lost.
        </Ask>
      )}
      {shifted && <ShiftedAsk shifted={shifted} name={invoice.customer.name} close={() => setShifted(undefined)} />}
      {open?.what === "post" && document && (
        <Ask
          title="Post this invoice?"
          yes={`Post · ${total}`}
          close={close}
          run={async (key) => {
            const version = await settled();
            let posted: { number: string };
            try {
              posted = await got(
                api.POST("/api/invoices/{id}/post", {
                  params: { path: { id: invoice.id }, header: keyed(key) },
                  body: { version, seen: invoice.fingerprint },
                }),
              );
            } catch (error) {
              if (!(error instanceof Problem) || (error.code !== "stale" && error.code !== "moved")) {
                throw error;
              }
              setShifted(await whatShifted(invoice, version));
              await changed();
              return;
            }
            say({
              kind: "done",
              text: `${posted.number} posted · ${total}, due ${date(document.due_date)}.`,
              links: [
                invoice.run
                  ? { text: "Back to the run", to: `/runs/${invoice.run}` }
                  : { text: "Back to unbilled", to: "/billing" },
              ],
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
