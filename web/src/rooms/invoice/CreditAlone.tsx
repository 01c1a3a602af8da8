import Autocomplete from "@mui/material/Autocomplete";
import MenuItem from "@mui/material/MenuItem";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { AddedLine, CreditAloneWish, CreditDraft, CustomerRow, ReturnView } from "../../api/types";
import { money, moneyWithCurrency, number, price, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { faultsOf, isStopped } from "../../parts/faults";
import { useGoods } from "../../parts/form";
import { useKept } from "../../parts/kept";
import { PreviewTape } from "../../parts/TapeRoll";
import { ApprovalStrip, useApprovals } from "../../parts/together";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { asTyped, keptAs, useSaveDraft } from "./CreditDraft";
import { ItemChoice } from "./OtherWay";

const Head = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 1.1fr) minmax(0, 1.3fr) 170px",
  gap: 14,
  margin: "6px 0 14px",
});

/** A line that is credited, as typed. */
interface Typed {
  item: string;
  words: string;
  quantity: string;
  price: string;
  tax: string;
  /** The line of a return without a document that it credits. */
  returned?: number;
}

const nothing: Typed = { item: "", words: "", quantity: "", price: "", tax: "" };

const said = (line: Typed) => line.item.trim() !== "";

function asLine(line: Typed, reason: string): AddedLine {
  return {
    item: line.item.trim(),
    quantity: typedDecimal(line.quantity) || "1",
    ...(line.words.trim() && { description: line.words.trim() }),
    ...(line.price.trim() && { unit_price: typedDecimal(line.price) }),
    // Why its tax code is another is why it is credited.
    ...(line.tax && { tax_code: line.tax, reason: reason.trim() || "as credited" }),
  };
}

/** What came back on a return without a document and is to be credited, at the price that was said. */
function toCredit(view: ReturnView): Typed[] {
  const open = view.lines.filter((line) => line.unit_price != null && line.to_settle !== "0");
  return open.map((line) => ({
    ...nothing,
    item: line.code,
    quantity: number(line.to_settle),
    price: price(line.unit_price ?? "0"),
    returned: line.id,
  }));
}

/** A credit memo with no invoice behind it: an allowance, goodwill, a bonus, or goods no document shows. */
export function CreditAloneRoom() {
  const [params] = useSearchParams();
  return <CreditAloneOf returnId={Number(params.get("return")) || undefined} />;
}

/** The same, or one that was begun and saved. */
export function CreditAloneOf({ returnId, draft }: { returnId: number | undefined; draft?: CreditDraft }) {
  const found = useQuery({
    queryKey: ["return", String(returnId)],
    queryFn: () => got(api.GET("/api/returns/{id}", { params: { path: { id: returnId ?? 0 } } })),
    enabled: !!returnId,
  });
  if (returnId && !found.data) {
    return (
      <Worktop title="New credit memo" actions={[]} back={`/returns/${returnId}`}>
        {found.error && <Wrong error={found.error} />}
      </Worktop>
    );
  }
  return <CreditAlone key={returnId} returned={found.data} draft={draft} />;
}

/** What a draft says, as it was typed. */
function asKept(wish: CreditAloneWish): Typed[] {
  return wish.added.map((line, at) => ({
    item: line.item ?? line.account ?? "",
    words: line.description ?? "",
    quantity: asTyped(line.quantity),
    price: asTyped(line.unit_price, price),
    tax: line.tax_code ?? "",
    returned: wish.came_back?.find((back) => back.line === at)?.return_line,
  }));
}

function CreditAlone({ returned, draft }: { returned: ReturnView | undefined; draft: CreditDraft | undefined }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const goods = useGoods();
  const [params, setParams] = useSearchParams();
  const saved = draft?.form.of === "alone" ? draft.form.wish : undefined;
  const customerId = Number(params.get("customer")) || saved?.customer || undefined;
  const form = draft
    ? `credit-draft.${draft.id}.${draft.version}`
    : returned
      ? `credit-memo.${returned.id}.${returned.version}`
      : "credit-memo";
  const { typed, type, forget } = useKept(form, {
    lines: saved ? asKept(saved) : returned ? toCredit(returned) : ([] as Typed[]),
    reason: saved?.reason ?? "",
    day: saved?.date ?? "",
  });
  const save = useSaveDraft(draft, forget);
  const { lines, reason, day } = typed;
  const [asking, setAsking] = useState(false);
  const [unsaid, setUnsaid] = useState(false);
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const approvals = useApprovals("customer", customerId ?? 0);
  const rows = [...lines.filter((line) => Object.values(line).some((text) => text !== "" && text != null)), nothing];
  const filled = rows.filter(said);
  const cameBack = filled.flatMap((line, at) =>
    line.returned == null ? [] : [{ line: at, return_line: line.returned }],
  );
  const body = {
    customer: customerId ?? 0,
    added: filled.map((line) => asLine(line, reason)),
    ...(cameBack.length > 0 && { came_back: cameBack }),
    date: day || null,
  };
  const settled = useSettled(JSON.stringify(body));
  const ready = !!customerId && filled.length > 0;
  const preview = useQuery({
    queryKey: ["credit-alone", settled],
    // What it does to the books is the same for any reason.
    queryFn: () =>
      got(api.POST("/api/credit-memos/preview", { body: { ...JSON.parse(settled), reason: "to be said" } })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const shown = ready && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "customer");
  if (unsaid && reason.trim() === "") {
    errors.reason = "Say why, in a few words: the customer reads it on the credit memo.";
  }
  const stopped = !shown || settled !== JSON.stringify(body) || preview.isFetching || isStopped(shown.blockers);
  const currency = shown?.currency ?? chosen?.currency ?? "";
  const total = shown ? moneyWithCurrency(shown.total, currency) : "";
  const elsewhere = Object.entries(errors).find(([field]) => !/^(added\.\d.*|date|reason)$/.test(field));
  const change = (at: number, what: Partial<Typed>) =>
    type({ lines: rows.map((line, place) => (place === at ? { ...line, ...what } : line)) });
  return (
    <Worktop
      title="New credit memo"
      sum={[chosen?.name, returned ? `what came back on ${returned.number}` : "no invoice behind it", draft && "draft"]
        .filter(Boolean)
        .join(" · ")}
      back={returned && !draft ? `/returns/${returned.id}` : "/billing/credit-memos"}
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
        {
          key: "s",
          label: "Save draft",
          run: () => save({ of: "alone", wish: { ...body, reason } }),
          disabled: !customerId || filled.length === 0,
          needs: "cancel_invoice",
        },
        {
          key: "c",
          label: "Customer account",
          run: () => navigate(`/customers/${customerId}`),
          disabled: !customerId,
          quiet: true,
        },
      ]}
      tape={
        <PreviewTape
          preview={shown}
          until="The credit memo and its entry appear here as soon as there is a customer and a line."
        />
      }
    >
      <ApprovalStrip approvals={approvals} />
      <Head>
        <Autocomplete<CustomerRow>
          options={customers.data ?? []}
          getOptionLabel={(option) => `${option.number} ${option.name}`}
          value={chosen}
          isOptionEqualToValue={(option, value) => option.id === value.id}
          autoHighlight
          onChange={(_, option) => setParams(option ? { customer: String(option.id) } : {}, { replace: true })}
          renderInput={(input) => <TextField {...input} label="Customer" autoFocus={!customerId} />}
        />
        <TextField
          label="Why"
          value={reason}
          onChange={(event) => type({ reason: event.target.value })}
          autoFocus={!!customerId}
          error={!!errors.reason}
          helperText={errors.reason ?? "Stands on the credit memo"}
        />
        <DateField
          label="Date"
          typed={day}
          assumed={today}
          onType={(day) => type({ day })}
          error={errors.date}
          from="the business date"
        />
      </Head>
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Scroll>
        <Lines label="What is credited">
          <thead>
            <tr>
              <th style={{ width: "24%" }}>Item or account</th>
              <th>Words</th>
              <th className="right">Quantity</th>
              <th className="right">Price for one</th>
              <th>Tax</th>
              <th className="right">Credit {currency}</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((line, at) => {
              const place = rows.slice(0, at).filter(said).length;
              const wrong = said(line)
                ? Object.entries(errors).find(
                    ([field]) => field === `added.${place}` || field.startsWith(`added.${place}.`),
                  )?.[1]
                : undefined;
              const cell = (what: "words" | "quantity" | "price", label: string, hint: string, width?: number) => (
                <TextField
                  value={line[what]}
                  onChange={(event) => change(at, { [what]: event.target.value })}
                  placeholder={said(line) ? hint : ""}
                  sx={{ width: width ?? "100%" }}
                  slotProps={{
                    htmlInput: {
                      "aria-label": `${label} of line ${at + 1}`,
                      ...(what !== "words" && { inputMode: "decimal" as const, style: { textAlign: "right" } }),
                    },
                  }}
                />
              );
              return (
                <tr key={at}>
                  <td>
                    <ItemChoice
                      value={line.item}
                      goods
                      choose={(item) => change(at, { item })}
                      wrong={!!wrong}
                      label={`Item or account of line ${at + 1}`}
                    />
                    {line.returned != null && <div className="dim">received on {returned?.number}</div>}
                    {wrong && (
                      <div className="wrong" role="alert">
                        {wrong}
                      </div>
                    )}
                  </td>
                  <td>{cell("words", "Words", "the item's name")}</td>
                  <td className="right">{cell("quantity", "Quantity", "1", 76)}</td>
                  <td className="right">{cell("price", "Price", "list", 104)}</td>
                  <td>
                    <TextField
                      select
                      value={line.tax}
                      onChange={(event) => change(at, { tax: event.target.value })}
                      sx={{ width: 108 }}
                      slotProps={{
                        select: {
                          displayEmpty: true,
                          renderValue: (code) => (code as string) || (said(line) ? "default" : ""),
                        },
                        htmlInput: { "aria-label": `Tax code of line ${at + 1}` },
                      }}
                    >
                      <MenuItem value="">as the item and the customer say</MenuItem>
                      {(goods?.tax_codes ?? []).map((code) => (
                        <MenuItem key={code.code} value={code.code}>
                          {code.code} · {code.name}
                        </MenuItem>
                      ))}
                    </TextField>
                  </td>
                  <td className="right">
                    {said(line) && !wrong && shown ? money(shown.added[place] ?? 0, currency) : ""}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </Lines>
        <p className="dim" style={{ margin: "10px 2px" }}>
          Goods stay with the customer: what comes back comes back on a return. To credit lines of an invoice, open it
          and press l: its prices, tax and rates count then.
        </p>
      </Scroll>
      {asking && shown && chosen && (
        <Ask
          title={`Credit ${total} to ${chosen.name}?`}
          yes={`Credit · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const done = await got(
              api.POST("/api/credit-memos", {
                params: { query: keptAs(draft), header: keyed(key) },
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
                : { kind: "done", text: `${done.number} credits ${total} to ${chosen.name}. Apply it, or refund it.` },
            );
            forget();
            await changed();
            if (returned && done.credit_memo != null) {
              navigate(`/returns/${returned.id}`, { replace: true });
              return;
            }
            navigate(done.credit_memo != null ? `/credit-memos/${done.credit_memo}` : "/billing/credit-memos", {
              replace: true,
            });
          }}
        >
          It is kept for the customer, unapplied: apply it to what is open, or refund it.
        </Ask>
      )}
    </Worktop>
  );
}
