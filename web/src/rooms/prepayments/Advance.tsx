import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import Radio from "@mui/material/Radio";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { AdvanceForm, AdvanceLineView, AdvancePlan, AskAs } from "../../api/types";
import { money, moneyWithCurrency, number, percent, typedDecimal } from "../../format";
import { Lines, Marked, Scroll, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { PreviewTape } from "../../parts/TapeRoll";
import { staleWords } from "../../parts/together";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { PrepaymentLines, RequestLines } from "./OfOrder";

const Form = styled("div")({
  display: "grid",
  gridTemplateColumns: "auto 160px 166px",
  gap: "16px 18px",
  alignItems: "start",
  justifyContent: "start",
  margin: "6px 0 12px",
  "& fieldset": { border: 0, padding: 0, margin: 0, display: "flex", gap: 14, alignItems: "center", minHeight: 36 },
  "& legend": { fontSize: 12.5, fontWeight: 600, color: "var(--ink-3)", padding: 0 },
  "& fieldset label": { display: "flex", gap: 5, alignItems: "center", whiteSpace: "nowrap" },
  "& input[type=radio]": { accentColor: "var(--act)" },
});

const kinds: [AskAs, string][] = [
  ["percent", "Share of the lines"],
  ["net", "Amount, net"],
  ["gross", "Amount, with tax"],
];

const from: Record<AdvanceLineView["from"], string> = {
  line: "set here",
  item: "the item's own",
  order: "the order's",
  customer: "the customer's usual",
};

interface TypedLine {
  included?: boolean;
  percent?: string;
}

/** Bills a part of an order before it ships. */
export function AdvanceRoom() {
  const { id = "" } = useParams();
  const kept = useQuery({
    queryKey: ["advance", Number(id)],
    queryFn: () => got(api.GET("/api/orders/{id}/advance", { params: { path: { id: Number(id) } } })),
    gcTime: 0,
  });
  if (!kept.data) {
    return (
      <Worktop title="Bill in advance" actions={[]} back={`/orders/${id}`}>
        {kept.error && <Wrong error={kept.error} />}
      </Worktop>
    );
  }
  return <Opened key={kept.data.order.id} kept={kept.data} />;
}

function Opened({ kept }: { kept: AdvancePlan }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const today = useToday();
  const { say } = useNotices();
  const [askAs, setAskAs] = useState<AskAs>("percent");
  const [share, setShare] = useState(kept.saved.percent ?? "");
  const [amount, setAmount] = useState("");
  const [when, setWhen] = useState("");
  const [typed, setTyped] = useState<Record<number, TypedLine>>(() =>
    Object.fromEntries(
      (kept.saved.lines ?? []).map((line) => [
        line.order_line,
        {
          ...(line.included != null && { included: line.included }),
          ...(line.percent != null && { percent: line.percent }),
        },
      ]),
    ),
  );
  const [version, setVersion] = useState(kept.version);
  const [asking, setAsking] = useState<"bill" | "request">();
  const order = kept.order;
  const body: AdvanceForm = {
    ask_as: askAs,
    percent: share.trim() ? typedDecimal(share) : null,
    amount: askAs === "percent" ? null : typedDecimal(amount),
    lines: Object.entries(typed).map(([line, said]) => ({
      order_line: Number(line),
      included: said.included ?? null,
      percent: said.percent?.trim() ? typedDecimal(said.percent) : null,
    })),
    document_date: when || null,
  };
  const preview = useQuery({
    queryKey: ["advance-preview", order.id, body],
    queryFn: () => got(api.POST("/api/orders/{id}/advance/preview", { params: { path: { id: order.id } }, body })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const problem = preview.error instanceof Problem ? preview.error : null;
  const plan = preview.data ?? kept;
  const document = problem ? undefined : plan.preview?.document;
  const errors: Record<string, string> = {};
  for (const blocker of problem ? [] : plan.blockers) {
    if (blocker.effect === "stops") {
      errors[blocker.field] ??= blocker.sentence;
    }
  }
  if (problem?.field) {
    errors[problem.field] = problem.message;
  }
  const stopped = !document || preview.isFetching || Object.keys(errors).length > 0;
  const total = document ? moneyWithCurrency(document.total, plan.currency) : "";
  // Asking for nothing yet is no mistake.
  const [asSaved] = useState(typed);
  const touched = share !== (kept.saved.percent ?? "") || amount.trim() !== "" || typed !== asSaved;
  const nothing = plan.now === 0 && !problem;
  const errorOf = (field: string) => (field === "percent" && nothing && !touched ? undefined : errors[field]);
  const known = [
    "percent",
    "amount",
    "document_date",
    ...plan.lines.flatMap((_, at) => [`lines.${at}.percent`, `lines.${at}.included`]),
  ];
  const elsewhere = Object.entries(errors).find(([field]) => !known.includes(field));
  const set = (line: AdvanceLineView, said: TypedLine) =>
    setTyped((now) => ({ ...now, [line.order_line]: { ...now[line.order_line], ...said } }));
  const save = async () => {
    try {
      const now = await got(
        api.PUT("/api/orders/{id}/advance", {
          params: { path: { id: order.id }, header: keyed(newKey()) },
          body: { version, percent: body.percent ?? null, lines: body.lines ?? [] },
        }),
      );
      setVersion(now.version);
      say({ kind: "done", text: `What ${order.number} asks for in advance is saved with it.` });
      await changed();
    } catch (error) {
      say({ kind: "stop", text: await staleWords(error, "order", order.id, version) });
    }
  };
  return (
    <Worktop
      title={`Bill in advance of ${order.number}`}
      sum={`${kept.customer_name}${plan.usual ? ` · usually ${percent(plan.usual)} in advance` : ""}`}
      back={`/orders/${order.id}`}
      actions={[
        {
          key: "p",
          label: `Post prepayment invoice${total ? ` · ${total}` : ""}`,
          run: () => setAsking("bill"),
          primary: true,
          disabled: stopped,
          needs: "post_invoice",
        },
        {
          key: "a",
          label: "Ask for payment",
          run: () => setAsking("request"),
          disabled: stopped,
          needs: "post_invoice",
        },
        {
          key: "e",
          label: "Save",
          run: save,
          disabled: askAs !== "percent" || !!problem,
          needs: "keep_order",
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={!problem && plan?.preview ? { ...plan.preview, blockers: plan.blockers } : undefined}
          until="The arithmetic and the entry appear here as soon as something is asked for."
        />
      }
    >
      <Form>
        <fieldset>
          <legend>Ask for</legend>
          {kinds.map(([kind, label]) => (
            <FormControlLabel
              key={kind}
              label={label}
              control={<Radio name="ask" checked={askAs === kind} onChange={() => setAskAs(kind)} />}
            />
          ))}
        </fieldset>
        {askAs === "percent" ? (
          <TextField
            label="Advance %"
            value={share}
            onChange={(event) => setShare(event.target.value)}
            autoFocus
            error={!!errorOf("percent")}
            helperText={
              errorOf("percent") ??
              (nothing && plan.invoices.length > 0
                ? "billed already"
                : plan.usual && !share
                  ? `the customer's usual ${percent(plan.usual)}`
                  : undefined)
            }
            slotProps={{ htmlInput: { inputMode: "decimal", style: { textAlign: "right" } } }}
          />
        ) : (
          <TextField
            label={`Amount ${plan.currency}`}
            value={amount}
            onChange={(event) => setAmount(event.target.value)}
            autoFocus
            error={amount.trim() !== "" && !!errors.amount}
            helperText={amount.trim() === "" ? "asked on top of what was" : errors.amount}
            slotProps={{ htmlInput: { inputMode: "decimal", style: { textAlign: "right" } } }}
          />
        )}
        <DateField
          label="Document date"
          typed={when}
          assumed={today}
          onType={setWhen}
          error={errors.document_date}
          from="the business date"
        />
      </Form>
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Scroll>
        <Lines label="Lines of the order">
          <thead>
            <tr>
              <th>In</th>
              <th>Item</th>
              <th className="right">Ordered</th>
              <th className="right">{plan.gross_priced ? "With tax" : "Net"}</th>
              <th className="right">Advance %</th>
              <th className="right">Asked before</th>
              <th className="right">Used</th>
              <th className="right">
                {askAs === "gross" || (askAs === "percent" && plan.gross_priced) ? "Now, with tax" : "Now, net"}
              </th>
            </tr>
          </thead>
          <tbody>
            {plan.lines.map((line, at) => (
              <tr key={line.order_line}>
                <td>
                  <Checkbox
                    checked={line.included}
                    disabled={line.kind === "packaging"}
                    onChange={(event) => set(line, { included: event.target.checked })}
                    slotProps={{ input: { "aria-label": `${line.code} in` } }}
                  />
                </td>
                <td>
                  <b>{line.code}</b> {line.description}
                  {line.kind === "packaging" && <Marked className="dim"> owed back, never in advance</Marked>}
                </td>
                <td className="right">
                  {number(line.wanted)} {line.unit}
                  {line.billed !== "0" && (
                    <div>
                      <Marked className="dim">{number(line.billed)} billed</Marked>
                    </div>
                  )}
                </td>
                <td className="right">{money(line.of, plan.currency)}</td>
                <td className="right">
                  {askAs === "percent" && line.kind !== "packaging" && (
                    <TextField
                      value={typed[line.order_line]?.percent ?? ""}
                      onChange={(event) => set(line, { percent: event.target.value })}
                      placeholder={line.percent ? percent(line.percent).replace("%", "").trim() : ""}
                      error={!!errors[`lines.${at}.percent`]}
                      helperText={errors[`lines.${at}.percent`] ?? (line.percent ? from[line.from] : undefined)}
                      sx={{ width: 116 }}
                      slotProps={{
                        htmlInput: {
                          "aria-label": `Advance % of ${line.code}`,
                          inputMode: "decimal",
                          style: { textAlign: "right" },
                        },
                      }}
                    />
                  )}
                </td>
                <td className="right dim">{line.before > 0 && money(line.before, plan.currency)}</td>
                <td className="right dim">{line.used > 0 && money(line.used, plan.currency)}</td>
                <td className="right">
                  {line.now > 0 && money(line.now, plan.currency)}
                  {line.lower > 0 && <Marked className="heed">▲ {money(-line.lower, plan.currency)}</Marked>}
                </td>
              </tr>
            ))}
          </tbody>
          <tfoot>
            <tr>
              <td colSpan={7} className="right">
                Asked for now
              </td>
              <td className="right">{money(plan.now, plan.currency)}</td>
            </tr>
            {plan.lower > 0 && (
              <tr>
                <td colSpan={7} className="right">
                  Less than before: credit it below
                </td>
                <td className="right">{money(-plan.lower, plan.currency)}</td>
              </tr>
            )}
          </tfoot>
        </Lines>
        <PrepaymentLines rows={plan.invoices} currency={plan.currency} />
        <RequestLines rows={plan.requests} currency={plan.currency} />
      </Scroll>
      {asking === "request" && document && (
        <Ask
          title={`Ask for payment in advance of ${order.number}?`}
          yes={`Ask · ${total}`}
          close={() => setAsking(undefined)}
          run={async (key) => {
            const asked = await got(
              api.POST("/api/orders/{id}/payment-requests", {
                params: { path: { id: order.id }, header: keyed(key) },
                body: { ...body, seen: plan.preview?.fingerprint ?? null },
              }),
            );
            say({ kind: "done", text: `${asked.number} asks for ${total}. Nothing is posted before it is paid.` });
            await changed();
            navigate(`/payment-requests/${asked.id}`, { replace: true });
          }}
        >
          For an order that may still be canceled: the same paper, and no entry. Paid, it becomes a prepayment invoice
          of that day, with its tax.
        </Ask>
      )}
      {asking === "bill" && document && (
        <Ask
          title={`Post a prepayment invoice for ${order.number}?`}
          yes={`Post · ${total}`}
          close={() => setAsking(undefined)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/orders/{id}/advance", {
                params: { path: { id: order.id }, header: keyed(key) },
                body: { ...body, seen: plan.preview?.fingerprint ?? null },
              }),
            );
            say({ kind: "done", text: `${posted.number} posted · ${total}.` });
            await changed();
            navigate(`/invoices/${posted.id}`, { replace: true });
          }}
        >
          {kept.customer_name} owes {total}, with {moneyWithCurrency(document.tax, plan.currency)} of tax. Its net is
          used as the order is billed.
        </Ask>
      )}
    </Worktop>
  );
}
