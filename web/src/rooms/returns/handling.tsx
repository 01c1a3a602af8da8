import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { ReturnLineView, ReturnView, StepPreview } from "../../api/types";
import { number, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useToday } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { faultsOf, isStopped } from "../../parts/faults";
import { useKept } from "../../parts/kept";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useReturnSettings } from "./settings";

/** What was typed into the cells of a table, by line and, where it is inspected, by disposition. */
type Cells = Record<string, string>;

const cellOf = (line: number, column: string) => `${line} ${column}`;

/** What the tables share: what is typed, what it would do, what is wrong where. */
export interface Handling {
  action: { key: string; label: string; run: () => void; primary: boolean; disabled: boolean; needs: "handle_return" };
  tape: (StepPreview & { tape: NonNullable<StepPreview["tape"]> }) | undefined;
  /** What is wrong and belongs to no cell. */
  error: string | undefined;
  /** What is wrong in a cell. */
  wrong: (line: number, column: string) => string | undefined;
  value: (line: number, column: string) => string;
  type: (line: number, column: string, value: string) => void;
  /** Date and note. */
  head: ReactNode;
  ask: ReactNode;
}

/** What is done with the goods: they come in, to stay or for repair; it is said what becomes of them; they go back repaired,
 * or are kept after all. */
export type Doing = "receive" | "inspect" | "for-repair" | "repaired" | "kept";

/** Whether it is about goods that are in for repair. */
const fromRepair = (doing: Doing | undefined) => doing === "repaired" || doing === "kept";

/** The call that does it: what is kept after all is received from the repair. */
const callOf = (doing: Doing | undefined) =>
  doing === undefined || doing === "kept" || doing === "inspect" ? "receive" : doing;

/** How each is said: the action, the question before it, what it leads to, and that it is done. */
const words: Record<Doing, { verb: string; title: string; says: string; done: string }> = {
  receive: {
    verb: "Receive",
    title: "Are these goods here?",
    says: "They go to the inspection place, at the cost they left with.",
    done: "received",
  },
  inspect: {
    verb: "Post the inspection",
    title: "Post this inspection?",
    says: "What is restocked can be sold at once. A step entered in error can be reversed while nothing followed.",
    done: "inspected",
  },
  "for-repair": {
    verb: "Take in for repair",
    title: "Are these goods here for repair?",
    says: "They stay the customer's: nothing is posted, and none of it is for sale.",
    done: "in for repair",
  },
  repaired: {
    verb: "Send back",
    title: "Do these goods go back?",
    says: "Nothing is posted. What the repair is charged, and the parts it took, are billed on an invoice.",
    done: "sent back",
  },
  kept: {
    verb: "Keep",
    title: "Keep these goods?",
    says: "They go to the inspection place, at the cost they left with: credit them, or send a replacement.",
    done: "kept",
  },
};

const known = /^(lines\.\d+\.|date$)/;

/** Receives or inspects the goods of a return, with the books as they would be in view. */
export function useHandling(view: ReturnView, doing: Doing | undefined, done: () => void): Handling {
  const changed = useEverythingChanged();
  const today = useToday();
  const { say } = useNotices();
  const settings = useReturnSettings();
  const kept = useKept(doing && `return.${view.id}.${view.version}.${doing}`, {
    cells: {} as Cells,
    day: "",
    note: "",
  });
  const { cells: typed, day, note } = kept.typed;
  const [asking, setAsking] = useState(false);
  const assumed = (line: ReturnLineView, column: string): string => {
    if (column === "received") {
      const all = fromRepair(doing) ? line.in_repair : line.expected;
      return all === "0" ? "" : number(all);
    }
    return column === line.disposition && line.waiting !== "0" ? number(line.waiting) : "";
  };
  const lineOf = (id: number) => view.lines.find((line) => line.id === id);
  const value = (id: number, column: string) => {
    const line = lineOf(id);
    return typed[cellOf(id, column)] ?? (line ? assumed(line, column) : "");
  };
  const dispositions = settings?.dispositions.filter((one) => one.active) ?? [];
  const cells =
    doing !== "inspect"
      ? view.lines.map((line) => ({ line: line.id, column: "received" }))
      : view.lines
          .filter((line) => line.waiting !== "0")
          .flatMap((line) => dispositions.map((one) => ({ line: line.id, column: one.code })));
  const filled = cells
    .map((cell) => ({ ...cell, quantity: typedDecimal(value(cell.line, cell.column)) }))
    .filter((cell) => cell.quantity !== "");
  const receiving = {
    lines: filled.map(({ line, quantity }) => ({ line, quantity })),
    ...(doing === "kept" && { in_repair: true }),
    date: day || null,
  };
  const inspecting = {
    lines: filled.map(({ line, column, quantity }) => ({
      line,
      quantity,
      disposition: column,
      claim: typedDecimal(value(line, `claim ${column}`)) || null,
    })),
    date: day || null,
  };
  const path = { id: view.id };
  const preview = useQuery({
    queryKey: ["return-step", doing, view.id, view.version, doing === "inspect" ? inspecting : receiving],
    queryFn: () =>
      doing === "inspect"
        ? got(api.POST("/api/returns/{id}/inspect/preview", { params: { path }, body: inspecting }))
        : got(api.POST(`/api/returns/{id}/${callOf(doing)}/preview`, { params: { path }, body: receiving })),
    enabled: !!doing && filled.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = filled.length > 0 && preview.error instanceof Problem ? preview.error : null;
  const shown = filled.length > 0 && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "return");
  const stopped = filled.length === 0 || !shown || preview.isFetching || isStopped(shown.blockers);
  const { verb, title, says, done: isDone } = words[doing ?? "receive"];
  const close = () => {
    kept.forget();
    done();
  };
  return {
    action: {
      key: "p",
      label: verb,
      run: () => setAsking(true),
      primary: true,
      disabled: stopped,
      needs: "handle_return",
    },
    tape: shown?.tape ? { ...shown, tape: shown.tape } : undefined,
    error: Object.entries(errors).find(([field]) => !known.test(field))?.[1],
    wrong: (line, column) => {
      const at = filled.findIndex((cell) => cell.line === line && cell.column === column);
      return at < 0
        ? undefined
        : (errors[`lines.${at}.quantity`] ?? errors[`lines.${at}.claim`] ?? errors[`lines.${at}`]);
    },
    value,
    type: (line, column, text) => kept.type((now) => ({ cells: { ...now.cells, [cellOf(line, column)]: text } })),
    head: (
      <div style={{ display: "grid", gridTemplateColumns: "1fr 2.4fr", gap: 14, margin: "6px 0 12px" }}>
        <DateField
          label="Date"
          typed={day}
          assumed={today}
          onType={(day) => kept.type({ day })}
          error={errors.date}
          from="the business date"
        />
        <TextField
          label={doing === "inspect" ? "What was found" : "Note"}
          value={note}
          onChange={(event) => kept.type({ note: event.target.value })}
        />
      </div>
    ),
    ask: asking && shown && (
      <Ask
        title={title}
        yes={verb}
        close={() => setAsking(false)}
        run={async (key) => {
          const params = { path, header: keyed(key) };
          const beside = { version: view.version, seen: shown.fingerprint, note: note || null };
          await (doing === "inspect"
            ? got(api.POST("/api/returns/{id}/inspect", { params, body: { ...inspecting, ...beside } }))
            : got(api.POST(`/api/returns/{id}/${callOf(doing)}`, { params, body: { ...receiving, ...beside } })));
          say({ kind: "done", text: `Goods of ${view.number} are ${isDone}.` });
          await changed();
          close();
        }}
      >
        {says}
      </Ask>
    ),
  };
}

function Cell({
  handling,
  line,
  column,
  label,
  whole,
  first,
}: {
  handling: Handling;
  line: number;
  column: string;
  label: string;
  whole: string;
  first?: boolean;
}) {
  return (
    <TextField
      value={handling.value(line, column)}
      onChange={(event) => handling.type(line, column, event.target.value)}
      onFocus={(event) => event.target.select()}
      onKeyDown={(event) => {
        if (event.key === "=") {
          event.preventDefault();
          handling.type(line, column, whole);
        }
      }}
      autoFocus={!!first}
      error={!!handling.wrong(line, column)}
      sx={{ width: 84 }}
      slotProps={{ htmlInput: { "aria-label": label, inputMode: "decimal", style: { textAlign: "right" } } }}
    />
  );
}

/** How much of each line arrived. */
export function ReceiveTable({ view, handling, doing }: { view: ReturnView; handling: Handling; doing: Doing }) {
  const back = fromRepair(doing);
  const [title, now, moves] = {
    repaired: ["What goes back", "Goes back now", "goes back"],
    kept: ["What is kept", "Kept now", "is kept"],
  }[doing as string] ?? ["What arrived", "Arrived now", "arrived"];
  return (
    <Scroll>
      <Lines label={title ?? ""}>
        <thead>
          <tr>
            <th>Item</th>
            <th>Sold with</th>
            <th>Reason</th>
            <th className="right">Authorized</th>
            <th className="right">{back ? "In for repair" : "Received before"}</th>
            <th className="right">{now}</th>
          </tr>
        </thead>
        <tbody>
          {view.lines.map((line, at) => (
            <tr key={line.id}>
              <td>
                <b>{line.code}</b> {line.description}
                <Fault text={handling.wrong(line.id, "received")} />
              </td>
              <td>
                {line.document?.number ?? "no document"}
                {line.unbilled && <div className="dim">not billed</div>}
              </td>
              <td>{line.reason_name}</td>
              <td className="right dim">
                {number(line.progress.authorized)} {line.unit}
              </td>
              <td className="right dim">{number(back ? line.in_repair : line.progress.received)}</td>
              <td className="right">
                <Cell
                  handling={handling}
                  line={line.id}
                  column="received"
                  label={`Quantity of ${line.code} that ${moves}`}
                  whole={number(back ? line.in_repair : line.expected)}
                  first={at === 0}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </Lines>
    </Scroll>
  );
}

/** What becomes of what waits: a quantity for each disposition. */
export function InspectTable({ view, handling, base }: { view: ReturnView; handling: Handling; base: string }) {
  const settings = useReturnSettings();
  const dispositions = settings?.dispositions.filter((one) => one.active) ?? [];
  const lines = view.lines.filter((line) => line.waiting !== "0");
  return (
    <Scroll>
      <Lines label="What becomes of it">
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Waiting</th>
            {dispositions.map((one) => (
              <th className="right" key={one.code}>
                {one.name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {lines.map((line, at) => (
            <tr key={line.id}>
              <td>
                <b>{line.code}</b> {line.description}
                <Fault text={dispositions.map((one) => handling.wrong(line.id, one.code)).find(Boolean)} />
              </td>
              <td className="right dim">
                {number(line.waiting)} {line.stock_unit}
              </td>
              {dispositions.map((one, column) => (
                <td className="right" key={one.code}>
                  {/* What was not billed is shipped again from its order, not sent back. */}
                  {line.unbilled && one.outcome === "send_back" ? null : (
                    <Cell
                      handling={handling}
                      line={line.id}
                      column={one.code}
                      label={`${one.name}: quantity of ${line.code}`}
                      whole={number(line.waiting)}
                      first={at === 0 && column === 0}
                    />
                  )}
                  {one.outcome === "supplier" && handling.value(line.id, one.code) !== "" && (
                    <TextField
                      value={handling.value(line.id, `claim ${one.code}`)}
                      onChange={(event) => handling.type(line.id, `claim ${one.code}`, event.target.value)}
                      placeholder={`claim ${base}`}
                      sx={{ width: 84, display: "block", marginLeft: "auto", marginTop: "4px" }}
                      slotProps={{
                        htmlInput: {
                          "aria-label": `Claim on the supplier for ${line.code}`,
                          inputMode: "decimal",
                          style: { textAlign: "right" },
                        },
                      }}
                    />
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </Lines>
    </Scroll>
  );
}

function Fault({ text }: { text: string | undefined }) {
  return text ? (
    <div className="wrong" role="alert">
      {text}
    </div>
  ) : null;
}
