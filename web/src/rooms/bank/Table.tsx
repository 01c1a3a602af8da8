import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { AccountState, StatementColumns } from "../../api/types";
import { date, money, plural, typedDecimal } from "../../format";
import { Lines, useSettled, Wrong } from "../../parts/bits";
import { Ask } from "../../shell/Ask";

/** A file of the bank that is a table. */
export interface TableFile {
  name: string;
  text: string;
}

type ColumnField = Exclude<keyof StatementColumns, "days" | "decimal_comma">;

const COLUMNS: [ColumnField, string][] = [
  ["date", "Booked on"],
  ["amount", "Amount"],
  ["paid_in", "Came in"],
  ["paid_out", "Left"],
  ["balance", "Balance after"],
  ["party", "Payer or payee"],
  ["party_account", "Their account"],
  ["words", "What was written"],
  ["reference", "Payment reference"],
];

const days: Record<StatementColumns["days"] & string, string> = {
  year_first: "2026-03-18",
  day_first: "18.03.2026",
  month_first: "03/18/2026",
};

/** Which column of a bank's table is what, what that makes of it, and its import. Said once for an account. */
export function TableAsk({
  file,
  account,
  accounts,
  choose: chooseAccount,
  close,
  done,
}: {
  file: TableFile;
  account: AccountState;
  /** The accounts a file may be of. */
  accounts: AccountState[];
  choose: (code: string) => void;
  close: () => void;
  done: (taken: { statements: number[]; lines: number; known: number }) => Promise<void>;
}) {
  const [chosen, setChosen] = useState<StatementColumns>();
  const [opening, setOpening] = useState("");
  const [closing, setClosing] = useState("");
  const query = {
    name: file.name,
    ...(chosen && { columns: JSON.stringify(chosen) }),
    ...(opening.trim() && { opening: typedDecimal(opening) }),
    ...(closing.trim() && { closing: typedDecimal(closing) }),
  };
  const wish = useSettled(JSON.stringify(query));
  const sent = {
    body: file.text,
    bodySerializer: (text: string) => text,
    headers: { "Content-Type": "text/csv" },
  };
  const path = { code: account.code };
  const preview = useQuery({
    queryKey: ["bank-table", account.code, file.name, file.text.length, wish],
    queryFn: () =>
      got(
        api.POST("/api/bank-accounts/{code}/table/preview", {
          params: { path, query: JSON.parse(wish) as typeof query },
          ...sent,
        }),
      ),
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const seen = preview.data;
  const columns = chosen ?? seen?.columns;
  const wrong = preview.error instanceof Problem ? preview.error : undefined;
  const at = (field: string) =>
    wrong?.field === field ? wrong.message : seen?.wrong?.field === field ? seen.wrong.sentence : undefined;
  const choose = (change: Partial<StatementColumns>) => columns && setChosen({ ...columns, ...change });
  const asks = !columns?.balance;
  const shown = seen?.statement && wish === JSON.stringify(query) && !preview.isFetching ? seen.statement : undefined;
  return (
    <Ask
      title={`${file.name}: which column is what?`}
      yes={shown ? `Import ${plural(shown.lines, "line", "lines")}` : "Import"}
      close={close}
      wide
      run={async (key) => {
        if (!shown) {
          throw new Problem({ title: seen?.wrong?.sentence ?? wrong?.message ?? "Choose the columns first." });
        }
        const taken = await got(
          api.POST("/api/bank-accounts/{code}/table", {
            params: { path, query: { ...query, columns: JSON.stringify(columns) }, header: keyed(key) },
            ...sent,
          }),
        );
        await done(taken);
      }}
    >
      {accounts.length > 1 && (
        <TextField
          select
          label="Account it is of"
          value={account.code}
          onChange={(event) => chooseAccount(event.target.value)}
          sx={{ minWidth: 240, marginTop: 1 }}
        >
          {accounts.map((one) => (
            <MenuItem key={one.code} value={one.code}>
              {one.name}
            </MenuItem>
          ))}
        </TextField>
      )}
      {wrong && !wrong.field && <Wrong error={wrong} />}
      {columns && (
        <div style={{ display: "grid", gridTemplateColumns: "repeat(3, 1fr)", gap: 12, margin: "8px 0 12px" }}>
          {COLUMNS.map(([field, label]) => (
            <TextField
              key={field}
              select
              label={label}
              value={columns[field] ?? ""}
              onChange={(event) =>
                choose({ [field]: event.target.value || (field === "date" ? "" : null) } as Partial<StatementColumns>)
              }
              error={!!at(field)}
              helperText={at(field)}
            >
              <MenuItem value="">not in the file</MenuItem>
              {seen?.headings
                .filter((heading) => heading !== "")
                .map((heading) => (
                  <MenuItem key={heading} value={heading}>
                    {heading}
                  </MenuItem>
                ))}
            </TextField>
          ))}
          <TextField
            select
            label="Days are written"
            value={columns.days ?? "year_first"}
            onChange={(event) => choose({ days: event.target.value as StatementColumns["days"] & string })}
          >
            {Object.entries(days).map(([order, example]) => (
              <MenuItem key={order} value={order}>
                {example}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            select
            label="Amounts are written"
            value={columns.decimal_comma ? "comma" : "point"}
            onChange={(event) => choose({ decimal_comma: event.target.value === "comma" })}
          >
            <MenuItem value="point">1,234.50</MenuItem>
            <MenuItem value="comma">1.234,50</MenuItem>
          </TextField>
          {asks && (
            <>
              <TextField
                label={`Balance before ${account.currency}`}
                value={opening}
                onChange={(event) => setOpening(event.target.value)}
                error={!!at("opening")}
                helperText={at("opening")}
              />
              <TextField
                label={`Balance after ${account.currency}`}
                value={closing}
                onChange={(event) => setClosing(event.target.value)}
                error={!!at("closing")}
                helperText={at("closing")}
              />
            </>
          )}
        </div>
      )}
      {seen && (
        <div style={{ overflowX: "auto" }}>
          <Lines label="First rows of the file">
            <thead>
              <tr>
                {seen.headings.map((heading) => (
                  <th key={heading}>{heading}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {seen.rows.map((cells, row) => (
                <tr key={row}>
                  {cells.map((cell, column) => (
                    <td key={seen.headings[column]} className="nowrap">
                      {cell}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </Lines>
        </div>
      )}
      {shown && (
        <p style={{ margin: "8px 0 0" }}>
          {date(shown.from)} to {date(shown.until)}: {money(shown.opening, shown.currency)} before,{" "}
          {money(shown.came, shown.currency)} came, {money(-shown.left, shown.currency)} left,{" "}
          {money(shown.closing, shown.currency)} {shown.currency} after.
        </p>
      )}
      {seen?.wrong && !COLUMNS.some(([field]) => field === seen.wrong?.field) && (
        <p className="wrong" role="alert">
          {seen.wrong.sentence}
        </p>
      )}
    </Ask>
  );
}
