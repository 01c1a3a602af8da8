import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { api, got, Problem } from "../api/client";
import type { ApprovalView, DocumentKind, RecordRow } from "../api/types";
import { moment, money } from "../format";
import { useMay } from "../shell/session";
import { Marked, useBase } from "./bits";
import type { Column } from "./Rows";

const SAY_SO_EVERY = 15_000;

/** Tells the others that this document is open here, as long as it is. */
export function useOpenHere(kind: DocumentKind, id: number): void {
  const may = useMay()("show_presence");
  useEffect(() => {
    if (!may) {
      return;
    }
    const say = (open: boolean) => {
      // Who has what open is a courtesy: where it cannot be said, the work goes on.
      api.POST("/api/presence", { body: { kind, id, open } }).catch(() => undefined);
    };
    say(true);
    const again = setInterval(() => say(true), SAY_SO_EVERY);
    return () => {
      clearInterval(again);
      say(false);
    };
  }, [kind, id, may]);
}

/** What others have open, by document. */
export function useOpenElsewhere(kind: DocumentKind): (id: number) => string | undefined {
  const presence = useQuery({
    queryKey: ["presence"],
    queryFn: () => got(api.GET("/api/presence")),
    refetchInterval: SAY_SO_EVERY,
    staleTime: 0,
  });
  return (id) => presence.data?.find((one) => one.kind === kind && one.id === id)?.names.join(" and ");
}

const Named = styled("span")({
  display: "flex",
  gap: 8,
  "& > span:first-of-type": { overflow: "hidden", textOverflow: "ellipsis" },
  "& > span:last-of-type": { flexShrink: 0 },
});

function initials(names: string): string {
  return names
    .split(" and ")
    .map((name) =>
      name
        .split(" ")
        .map((part) => part[0])
        .join(""),
    )
    .join(", ");
}

/** Who else has it open, in a heading. */
export function OpenMark({ names }: { names: string | undefined }) {
  return names ? (
    <Marked className="heed" title={`${names} has this open now`}>
      {" "}
      · ▲ open at {names}
    </Marked>
  ) : null;
}

/** The column with a document's customer, and who else has the document open. */
export function customerColumn<Row extends { id: number; customer_name: string }>(
  openAt: (id: number) => string | undefined,
): Column<Row> {
  return {
    key: "customer",
    head: "Customer",
    sort: (row) => row.customer_name,
    width: "minmax(0, 1fr)",
    cell: (row) => {
      const names = openAt(row.id);
      return names ? (
        <Named>
          <span>{row.customer_name}</span>
          <Marked className="heed" title={`open at ${names}`}>
            ▲ {initials(names)}
          </Marked>
        </Named>
      ) : (
        row.customer_name
      );
    },
  };
}

/** From which value to which. */
export function Changes({ row }: { row: RecordRow }) {
  return row.deed.changes.map((change) => (
    <div className="value" key={change.field}>
      <span>{change.field}</span>
      <span>{change.from == null ? change.to : `${change.from} → ${change.to ?? "–"}`}</span>
    </div>
  ));
}

/** Who did it: with who had asked for it, where someone else approved. */
export function doerOf(row: RecordRow): string {
  return row.doer.asked_by ? `${row.doer.name}, asked by ${row.doer.asked_by}` : row.doer.name;
}

/** Why a change was not kept; where someone else was faster, who, when and what. */
export async function staleWords(error: unknown, kind: DocumentKind, id: number, seen: number): Promise<string> {
  if (!(error instanceof Problem)) {
    return String(error);
  }
  if (error.code !== "stale") {
    return error.message;
  }
  const record = await got(api.GET("/api/record/{kind}/{id}", { params: { path: { kind, id } } })).catch(
    () => undefined,
  );
  const since = (record?.rows ?? []).filter((row) => (row.deed.version ?? 0) > seen);
  const said = since.map(
    (row) =>
      `${row.doer.name}, ${moment(row.at)}: ${row.deed.words}${row.deed.changes.map((change) => `, ${change.field} ${change.from ?? "–"} → ${change.to ?? "–"}`).join("")}`,
  );
  return said.length === 0
    ? error.message
    : `Not kept: someone was faster. ${said.join("; ")}. Load the page again to see it, then repeat your change.`;
}

/** What happened to a document, newest first, for the tape. */
export function RecordLines({ kind, id }: { kind: DocumentKind; id: number }) {
  const may = useMay()("see_document_record");
  const record = useQuery({
    queryKey: ["record-of", kind, id],
    queryFn: () => got(api.GET("/api/record/{kind}/{id}", { params: { path: { kind, id } } })),
    enabled: may,
  });
  const rows = record.data?.rows ?? [];
  if (rows.length === 0) {
    return null;
  }
  return (
    <>
      <h3>History</h3>
      {rows.slice(0, 6).map((row) => (
        <div key={row.sequence} style={{ marginBottom: 4 }}>
          <div className="words">
            {row.deed.words}
            <div className="quiet" style={{ fontSize: 13 }}>
              {doerOf(row)} · {moment(row.at)}
            </div>
          </div>
          <Changes row={row} />
        </div>
      ))}
      {rows.length > 6 && <div className="words quiet">and {rows.length - 6} more, earlier</div>}
    </>
  );
}

/** What waits for someone's word about a document, and what became of it. */
export function useApprovals(kind: DocumentKind, id: number): ApprovalView[] {
  const approvals = useQuery({
    queryKey: ["approvals", kind, id],
    queryFn: () => got(api.GET("/api/approvals", { params: { query: { kind, id } } })),
  });
  return approvals.data ?? [];
}

const states: Record<ApprovalView["state"], [shape: string, className: string, words: string]> = {
  waiting: ["▲", "heed", "pending approval"],
  approved: ["●", "done", "approved"],
  declined: ["◆", "stop", "declined"],
  withdrawn: ["○", "dim", "withdrawn"],
};

/** Where an approval stands, as a shape and a word. */
export function ApprovalState({ approval }: { approval: ApprovalView }) {
  const [shape, className, words] = states[approval.state];
  return (
    <Marked className={className}>
      {shape} {words}
    </Marked>
  );
}

/** The requests about a document that wait or were just declined, under its head. */
export function ApprovalStrip({ approvals }: { approvals: ApprovalView[] }) {
  const base = useBase();
  const shown = approvals.filter((one) => one.state === "waiting" || one.state === "declined").slice(0, 3);
  return shown.map((approval) => (
    <p key={approval.id} style={{ margin: "0 0 8px" }}>
      <ApprovalState approval={approval} />: <Link to={`/approvals/${approval.id}`}>{approval.words}</Link>
      {approval.amount > 0 && `, ${money(approval.amount, base)} ${base}`}
      {approval.state === "waiting"
        ? ` · asked by ${approval.maker}`
        : ` · ${approval.decided_by}: ${approval.decision}`}
    </p>
  ));
}
