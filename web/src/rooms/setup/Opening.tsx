import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { components } from "../../api/schema";
import { moneyWithCurrency, plural, typedDecimal } from "../../format";
import { Chips, RoomLinks, useBase, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { BlockerLines, EntryLines, Paper, TapeLines, Tear } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

type Opening = components["schemas"]["NewOpening"];
type Kind = "items" | "stock" | "balances";

const areas: [kind: Kind, label: string, hint: string][] = [
  ["items", "Open items", "Customer number; invoice or unapplied; number; date; due date; amount, one per line"],
  ["stock", "Stock", "Item code; quantity; cost of all of it, one per line"],
  ["balances", "Other balances", "Account; amount, credits negative, one per line"],
];

/** The cells of each line: as pasted from a spreadsheet, or parted by semicolons. */
export function cells(text: string): string[][] {
  return text
    .split("\n")
    .filter((line) => line.trim() !== "")
    .map((line) => line.split(line.includes("\t") ? "\t" : ";").map((cell) => cell.trim()));
}

/** A word that is neither side is never taken for one: money owed to us and by us must not be mixed up. */
export function wrongSides(items: string): { field: string; sentence: string }[] {
  return cells(items).flatMap((row, at) =>
    ["invoice", "unapplied"].includes((row[1] ?? "").toLowerCase())
      ? []
      : [{ field: `items.${at}.side`, sentence: `Write invoice or unapplied, not “${row[1] ?? ""}”.` }],
  );
}

/** What was typed, as the server takes it. */
export function asOpening(typed: Record<Kind, string>, when: string): Opening {
  const at = (row: string[], index: number) => row[index] ?? "";
  return {
    date: when || null,
    items: cells(typed.items).map((row) => ({
      customer: at(row, 0),
      side: at(row, 1).toLowerCase() === "unapplied" ? "unapplied" : "invoice",
      number: at(row, 2),
      document_date: at(row, 3),
      due_date: at(row, 4) || null,
      amount: typedDecimal(at(row, 5)),
    })),
    stock: cells(typed.stock).map((row) => ({
      item: at(row, 0),
      quantity: typedDecimal(at(row, 1)),
      cost: typedDecimal(at(row, 2)),
      warehouse: at(row, 3) || null,
    })),
    balances: cells(typed.balances).map((row) => ({ account: at(row, 0), amount: typedDecimal(at(row, 1)) })),
  };
}

/** What is wrong in one area, by line. */
export function wrongIn(kind: Kind, found: { field: string; sentence: string }[]): string[] {
  return found.flatMap((one) => {
    const [area, line] = one.field.split(".");
    return area === kind && line !== undefined ? [`Line ${Number(line) + 1}: ${one.sentence}`] : [];
  });
}

/** Open items, stock and balances of a company that begins in the middle of its life. */
export function OpeningRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState<Record<Kind, string>>({ items: "", stock: "", balances: "" });
  const [when, setWhen] = useState("");
  const [asking, setAsking] = useState(false);
  const body = asOpening(typed, when);
  const some = (body.items?.length ?? 0) + (body.stock?.length ?? 0) + (body.balances?.length ?? 0);
  const preview = useQuery({
    queryKey: ["opening", body],
    queryFn: () => got(api.POST("/api/openings/preview", { body })),
    enabled: some > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = some > 0 && !preview.error ? preview.data : undefined;
  const problem = preview.error instanceof Problem ? preview.error : undefined;
  const found = [
    ...wrongSides(typed.items),
    ...(shown?.blockers ?? []).filter((one) => one.effect === "stops"),
    ...(problem?.field ? [{ field: problem.field, sentence: problem.message }] : []),
  ];
  const stopped = !shown || preview.isFetching || found.length > 0;
  const total = shown?.entry
    ? moneyWithCurrency(
        Number(shown.entry.lines.filter((line) => line.base > 0).reduce((sum, line) => sum + BigInt(line.base), 0n)),
        base,
      )
    : "";
  return (
    <Worktop
      title="Opening balances"
      sum={some > 0 && plural(some, "line", "lines")}
      actions={[
        {
          key: "p",
          label: `Post the opening${total ? ` · ${total}` : ""}`,
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "post_opening",
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <Paper>
          {shown ? (
            <>
              <TapeLines tape={shown.tape} />
              <BlockerLines blockers={shown.blockers} />
              <Tear />
              {shown.entry && <EntryLines entry={shown.entry} base={base} title="Entry when posted" />}
            </>
          ) : (
            <div className="words quiet" style={{ marginTop: 8 }}>
              Paste lines from a spreadsheet. What is owed, what lies unapplied and stock bring the balances of their
              accounts along; the whole stands against the opening account.
            </div>
          )}
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      <div style={{ display: "flex", flexDirection: "column", gap: 16, paddingTop: 8, maxWidth: 760 }}>
        <DateField
          label="Date"
          typed={when}
          assumed={today}
          onType={setWhen}
          error={found.find((one) => one.field === "date")?.sentence}
          from="the business date"
        />
        {areas.map(([kind, label, hint], position) => {
          const wrong = wrongIn(kind, found);
          return (
            <TextField
              key={kind}
              label={label}
              multiline
              minRows={position === 0 ? 6 : 4}
              maxRows={12}
              autoFocus={position === 0}
              value={typed[kind]}
              onChange={(event) => setTyped({ ...typed, [kind]: event.target.value })}
              error={wrong.length > 0}
              helperText={wrong.length > 0 ? wrong.slice(0, 3).join(" ") : hint}
            />
          );
        })}
        {problem && !problem.field && <Wrong error={problem} />}
      </div>
      {asking && shown && (
        <Ask
          title="Post these opening balances?"
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/openings", { params: { header: keyed(key) }, body: { ...body, seen: shown.fingerprint } }),
            );
            say({ kind: "done", text: `${posted.number} posted · ${total}.` });
            await changed();
            navigate(`/entries/${posted.entry}`);
          }}
        >
          {plural(some, "line goes", "lines go")} into the books with one entry. It cannot be undone.
        </Ask>
      )}
    </Worktop>
  );
}
