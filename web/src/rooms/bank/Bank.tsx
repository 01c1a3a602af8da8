import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { AccountState, StatementRow } from "../../api/types";
import { date, money, plural, shortDate } from "../../format";
import { Chips, Marked, RoomLinks, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { STRETCH, useList } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { moneyLinks } from "./links";
import { TableAsk, type TableFile } from "./Table";

/** How a bank account and its ledger account compare. */
function Compared({ account }: { account: AccountState }) {
  const outstanding = useQuery({
    queryKey: ["bank-outstanding", account.code, account.last, account.open_lines],
    queryFn: () => got(api.GET("/api/bank-accounts/{code}/outstanding", { params: { path: { code: account.code } } })),
    enabled: !!account.reconciliation,
  });
  const it = account.reconciliation;
  const line = (label: string, amount: number, kind = "l") => (
    <div className={kind}>
      <span>{label}</span>
      <span>{money(amount, account.currency)}</span>
    </div>
  );
  return (
    <Paper>
      <h2>
        {account.name}, {account.ledger_account}
        <br />
        <span>{account.number?.replace(/(.{4})(?=.)/g, "$1 ") ?? "no account number said yet"}</span>
      </h2>
      {!it || !account.until ? (
        <div className="words quiet">
          {account.number
            ? "No statement was imported yet. Import the bank's file: camt.053, or a table in CSV."
            : "Say the number of this account first, as it stands on the bank's statements: press e."}
        </div>
      ) : (
        <>
          {line(`Bank on ${date(account.until)}`, it.bank)}
          {it.open !== 0 && line("less what is not in the books", -it.open)}
          {it.outstanding !== 0 && line("what the bank does not say yet", it.outstanding)}
          {it.at_first !== 0 && line("apart before the first statement", -it.at_first)}
          {line("Ledger", it.ledger, "l due")}
          <div className="words" style={{ marginTop: 8 }}>
            {it.difference === 0 ? (
              it.open === 0 ? (
                <Marked className="done">● Reconciled</Marked>
              ) : (
                <Marked className="heed">
                  ▲ {plural(account.open_lines, "line is", "lines are")} not in the books
                  {account.oldest_open && `, the oldest since ${date(account.oldest_open)}`}
                </Marked>
              )
            ) : (
              <Marked className="blocked">
                ■ {money(it.difference, account.currency)} {account.currency} apart
              </Marked>
            )}
          </div>
          {(outstanding.data?.length ?? 0) > 0 && (
            <>
              <h3>On its way to the bank</h3>
              {outstanding.data?.slice(0, 12).map((one) => (
                <div className="l" key={`${one.document.kind}-${one.document.id}-${one.amount}`}>
                  <Link to={placeOf(one.document)}>
                    {one.document.number} of {date(one.date)}
                  </Link>
                  <span>{money(one.amount, account.currency)}</span>
                </div>
              ))}
            </>
          )}
        </>
      )}
    </Paper>
  );
}

/** Bank accounts and their statements. */
export function BankRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay()("post_money");
  const field = useRef<HTMLInputElement>(null);
  const [reading, setReading] = useState(false);
  const [wrong, setWrong] = useState<Problem>();
  const [asking, setAsking] = useState(false);
  const [table, setTable] = useState<TableFile>();
  const [chosen, setChosen] = useState("");
  const accounts = useQuery({ queryKey: ["bank-accounts"], queryFn: () => got(api.GET("/api/bank-accounts")) });
  const list = useList({
    key: ["bank-statements"],
    load: (offset: number) => got(api.GET("/api/bank-statements", { params: { query: { limit: STRETCH, offset } } })),
    rowsOf: (page) => page.statements,
    place: "/bank",
  });
  const { first, current, open } = list;
  // The account that was chosen, or that of the statement under the cursor.
  const wanted = chosen || current?.place;
  const account = accounts.data?.find((one) => one.code === wanted) ?? accounts.data?.[0];
  const several = (accounts.data?.length ?? 0) > 1;
  const lines = accounts.data?.reduce((sum, one) => sum + one.open_lines, 0) ?? 0;
  const read = async (file: File | undefined) => {
    if (!file) {
      return;
    }
    setWrong(undefined);
    if (/\.(csv|txt)$/i.test(file.name)) {
      setTable({ name: file.name, text: await file.text() });
      return;
    }
    setReading(true);
    try {
      const taken = await got(
        api.POST("/api/bank-statements", {
          params: { header: keyed(newKey()), query: { name: file.name } },
          body: await file.text(),
          bodySerializer: (text) => text,
          headers: { "Content-Type": "application/xml" },
        }),
      );
      await imported(taken);
    } catch (error) {
      setWrong(error instanceof Problem ? error : new Problem({ title: String(error) }));
    } finally {
      setReading(false);
    }
  };
  const imported = async (taken: { statements: number[]; lines: number; known: number }) => {
    const known = taken.known > 0 ? ` ${plural(taken.known, "statement was", "statements were")} here already.` : "";
    say({
      kind: "done",
      text: `${plural(taken.statements.length, "statement", "statements")} with ${plural(taken.lines, "line", "lines")} imported.${known}`,
    });
    await changed();
    navigate(`/bank/${taken.statements[taken.statements.length - 1]}`);
  };
  const columns: Column<StatementRow>[] = [
    { key: "number", sort: (row) => row.number, head: "Statement", width: "84px", cell: (row) => row.number },
    {
      key: "account",
      sort: (row) => row.place_name,
      head: "Account",
      width: "minmax(0, 1fr)",
      cell: (row) => row.place_name,
    },
    {
      key: "days",
      head: "Day",
      width: "minmax(0, 1.2fr)",
      cell: (row) =>
        row.from === row.until
          ? shortDate(row.until, today)
          : `${shortDate(row.from, today)} to ${shortDate(row.until, today)}`,
    },
    {
      key: "opening",
      sort: (row) => row.opening,
      head: "Opening balance",
      width: "126px",
      right: true,
      cell: (row) => money(row.opening, row.currency),
    },
    {
      key: "closing",
      sort: (row) => row.closing,
      head: "Closing balance",
      width: "126px",
      right: true,
      cell: (row) => money(row.closing, row.currency),
    },
    { key: "lines", head: "Lines", width: "62px", right: true, cell: (row) => String(row.lines) },
    {
      key: "open",
      sort: (row) => row.open,
      head: "Open",
      width: "92px",
      right: true,
      cell: (row) =>
        row.open > 0 ? <Marked className="heed">▲ {row.open}</Marked> : <Marked className="done">cleared</Marked>,
    },
  ];
  return (
    <Worktop
      title="Bank statements"
      sum={
        reading
          ? "Reading the file…"
          : first && `${plural(first.count, "statement", "statements")} · ${plural(lines, "line", "lines")} open`
      }
      back="/receipts"
      actions={[
        {
          key: "n",
          label: "Import a statement",
          run: () => field.current?.click(),
          primary: true,
          disabled: reading,
          needs: "post_money",
        },
        {
          key: "e",
          label: "Account number…",
          run: () => setAsking(true),
          disabled: !account,
          needs: "keep_company",
        },
        {
          key: "Enter",
          label: current ? `Open ${current.number}` : "Open",
          run: open,
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={account && <Compared account={account} />}
    >
      <Chips>
        <RoomLinks links={moneyLinks} />
        {several && (
          <TextField
            select
            label="Account"
            value={chosen}
            onChange={(event) => setChosen(event.target.value)}
            sx={{ minWidth: 190 }}
            slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
          >
            <MenuItem value="">of the statement</MenuItem>
            {accounts.data?.map((one) => (
              <MenuItem key={one.code} value={one.code}>
                {one.name}
              </MenuItem>
            ))}
          </TextField>
        )}
        <input
          ref={field}
          type="file"
          accept=".xml,.csv,.txt,application/xml,text/xml,text/csv"
          aria-label="Statement to import"
          style={{ width: 1, height: 1, padding: 0, border: 0, opacity: 0 }}
          tabIndex={-1}
          disabled={!may}
          onChange={(event) => {
            read(event.target.files?.[0]);
            event.target.value = "";
          }}
        />
      </Chips>
      {wrong && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={wrong} />
        </p>
      )}
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Bank statements"
          {...list.rows}
          columns={columns}
          empty="No statement was imported yet. Press n and choose the file of the bank: camt.053, or a table in CSV."
        />
      )}
      {table && account && (
        <TableAsk
          key={account.code}
          file={table}
          account={account}
          accounts={accounts.data ?? []}
          choose={setChosen}
          close={() => setTable(undefined)}
          done={imported}
        />
      )}
      {asking && account && (
        <FormAsk
          title={`Account number of ${account.name}`}
          yes="Save"
          close={() => setAsking(false)}
          fields={[
            {
              name: "number",
              label: "IBAN, or the bank's number",
              value: account.number ?? "",
              hint: "as it stands on the bank's statements: by it a file finds its account",
            },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/bank-accounts/{code}", {
                params: { path: { code: account.code }, header: keyed(key) },
                body: { number: values.number ?? "" },
              }),
            );
            say({ kind: "done", text: `The account number of ${account.name} is saved.` });
            await changed();
          }}
        />
      )}
    </Worktop>
  );
}
