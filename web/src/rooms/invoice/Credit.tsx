import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { CreditDraft, CreditLine, InvoiceView, LeftToCredit, ReturnView } from "../../api/types";
import { decimal, exponentOf, money, moneyWithCurrency, number, price, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { faultsOf, isStopped } from "../../parts/faults";
import { useKept } from "../../parts/kept";
import { PreviewTape } from "../../parts/TapeRoll";
import { ApprovalStrip, useApprovals } from "../../parts/together";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { asTyped, keptAs, otherLines, useSaveDraft } from "./CreditDraft";
import { addedLines, type OtherLine, OtherWay } from "./OtherWay";

/** What was typed for a line: how much of it, or how much off its price. */
interface Typed {
  quantity?: string;
  amount?: string;
}

/** What of a line is on a return: received on this one, or on any, and so not to be credited as staying there. */
function onReturn(left: LeftToCredit | undefined, back: ReturnView["lines"][number] | undefined): string | undefined {
  if (back) {
    return `${number(back.to_settle)} ${back.unit} received, to be credited`;
  }
  return left && left.on_returns !== "0" ? `${number(left.on_returns)} on a return` : undefined;
}

/** Credits lines of a posted invoice: goods that came back on a return, or that stay with the customer. */
export function CreditRoom() {
  const { id = "" } = useParams();
  const [params] = useSearchParams();
  return <CreditOf id={Number(id)} returnId={Number(params.get("return")) || undefined} />;
}

/** The same, or one that was begun and saved. */
export function CreditOf({
  id: invoiceId,
  returnId,
  draft,
}: {
  id: number;
  returnId: number | undefined;
  draft?: CreditDraft;
}) {
  const id = String(invoiceId);
  const invoice = useQuery({
    queryKey: ["invoice", id],
    queryFn: () => got(api.GET("/api/invoices/{id}", { params: { path: { id: Number(id) } } })),
  });
  // Goods that came back on a return are credited as received on it.
  const returned = useQuery({
    queryKey: ["return", String(returnId)],
    queryFn: () => got(api.GET("/api/returns/{id}", { params: { path: { id: returnId ?? 0 } } })),
    enabled: !!returnId,
  });
  if (!invoice.data?.document || (returnId && !returned.data)) {
    return (
      <Worktop title="Credit memo" actions={[]} back={`/invoices/${id}`}>
        {invoice.error && <Wrong error={invoice.error} />}
        {returned.error && <Wrong error={returned.error} />}
      </Worktop>
    );
  }
  return (
    <Opened key={id} invoice={invoice.data} document={invoice.data.document} returned={returned.data} draft={draft} />
  );
}

function Opened({
  invoice,
  document,
  returned,
  draft,
}: {
  invoice: InvoiceView;
  document: NonNullable<InvoiceView["document"]>;
  returned: ReturnView | undefined;
  draft: CreditDraft | undefined;
}) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const approvals = useApprovals("invoice", invoice.id);
  const back = (returned?.lines ?? []).filter(
    (line) => line.document?.id === invoice.id && line.billed_on != null && line.to_settle !== "0",
  );
  const cameBack = (position: number) => back.find((line) => line.position === position);
  const saved = draft?.form.of === "invoice" ? draft.form.wish : undefined;
  const begun = saved
    ? {
        lines: Object.fromEntries(
          saved.lines.map((line) => [
            line.position,
            line.quantity ? { quantity: asTyped(line.quantity) } : { amount: asTyped(line.amount, price) },
          ]),
        ) as Record<number, Typed>,
        reason: saved.reason ?? "",
        other: otherLines(saved.added),
        day: saved.date ?? "",
      }
    : {
        lines: Object.fromEntries(back.map((line) => [line.position, { quantity: number(line.to_settle) }])) as Record<
          number,
          Typed
        >,
        reason: returned
          ? [...new Set(back.map((line) => line.reason_name))].join(", ").concat(`, ${returned.number}`)
          : "",
        other: [] as OtherLine[],
        day: "",
      };
  const form = draft ? `credit-draft.${draft.id}.${draft.version}` : `credit.${invoice.id}.${returned?.id ?? ""}`;
  const kept = useKept(form, begun);
  const save = useSaveDraft(draft, kept.forget);
  const { lines: typed, reason, other, day } = kept.typed;
  const [asking, setAsking] = useState(false);
  const [unsaid, setUnsaid] = useState(false);
  const currency = document.currency;
  const lines: CreditLine[] = Object.entries(typed)
    .map(([position, { quantity, amount }]) => ({
      position: Number(position),
      quantity: typedDecimal(quantity ?? "") || null,
      amount: typedDecimal(amount ?? "") || null,
      return_line: quantity?.trim() ? (cameBack(Number(position))?.id ?? null) : null,
    }))
    .filter((line) => line.quantity || line.amount);
  const body = { lines, added: addedLines(other), date: day || null };
  const preview = useQuery({
    queryKey: ["credit-preview", invoice.id, invoice.version, body],
    queryFn: () =>
      got(
        api.POST("/api/invoices/{id}/credit/preview", {
          params: { path: { id: invoice.id } },
          // What it does to the books is the same for any reason.
          body: { ...body, reason: "to be said" },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = preview.error instanceof Problem ? preview.error : null;
  const shown = problem ? undefined : preview.data;
  const errors = faultsOf(lines.length > 0 ? shown?.blockers : [], problem, "invoice");
  if (unsaid && reason.trim() === "") {
    errors.reason = "Say why, in a few words: the customer reads it on the credit memo.";
  }
  const stopped = lines.length === 0 || !shown || preview.isFetching || isStopped(shown.blockers);
  const total = shown && lines.length > 0 ? moneyWithCurrency(shown.total, currency) : "";
  const known = /^(lines\..*|added\.\d.*|date|reason)$/;
  const elsewhere = Object.entries(errors).find(([field]) => !known.test(field));
  const credit = (position: number, what: Typed) => kept.type((now) => ({ lines: { ...now.lines, [position]: what } }));
  const all = () =>
    kept.type({
      lines: Object.fromEntries(
        (preview.data?.lines ?? [])
          .filter((line) => !line.obstacle || cameBack(line.position))
          .map((line) => {
            const quantity = cameBack(line.position)?.to_settle ?? line.quantity;
            return [
              line.position,
              quantity === "0"
                ? { amount: decimal(line.amount, exponentOf(currency)) }
                : { quantity: number(quantity) },
            ];
          }),
      ),
    });
  return (
    <Worktop
      title={`Credit ${invoice.number}`}
      sum={`${invoice.customer.name} · ${returned ? `goods received on ${returned.number}` : "the goods stay there"}${draft ? " · draft" : ""}`}
      back={draft ? "/billing/credit-memos" : returned ? `/returns/${returned.id}` : `/invoices/${invoice.id}`}
      actions={[
        {
          key: "p",
          label: total ? `Credit ${total}` : "Credit",
          run: () => {
            setUnsaid(reason.trim() === "");
            setAsking(reason.trim() !== "");
          },
          primary: true,
          disabled: stopped,
          needs: "cancel_invoice",
        },
        { key: "a", label: "All that is left", run: all },
        {
          key: "s",
          label: "Save draft",
          run: () => save({ of: "invoice", invoice: invoice.id, wish: { ...body, reason } }),
          disabled: lines.length === 0,
          needs: "cancel_invoice",
        },
        { key: "c", label: "Customer account", run: () => navigate(`/customers/${invoice.customer.id}`), quiet: true },
      ]}
      rest={
        <span>
          all of a line <kbd>=</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={lines.length > 0 ? shown : undefined}
          until="The credit memo and its entry appear here as soon as a line says how much."
        />
      }
    >
      <ApprovalStrip approvals={approvals} />
      <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) 170px", gap: 14, margin: "6px 0 14px" }}>
        <TextField
          label="Why"
          value={reason}
          onChange={(event) => kept.type({ reason: event.target.value })}
          autoFocus
          error={!!errors.reason}
          helperText={errors.reason ?? "Stands on the credit memo"}
        />
        <DateField
          label="Date"
          typed={day}
          assumed={today}
          onType={(day) => kept.type({ day })}
          error={errors.date}
          from="the business date"
        />
      </div>
      {(elsewhere || errors.lines) && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere?.[1] ?? errors.lines ?? "")} />
        </p>
      )}
      <Scroll>
        <Lines label="Lines of the invoice">
          <thead>
            <tr>
              <th>Item</th>
              <th className="right">Billed</th>
              <th className="right">{document.gross_priced ? "Amount with tax" : "Amount"}</th>
              <th className="right">Left</th>
              <th className="right">Quantity</th>
              <th className="right">or off the price</th>
              <th className="right">Credit {currency}</th>
            </tr>
          </thead>
          <tbody>
            {document.lines.map((line, position) => {
              const left = preview.data?.lines.find((one) => one.position === position);
              const at = lines.findIndex((one) => one.position === position);
              const wrong = errors[`lines.${at}.quantity`] ?? errors[`lines.${at}.amount`] ?? errors[`lines.${at}`];
              const mine = typed[position] ?? {};
              const mineBack = cameBack(position);
              const field = (what: keyof Typed, label: string, whole: string) => (
                <TextField
                  value={mine[what] ?? ""}
                  onChange={(event) => credit(position, { [what]: event.target.value })}
                  onKeyDown={(event) => {
                    if (event.key === "=") {
                      event.preventDefault();
                      credit(position, { [what]: whole });
                    }
                  }}
                  error={!!wrong && mine[what] !== undefined}
                  sx={{ width: what === "quantity" ? 84 : 104 }}
                  slotProps={{
                    htmlInput: { "aria-label": label, inputMode: "decimal", style: { textAlign: "right" } },
                  }}
                />
              );
              return (
                <tr key={position}>
                  <td>
                    <b>{line.code}</b> {line.description}
                    {(wrong ?? left?.obstacle ?? onReturn(left, mineBack)) && (
                      <div className={wrong ? "wrong" : "dim"} role={wrong ? "alert" : undefined}>
                        {wrong ?? left?.obstacle ?? onReturn(left, mineBack)}
                      </div>
                    )}
                  </td>
                  <td className="right dim">
                    {number(line.quantity)} {line.unit}
                  </td>
                  <td className="right dim">{money(line.amount - line.off, currency)}</td>
                  <td className="right">
                    {left && (left.quantity === "0" ? "" : `${number(left.quantity)} ${line.unit} · `)}
                    {left && money(left.amount, currency)}
                  </td>
                  <td className="right">
                    {left && (mineBack || (!left.obstacle && left.quantity !== "0"))
                      ? field(
                          "quantity",
                          `Quantity of ${line.code} to credit`,
                          number(mineBack?.to_settle ?? left.quantity),
                        )
                      : ""}
                  </td>
                  <td className="right">
                    {left && !left.obstacle
                      ? field(
                          "amount",
                          `Amount off the price of ${line.code}`,
                          decimal(left.amount, exponentOf(currency)),
                        )
                      : ""}
                  </td>
                  <td className="right">{left && at >= 0 && !wrong ? money(left.now, currency) : ""}</td>
                </tr>
              );
            })}
          </tbody>
        </Lines>
        {lines.length > 0 && (
          <>
            <div style={{ height: 14 }} />
            <OtherWay
              typed={other}
              type={(other) => kept.type({ other })}
              amounts={shown?.added ?? []}
              errors={errors}
              currency={currency}
              goods={false}
            />
          </>
        )}
      </Scroll>
      {asking && shown && (
        <Ask
          title={`Credit ${total} of ${invoice.number}?`}
          yes={`Credit · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const done = await got(
              api.POST("/api/invoices/{id}/credit", {
                params: { path: { id: invoice.id }, query: keptAs(draft), header: keyed(key) },
                body: { ...body, reason, seen: shown.fingerprint },
              }),
            );
            say(
              done.waits != null
                ? {
                    kind: "done",
                    text: "This is above your limit: it waits for a supervisor, and nothing has changed yet.",
                    links: [{ text: "Look at the request", to: `/approvals/${done.waits}` }],
                  }
                : { kind: "done", text: `${done.number} credits ${total} of ${invoice.number}.` },
            );
            kept.forget();
            await changed();
            navigate(done.credit_memo != null ? `/credit-memos/${done.credit_memo}` : `/invoices/${invoice.id}`, {
              replace: true,
            });
          }}
        >
          What is open of {invoice.number} is settled by it first; what was paid is kept for the customer, unapplied.
        </Ask>
      )}
    </Worktop>
  );
}
