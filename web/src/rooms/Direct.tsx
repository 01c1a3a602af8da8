import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../api/client";
import { type GridAnswer, type ToBill, whole } from "../api/types";
import { moneyWithCurrency, plural } from "../format";
import { Chips, Marked, RoomLinks, Scroll, useBase, useEverythingChanged } from "../parts/bits";
import { useGoods } from "../parts/form";
import { useForget, useKeptState } from "../parts/kept";
import { BlockerLines, EntryLines, Paper, TapeLines, Tear } from "../parts/TapeRoll";
import { placeOf, rememberSequence } from "../places";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";
import { addedLine } from "./invoice/adding";
import { billingLinks } from "./Unbilled";

const Grid = styled("div")({
  background: "var(--sheet)",
  border: "1px solid var(--line)",
  borderRadius: 8,
  marginBottom: 10,
  "& .row": {
    display: "grid",
    gridTemplateColumns: "20px 172px 84px minmax(0, 1fr) 58px 76px 72px 88px 20px",
    alignItems: "center",
    borderBottom: "1px solid var(--line)",
    minHeight: 36,
    padding: "0 4px 0 6px",
    columnGap: 6,
  },
  "& .row.head": { minHeight: 30, fontSize: 12.5, fontWeight: 600, color: "var(--ink-3)" },
  "& .row:last-of-type": { borderBottom: 0 },
  "& .right": { textAlign: "right" },
  "& .no": { color: "var(--ink-3)", fontSize: 13, textAlign: "right", padding: 0 },
  "& input, & select": {
    font: "inherit",
    width: "100%",
    border: "1px solid var(--line-strong)",
    borderRadius: 5,
    background: "none",
    color: "inherit",
    padding: "3px 5px",
    fontVariantNumeric: "tabular-nums",
  },
  "& input[aria-invalid=true]": { borderColor: "var(--stop)" },
  "& .say": { padding: "0 8px 5px 34px", fontSize: 13.5, borderBottom: "1px solid var(--line)" },
  "& .why": {
    display: "grid",
    gridTemplateColumns: "64px minmax(0, 420px)",
    alignItems: "center",
    padding: "4px 8px 4px 34px",
    fontSize: 13.5,
  },
  "& button.off": { border: 0, background: "none", color: "var(--ink-3)", cursor: "pointer", font: "inherit" },
});

interface GridRow {
  key: string;
  customer: string;
  what: string;
  description: string;
  quantity: string;
  unit_price: string;
  tax_code: string;
  reason: string;
}

const empty = (): GridRow => ({
  key: newKey(),
  customer: "",
  what: "",
  description: "",
  quantity: "1",
  unit_price: "",
  tax_code: "",
  reason: "",
});

const untouched = (row: GridRow) => !row.customer && !row.what && !row.description && !row.unit_price;

/** Direct invoices: one line each, typed into a grid, checked and posted together; or opened as drafts. */
export function DirectRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const goods = useGoods();
  // For whom, where one comes from a customer of whom something is to be billed.
  const [params] = useSearchParams();
  const form = `direct.${params.get("customer") ?? ""}`;
  const forget = useForget(form);
  const [rows, setRows] = useKeptState<GridRow[]>(form, "rows", () => [
    { ...empty(), customer: params.get("customer") ?? "" },
  ]);
  const [at, setAt] = useState(0);
  const [asking, setAsking] = useState(false);
  const [clearing, setClearing] = useState(false);
  const making = useRef(false);
  const customers = useQuery({
    queryKey: ["customers", "all"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const known = useMemo(
    () => new Map((customers.data ?? []).map((one) => [`${one.number} ${one.name}`, one.id])),
    [customers.data],
  );
  const customerOf = (typed: string) =>
    known.get(typed) ??
    (customers.data ?? []).find(
      (one) => one.number === typed.trim() || one.name.toLowerCase() === typed.trim().toLowerCase(),
    )?.id;
  const filled = rows.filter((row) => !untouched(row));
  const toBill = (row: GridRow): ToBill =>
    whole({
      customer: customerOf(row.customer) ?? null,
      added: [
        addedLine({
          item: row.what,
          description: row.description,
          quantity: row.quantity,
          unit_price: row.unit_price,
          tax_code: row.tax_code,
          reason: row.reason,
        }),
      ],
    });
  const body = filled.map(toBill);
  const preview = useQuery({
    queryKey: ["grid", body],
    queryFn: () => got(api.POST("/api/invoices/grid/preview", { body })),
    enabled: body.length > 0,
    placeholderData: (before) => before,
  });
  const answers: GridAnswer[] = body.length > 0 ? (preview.data ?? []) : [];
  const answerOf = (row: GridRow) => answers[filled.indexOf(row)];
  const stopsOf = (answer: GridAnswer | undefined) =>
    answer?.preview?.blockers.find((blocker) => blocker.effect === "stops");
  const ready =
    filled.length > 0 &&
    !preview.isFetching &&
    answers.length === filled.length &&
    answers.every((answer) => answer.preview?.document && !stopsOf(answer));
  const sums = new Map<string, bigint>();
  for (const answer of answers) {
    const document = answer.preview?.document;
    if (document) {
      sums.set(document.currency, (sums.get(document.currency) ?? 0n) + BigInt(document.total));
    }
  }
  const total = [...sums].map(([currency, sum]) => moneyWithCurrency(Number(sum), currency)).join(" + ");
  const set = (place: number, part: Partial<GridRow>) =>
    setRows((before) => before.map((row, where) => (where === place ? { ...row, ...part } : row)));
  const focus = (place: number) =>
    setTimeout(() => document.querySelector<HTMLElement>(`[data-cell="${place}-customer"]`)?.focus(), 0);
  const next = (place: number) => {
    if (place === rows.length - 1) {
      setRows((before) => [...before, empty()]);
    }
    focus(place + 1);
  };
  useEffect(() => {
    document.querySelector<HTMLElement>('[data-cell="0-customer"]')?.focus();
  }, []);
  // A row whose request got no answer keeps its key as long as nothing in it is changed.
  const keys = useRef(new Map<string, string>());
  const keyOf = (row: GridRow) => {
    const said = JSON.stringify(row);
    const key = keys.current.get(said) ?? newKey();
    keys.current.set(said, key);
    return key;
  };
  const openDrafts = async () => {
    if (making.current) {
      return;
    }
    making.current = true;
    const made: number[] = [];
    const left = [...filled];
    let wrong: unknown;
    try {
      for (const row of filled) {
        made.push(
          ...(await got(api.POST("/api/invoices", { body: toBill(row), params: { header: keyed(keyOf(row)) } }))),
        );
        left.shift();
      }
    } catch (error) {
      wrong = error;
    }
    // What has become a draft is no row any more, so that nothing is made twice.
    setRows(left.length > 0 ? left : [empty()]);
    making.current = false;
    const places = made.map((id) => `/invoices/${id}`);
    rememberSequence(places);
    await changed();
    if (wrong) {
      const said = wrong instanceof Problem ? wrong.message : String(wrong);
      const done = made.length > 0 ? `${plural(made.length, "draft", "drafts")} made, then: ` : "";
      say({
        kind: "stop",
        text: `${done}${said}`,
        links: places.slice(0, 3).map((to) => ({ text: "Open a draft", to })),
      });
    } else if (places[0]) {
      navigate(places[0]);
    }
  };
  const again = () => {
    setRows([empty()]);
    forget();
    focus(0);
  };
  const shown = answers[Math.min(at, answers.length - 1)];
  return (
    <Worktop
      title="Direct invoices"
      sum={filled.length > 0 ? `${plural(filled.length, "invoice", "invoices")} · ${total}` : "no order behind them"}
      back="/billing"
      actions={[
        {
          key: "p",
          label:
            filled.length > 0 ? `Post ${plural(filled.length, "invoice", "invoices")} · ${total}` : "Nothing to post",
          run: () => setAsking(true),
          primary: true,
          disabled: !ready,
          needs: "post_invoice",
        },
        {
          key: "d",
          label: filled.length > 1 ? "Open them as drafts" : "Open as a draft",
          run: openDrafts,
          disabled: filled.length === 0 || answers.some((answer) => !answer.preview),
          needs: "keep_draft",
        },
        { key: "x", label: "Clear rows…", run: () => setClearing(true), disabled: filled.length === 0, quiet: true },
      ]}
      rest={<span>Enter: the next row</span>}
      tape={
        <Paper>
          {shown?.preview ? (
            <>
              <TapeLines tape={shown.preview.tape} />
              <BlockerLines blockers={shown.preview.blockers} />
              <Tear />
              {shown.preview.entry && <EntryLines entry={shown.preview.entry} base={base} title="Entry when posted" />}
              {shown.preview.cost_entry && (
                <EntryLines entry={shown.preview.cost_entry} base={base} title="Entry of the cost" />
              )}
            </>
          ) : (
            <>
              <h2>
                A row, an invoice
                <br />
                <span>customer, what for, how much</span>
              </h2>
              <div className="words quiet">
                Type an item's code, or the number of a revenue account. Without a price the customer gets the price it
                always gets. Goods leave stock as the invoice is posted. For more lines, texts or a discount open it as
                a draft.
              </div>
            </>
          )}
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
      </Chips>
      <datalist id="grid-customers">
        {[...known.keys()].map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      <Scroll>
        <Grid>
          <div className="row head">
            <span />
            <span>Customer</span>
            <span>Item or account</span>
            <span>Words</span>
            <span className="right">Quantity</span>
            <span className="right">Price</span>
            <span>Tax</span>
            <span className="right">Total</span>
            <span />
          </div>
          {rows.map((row, place) => {
            const answer = answerOf(row);
            const unknown = row.customer !== "" && customers.data && !customerOf(row.customer);
            const blocker = stopsOf(answer);
            const wrong = untouched(row)
              ? undefined
              : unknown
                ? "No such customer. Choose one of the list."
                : (answer?.sentence ?? blocker?.sentence);
            const field = answer?.field ?? "";
            const asksWhy = answer?.preview?.blockers.some((one) => one.check === "reason_missing");
            const cell = (name: keyof GridRow, label: string, invalid: boolean, right?: boolean) => (
              <input
                data-cell={`${place}-${name}`}
                aria-label={`${label}, row ${place + 1}`}
                aria-invalid={invalid}
                value={row[name]}
                list={name === "customer" ? "grid-customers" : undefined}
                inputMode={right ? "decimal" : undefined}
                style={right ? { textAlign: "right" } : undefined}
                onFocus={() => setAt(place)}
                onChange={(event) => set(place, { [name]: event.target.value })}
                onKeyDown={(event) => {
                  if (event.key === "Enter" && !event.ctrlKey) {
                    event.preventDefault();
                    next(place);
                  }
                }}
              />
            );
            return (
              <div key={row.key}>
                <div className="row">
                  <span className="no">{place + 1}</span>
                  {cell("customer", "Customer", !!unknown || field === "customer")}
                  {cell("what", "Item or account", field.endsWith(".item") || field.endsWith(".account"))}
                  {cell("description", "Words", field.endsWith(".description"))}
                  {cell("quantity", "Quantity", field.endsWith(".quantity"), true)}
                  {cell("unit_price", "Price", field.endsWith(".unit_price"), true)}
                  <select
                    aria-label={`Tax code, row ${place + 1}`}
                    value={row.tax_code}
                    onChange={(event) => set(place, { tax_code: event.target.value })}
                  >
                    <option value="">usual</option>
                    {(goods?.tax_codes ?? []).map((code) => (
                      <option key={code.code} value={code.code}>
                        {code.code}
                      </option>
                    ))}
                  </select>
                  <span className="right">
                    {answer?.preview?.document &&
                      moneyWithCurrency(answer.preview.document.total, answer.preview.document.currency)}
                  </span>
                  <button
                    type="button"
                    className="off"
                    aria-label={`Take row ${place + 1} away`}
                    onClick={() =>
                      setRows((before) => (before.length > 1 ? before.filter((one) => one !== row) : [empty()]))
                    }
                  >
                    ✕
                  </button>
                </div>
                {(asksWhy || row.reason) && (
                  <div className="why">
                    <span>Why</span>
                    {cell("reason", "Why", !!asksWhy)}
                  </div>
                )}
                {wrong && (
                  <div className="say">
                    <Marked className="stop">◆ {wrong}</Marked>
                  </div>
                )}
              </div>
            );
          })}
        </Grid>
      </Scroll>
      {clearing && (
        <Ask
          title={`Clear ${plural(filled.length, "row", "rows")}?`}
          yes="Clear rows"
          close={() => setClearing(false)}
          run={async () => again()}
        >
          What was typed is gone; nothing was posted.
        </Ask>
      )}
      {asking && (
        <Ask
          title={`Post ${plural(filled.length, "invoice", "invoices")}?`}
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/invoices/grid", {
                params: { header: keyed(key) },
                body: { rows: body, seen: answers.map((answer) => answer.preview?.fingerprint ?? "") },
              }),
            );
            setRows([empty()]);
            forget();
            say({
              kind: "done",
              text: `${posted.map((one) => one.number).join(", ")} posted · ${total}.`,
              links: posted.slice(0, 3).map((one) => ({
                text: `Open ${one.number}`,
                to: placeOf({ kind: "invoice", id: one.id, number: one.number }),
              })),
            });
            await changed();
          }}
        >
          All of them are posted, or none.
        </Ask>
      )}
    </Worktop>
  );
}
