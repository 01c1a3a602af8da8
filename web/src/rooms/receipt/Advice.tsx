import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { AdviceLine, CustomerRow } from "../../api/types";
import { decimal, exponentOf, money, moneyWithCurrency, plural, typedDecimal } from "../../format";
import { Marked, StateChips, useEverythingChanged, useFilter, useSettled, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { usePaymentMethods } from "../../parts/methods";
import { type Column, Rows } from "../../parts/Rows";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { MoneyTape } from "../Applying";
import { PayerField } from "./PayerField";

const NOBODY: CustomerRow[] = [];

const remarks: Record<NonNullable<AdviceLine["remark"]>, string> = {
  not_open: "nothing open has this number",
  twice: "stands there twice",
  nothing_paid: "nothing is paid on it",
  more_than_open: "more than is open: the rest stays unapplied",
  not_earned: "the discount was not earned",
  part: "a part",
};

/** One payment for many invoices, by the payer's own list of what it is for. */
export function AdviceRoom() {
  const [params, setParams] = useSearchParams();
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [state] = useFilter("state");
  const customerId = Number(params.get("customer")) || undefined;
  const methods = usePaymentMethods();
  const [chosenMethod, setMethod] = useState<string>();
  const method = chosenMethod ?? methods[0]?.code ?? "";
  const [when, setWhen] = useState("");
  const [amount, setAmount] = useState<string>();
  const [file, setFile] = useState<{ name: string; text: string }>();
  const [asking, setAsking] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const advice = useQuery({
    queryKey: ["advice", customerId, when, file?.name, file?.text.length],
    queryFn: () =>
      got(
        api.POST("/api/receipts/advice/preview", {
          params: { query: { customer: customerId ?? 0, ...(when && { date: when }) } },
          body: file?.text ?? "",
          bodySerializer: (text) => text,
          headers: { "Content-Type": "text/csv" },
        }),
      ),
    enabled: !!customerId && !!file,
    retry: false,
  });
  const found = advice.data;
  const currency = found?.currency ?? chosen?.currency ?? "EUR";
  const words = amount ?? (found ? decimal(found.paid, exponentOf(currency)) : "");
  const body = {
    customer: customerId ?? 0,
    method,
    date: when || null,
    amount: typedDecimal(words),
    reference: file ? `remittance advice ${file.name}`.slice(0, 140) : null,
    applications: found?.applications ?? [],
    first: null,
    with: [],
  };
  const ready = !!found && words.trim() !== "" && !!method;
  const wish = useSettled(ready ? JSON.stringify(body) : "");
  const preview = useQuery({
    queryKey: ["receipt-preview", "advice", wish],
    queryFn: () => got(api.POST("/api/receipts/preview", { body: JSON.parse(wish) as typeof body })),
    enabled: wish !== "",
    gcTime: 0,
    retry: false,
  });
  const shown = ready && wish === JSON.stringify(body) && !preview.error ? preview.data : undefined;
  const stopped = !shown || shown.blockers.some((blocker) => blocker.effect === "stops");
  const total = shown ? moneyWithCurrency(shown.document.amount, currency) : "";
  const problem = [advice.error, preview.error].find((error) => error instanceof Problem);
  const amountError = preview.error instanceof Problem && preview.error.field === "amount" ? preview.error.message : "";
  const numbered = (found?.lines ?? []).map((line, at) => ({ ...line, at: at + 1 }));
  const rows = state === "look" ? numbered.filter((one) => one.remark) : numbered;
  const look = numbered.filter((one) => one.remark).length;
  const columns: Column<(typeof rows)[number]>[] = [
    { key: "at", head: "Line", width: "56px", right: true, cell: (one) => String(one.at) },
    { key: "said", head: "They say", width: "minmax(0, 0.8fr)", cell: (one) => one.line.number },
    {
      key: "document",
      head: "Pays",
      width: "minmax(0, 1fr)",
      cell: (one) =>
        one.document ? (
          <>
            {one.document.number} {one.branch && <span className="dim">of {one.branch}</span>}
          </>
        ) : (
          <Marked className="heed">▲ nothing</Marked>
        ),
    },
    {
      key: "paid",
      head: `Paid ${currency}`,
      width: "112px",
      right: true,
      cell: (one) => money(one.line.paid, currency),
    },
    {
      key: "discount",
      head: "Discount",
      width: "92px",
      right: true,
      cell: (one) => one.discount !== 0 && money(one.discount, currency),
    },
    {
      key: "open",
      head: "Balance after",
      width: "104px",
      right: true,
      cell: (one) =>
        one.item == null ? (
          ""
        ) : one.stays_open === 0 ? (
          <Marked className="done">settled</Marked>
        ) : (
          money(one.stays_open, currency)
        ),
    },
    {
      key: "remark",
      head: "",
      width: "minmax(0, 1.2fr)",
      cell: (one) =>
        one.remark ? (
          <Marked className="heed">▲ {remarks[one.remark]}</Marked>
        ) : one.disputed > 0 ? (
          <span className="dim">in dispute{one.line.words && `: ${one.line.words}`}</span>
        ) : (
          ""
        ),
    },
  ];
  return (
    <Worktop
      title="Remittance advice"
      sum={
        found
          ? `${plural(found.lines.length, "line", "lines")} · ${money(found.paid, currency)} ${currency} paid${
              found.not_found > 0 ? ` · ${plural(found.not_found, "line pays", "lines pay")} nothing known` : ""
            }`
          : "One payment for many invoices, by the payer's own list"
      }
      back="/receipts"
      actions={[
        {
          key: "p",
          label: `Post the receipt${total ? ` · ${total}` : ""}`,
          run: () => setAsking(true),
          primary: true,
          disabled: stopped || preview.isFetching,
          needs: "post_money",
        },
        {
          key: "f",
          label: file ? "Another file" : "Choose the file",
          run: () => input.current?.click(),
          disabled: !customerId,
        },
      ]}
      tape={<MoneyTape preview={shown} />}
    >
      <div
        style={{
          display: "grid",
          gridTemplateColumns: "minmax(0, 2fr) minmax(0, 1fr) minmax(0, 1fr) minmax(0, 1fr)",
          gap: "16px 14px",
          margin: "6px 0 12px",
        }}
      >
        <PayerField
          customers={customers.data ?? NOBODY}
          chosen={chosen}
          choose={(customer) => setParams(customer ? { customer: String(customer) } : {}, { replace: true })}
          error={undefined}
        />
        <TextField
          label={`Amount ${currency}`}
          value={words}
          onChange={(event) => setAmount(event.target.value)}
          error={!!amountError}
          helperText={amountError}
          slotProps={{ htmlInput: { inputMode: "decimal", style: { textAlign: "right" } } }}
        />
        <DateField label="Date" typed={when} assumed={today ?? ""} onType={setWhen} from="the business date" />
        <TextField select label="Method" value={method} onChange={(event) => setMethod(event.target.value)}>
          {methods.map((one) => (
            <MenuItem key={one.code} value={one.code}>
              {one.name}
            </MenuItem>
          ))}
        </TextField>
        <input
          ref={input}
          type="file"
          accept=".csv,.txt,text/csv"
          aria-label="Remittance advice to read"
          tabIndex={-1}
          style={{ width: 1, height: 1, padding: 0, border: 0, opacity: 0, position: "absolute" }}
          onChange={async (event) => {
            const picked = event.target.files?.[0];
            event.target.value = "";
            if (picked) {
              setAmount(undefined);
              setFile({ name: picked.name, text: await picked.text() });
            }
          }}
        />
      </div>
      {problem && !amountError && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={problem} />
        </p>
      )}
      {found ? (
        <>
          {look > 0 && (
            <div style={{ margin: "0 0 8px" }}>
              <StateChips
                name="state"
                choices={[
                  ["", "All lines"],
                  ["look", `To look at, ${look}`],
                ]}
              />
            </div>
          )}
          <Rows
            label="Lines of the advice"
            rows={rows}
            idOf={(one) => String(one.at)}
            columns={columns}
            empty="No line to look at: all of them settle what they name."
          />
        </>
      ) : (
        <p>
          {customerId
            ? "Press f and choose the payer's list: a table in CSV with the number of each invoice and what is paid on it. Columns for discount, deduction and reason are read too."
            : "Choose who paid first."}
        </p>
      )}
      {asking && shown && (
        <Ask
          title="Post this receipt?"
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/receipts", {
                params: { header: keyed(key) },
                body: { ...body, seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `${posted.number} posted · ${total}.` });
            await changed();
            navigate(`/receipts/${posted.id}`, { replace: true });
          }}
        >
          {total} from {chosen?.name}, to {plural(shown.document.applied.length, "invoice", "invoices")}
          {shown.document.unapplied > 0 &&
            ` · ${moneyWithCurrency(shown.document.unapplied, currency)} stays unapplied`}
          .
        </Ask>
      )}
    </Worktop>
  );
}
