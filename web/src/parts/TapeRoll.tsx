import { styled } from "@mui/material/styles";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Blocker, Change, Entry, Figure, PostedEntry, Tape, Trail } from "../api/types";
import { date, money } from "../format";
import { placeOf } from "../places";
import { useBase } from "./bits";
import { Track } from "./Track";

export const Paper = styled("div")({
  font: "13px/1.62 'Spline Sans Mono', monospace",
  display: "flex",
  flexDirection: "column",
  "& h2": { font: "650 14px/1.3 'Source Sans 3 Variable', sans-serif", margin: "8px 0" },
  "& h2 span": { fontWeight: 400, color: "var(--ink-3)" },
  "& h3": { font: "600 12.5px/1.3 'Source Sans 3 Variable', sans-serif", color: "var(--ink-3)", margin: "12px 0 3px" },
  "& .l": { display: "flex", justifyContent: "space-between", gap: 8 },
  "& .l span:last-of-type": { whiteSpace: "nowrap" },
  "& .l span:first-of-type": { overflow: "hidden", textOverflow: "ellipsis" },
  // A line that says something, with no figure beside it, takes the room it needs.
  "& .l span:only-of-type": { whiteSpace: "normal" },
  "& .detail": { color: "var(--ink-2)", paddingLeft: 14, lineHeight: 1.45 },
  "& .group": { font: "600 12.5px/1.3 'Source Sans 3 Variable', sans-serif", color: "var(--ink-3)", marginTop: 8 },
  // A value of any length: beside its name where it fits, below it where it does not.
  "& .value": {
    display: "flex",
    flexWrap: "wrap",
    justifyContent: "space-between",
    columnGap: 8,
    color: "var(--ink-2)",
    fontSize: 12.5,
    lineHeight: 1.5,
  },
  "& .value span": { overflowWrap: "anywhere" },
  "& .value span:last-of-type": { marginLeft: "auto", textAlign: "right" },
  "& .sum": { borderTop: "1px solid var(--line-strong)", marginTop: 3, paddingTop: 3, fontWeight: 600 },
  "& .due": { fontSize: 17, fontWeight: 700, borderTop: "2px solid var(--ink)", marginTop: 5, paddingTop: 5 },
  "& .assumed": { borderBottom: "1px dotted var(--ink-3)" },
  "& .tear": { margin: "12px -18px 6px", borderTop: "1.5px dashed var(--line-strong)" },
  // Debit and credit are as wide as their figures, so that names have what is left.
  "& .entry": {
    display: "grid",
    gridTemplateColumns: "minmax(0, 1fr) max-content max-content",
    columnGap: 10,
    fontSize: 12.5,
  },
  "& .e": {
    display: "grid",
    gridTemplateColumns: "subgrid",
    gridColumn: "1 / -1",
    lineHeight: 1.4,
    padding: "1.5px 0",
  },
  "& .e span:first-of-type": { paddingLeft: "5ch", textIndent: "-5ch" },
  "& .e.h span:first-of-type, & .e.t span:first-of-type": { paddingLeft: 0, textIndent: 0 },
  "& .e span:nth-of-type(n+2)": { textAlign: "right", alignSelf: "end" },
  "& .e.h": { font: "600 12px/1.5 'Source Sans 3 Variable', sans-serif", color: "var(--ink-3)" },
  "& .e.t": { borderTop: "1px solid var(--line-strong)", fontWeight: 600, marginTop: 2, paddingTop: 2 },
  "& .words": { font: "14px/1.4 'Source Sans 3 Variable', sans-serif" },
  "& .stop": { color: "var(--stop)", fontWeight: 600 },
  "& .heed": { color: "var(--heed)", fontWeight: 600 },
  "& .here": { fontWeight: 700 },
  "& .quiet": { color: "var(--ink-2)" },
});

/** The arithmetic of a document, line by line. */
export function TapeLines({ tape }: { tape: Tape }) {
  return (
    <>
      <h2>
        {tape.heading}
        <br />
        <span>{tape.subheading}</span>
      </h2>
      {tape.lines.map((line, position) => (
        <div key={position} className={`l ${line.style}`} data-tape={line.style}>
          <span className={line.assumed ? "assumed" : ""} title={line.assumed ? "Nobody typed this" : undefined}>
            {line.label}
            {line.of != null && ` of ${money(line.of, tape.currency)}`}
          </span>
          {line.amount != null && <span>{money(line.amount, tape.currency)}</span>}
        </div>
      ))}
    </>
  );
}

/** An entry in debit and credit columns, with its sum. */
export function EntryLines({ entry, base, title }: { entry: Entry; base: string; title: ReactNode }) {
  const debits = entry.lines.filter((line) => line.base > 0);
  // A supply without tax has its line too: 0.00.
  const credits = entry.lines.filter((line) => line.base <= 0);
  return (
    <div data-testid="entry" className="entry">
      <div className="e h">
        <span>{title}</span>
        <span>debit</span>
        <span>credit</span>
      </div>
      {[...debits, ...credits].map((line, position) => (
        <div
          className="e"
          key={position}
          title={`${line.account} ${line.account_name}${line.tax ? `, code ${line.tax.code}` : ""}`}
        >
          <span>
            {line.account} {line.account_name}
            {line.tax && ` ${line.tax.code}`}
          </span>
          <span>{line.base > 0 ? money(line.base, base) : ""}</span>
          <span>{line.base <= 0 ? money(-line.base, base) : ""}</span>
        </div>
      ))}
      <Balance lines={entry.lines} base={base} />
    </div>
  );
}

function Balance({ lines, base }: { lines: Entry["lines"]; base: string }) {
  const side = (sign: 1 | -1) =>
    Number(lines.filter((line) => line.base * sign > 0).reduce((sum, line) => sum + BigInt(line.base * sign), 0n));
  return (
    <div className="e t">
      <span>{side(1) === side(-1) ? "balances" : "does not balance"}</span>
      <span>{money(side(1), base)}</span>
      <span>{money(side(-1), base)}</span>
    </div>
  );
}

/** The entries a document wrote, each leading to itself. */
export function PostedEntries({ entries, base }: { entries: PostedEntry[]; base: string }) {
  return entries.map((entry) => (
    <EntryLines
      key={entry.id}
      entry={entry}
      base={base}
      title={
        <Link to={`/entries/${entry.id}`}>
          Entry {entry.number}, {date(entry.date)}
        </Link>
      }
    />
  ));
}

function Value({ figure, base }: { figure: Figure; base: string }) {
  switch (figure.kind) {
    case "money":
      return <>{money(figure.minor, base)}</>;
    case "track":
      return <Track track={figure.track} small />;
    default:
      return <>{figure.text}</>;
  }
}

/** What changes, each as before → after. */
export function ChangeLines({ changes, base }: { changes: Change[]; base: string }) {
  if (changes.length === 0) {
    return null;
  }
  return (
    <div data-testid="changes">
      <h3>What changes</h3>
      {changes.map((change, position) => (
        <div className="l quiet" key={position}>
          <span>{change.label}</span>
          <span>
            {change.before && (
              <>
                <Value figure={change.before} base={base} /> →{" "}
              </>
            )}
            <Value figure={change.after} base={base} />
          </span>
        </div>
      ))}
    </div>
  );
}

/** What stands in the way, with a way to its field. */
export function BlockerLines({ blockers }: { blockers: Blocker[] }) {
  if (blockers.length === 0) {
    return null;
  }
  const stopped = blockers.some((blocker) => blocker.effect === "stops");
  const asked = blockers.some((blocker) => blocker.effect === "asks");
  return (
    <div data-testid="blockers">
      <h3>{stopped ? "Blocked by" : asked ? "Needs approval" : "To look at"}</h3>
      {blockers.map((blocker, position) => (
        <div className="words" key={position}>
          <span className={blocker.effect === "stops" ? "stop" : "heed"}>
            <span aria-hidden="true">{blocker.effect === "stops" ? "◆ " : "▲ "}</span>
            {blocker.sentence}
          </span>{" "}
          {blocker.at && <Link to={`${placeOf(blocker.at)}?field=${blocker.field}`}>Go to field</Link>}
        </div>
      ))}
    </div>
  );
}

/** Where a document came from and what it led to. */
export function TrailLines({ trail }: { trail: Trail }) {
  if (trail.steps.length === 0) {
    return null;
  }
  return (
    <nav data-testid="trail" aria-label="Related documents">
      <h3>Related documents</h3>
      {trail.steps.map((step) => (
        <div className={`l ${step.here ? "here" : "quiet"}`} key={`${step.document.kind}${step.document.id}`}>
          <span>
            {step.here ? (
              step.document.number === "draft" ? (
                "this draft,"
              ) : (
                step.document.number
              )
            ) : (
              <Link to={placeOf(step.document)}>{step.document.number}</Link>
            )}{" "}
            {step.state}
          </span>
          <span>{step.amount != null ? money(step.amount, step.currency) : step.date ? date(step.date) : ""}</span>
        </div>
      ))}
    </nav>
  );
}

export function Tear() {
  return <div className="tear" />;
}

/** The roll of something that is not posted yet: what it would do, or what is waited for until that can be said. */
export function PreviewTape({
  preview,
  more = [],
  until,
}: {
  preview: { tape: Tape; blockers: Blocker[]; entry?: Entry | null; changes: Change[] } | undefined;
  /** Entries that are written with it, before its own. */
  more?: Entry[] | undefined;
  until: string;
}) {
  const base = useBase();
  if (!preview) {
    return (
      <Paper>
        <div className="words quiet" style={{ marginTop: 8 }}>
          {until}
        </div>
      </Paper>
    );
  }
  return (
    <Paper>
      <TapeLines tape={preview.tape} />
      <BlockerLines blockers={preview.blockers} />
      <Tear />
      {more.map((entry) => (
        <EntryLines key={entry.text} entry={entry} base={base} title={entry.text} />
      ))}
      {preview.entry && <EntryLines entry={preview.entry} base={base} title="Entry when posted" />}
      <ChangeLines changes={preview.changes} base={base} />
    </Paper>
  );
}

/** What a step would do to the books, in a dialog that asks before it is done. */
export function WhatItDoes({
  does,
  entries,
  height = 250,
}: {
  /** Without the tape where the entry says it all. */
  does: { tape?: Tape; blockers: Blocker[]; changes: Change[] };
  entries: Entry[];
  height?: number;
}) {
  const base = useBase();
  return (
    <Paper
      style={{ marginTop: 8, maxHeight: height, overflowY: "auto" }}
      tabIndex={0}
      role="region"
      aria-label="What it does"
    >
      {does.tape && <TapeLines tape={does.tape} />}
      <BlockerLines blockers={does.blockers} />
      {entries.map((entry) => (
        <EntryLines key={entry.text} entry={entry} base={base} title={entry.text} />
      ))}
      <ChangeLines changes={does.changes} base={base} />
    </Paper>
  );
}
