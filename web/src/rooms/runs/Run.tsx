import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey } from "../../api/client";
import type { RunInvoice, RunView } from "../../api/types";
import { moneyWithCurrency, plural } from "../../format";
import { BlockerMark, Chips, Marked, useEverythingChanged, useFilter, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { usePicks } from "../../parts/picks";
import { type Column, Rows } from "../../parts/Rows";
import { useAttempt } from "../../parts/saving";
import { placeOf, rememberSequence } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { RecipeAsk } from "./RecipeAsk";
import { RunTape } from "./RunTape";

const idOf = (row: RunInvoice) => String(row.id);

/** A billing run: its invoices as they will be, what is posted of them, and what is not, and why. */
export function RunRoom() {
  const { id = "" } = useParams();
  const [state] = useFilter("state");
  const run = useInfiniteQuery({
    queryKey: ["run", id, state],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/runs/{id}", {
          params: {
            path: { id: Number(id) },
            query: { limit: 200, offset: pageParam, standing: (state || undefined) as "ready" | undefined },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (page, pages) => {
      const loaded = pages.reduce((sum, one) => sum + one.invoices.length, 0);
      return loaded < page.count && page.invoices.length > 0 ? loaded : undefined;
    },
    placeholderData: keepPreviousData,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = run;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) {
      fetchNextPage();
    }
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const invoices = useMemo(() => (run.data?.pages ?? []).flatMap((page) => page.invoices), [run.data]);
  // What all of it comes to is as the newest page says.
  const view = run.data?.pages.at(-1);
  if (!view) {
    return (
      <Worktop title="Billing run" actions={[]} back="/billing/runs">
        {run.error && <Wrong error={run.error} />}
      </Worktop>
    );
  }
  return <Run view={view} rows={invoices} more={more} />;
}

/** How far a run is that is being posted; once it is done, everything is read anew. */
function useProgress(view: RunView) {
  const changed = useEverythingChanged();
  const progress = useQuery({
    // What was heard of a posting before is not of this one: each has its version.
    queryKey: ["run-progress", view.id, view.version],
    queryFn: () => got(api.GET("/api/runs/{id}/progress", { params: { path: { id: view.id } } })),
    enabled: view.underway,
    refetchInterval: (query) => (query.state.data?.underway === false ? false : 500),
    gcTime: 0,
  });
  const done = view.underway && progress.data?.underway === false;
  const told = useRef(false);
  useEffect(() => {
    if (done && !told.current) {
      told.current = true;
      changed();
    }
    if (!done) {
      told.current = false;
    }
  }, [done, changed]);
  return progress.data;
}

function Run({ view, rows, more }: { view: RunView; rows: RunInvoice[]; more: () => void }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [state, setState] = useFilter("state");
  const [current, setCurrent] = useState<RunInvoice>();
  const [asking, setAsking] = useState<"post" | "dates" | "recipe" | "drop">();
  const progress = useProgress(view);
  const { picks, onPick, onAll, picked } = usePicks(rows, idOf);
  const chosen = (picked.length > 0 ? picked : current ? [current] : []).filter((row) => row.standing !== "posted");
  const out = chosen.length > 0 && chosen.every((row) => row.standing === "left_out");
  const posting = view.state === "posting";
  const { counts } = view;
  const states = [
    ["", "All", counts.ready + counts.blocked + counts.left_out + counts.posted],
    ["ready", "Ready", counts.ready],
    ["blocked", "Blocked", counts.blocked],
    ["left_out", "Excluded", counts.left_out],
    ["posted", "Posted", counts.posted],
  ] as const;
  const inState = states.find(([value]) => value === state)?.[2] ?? rows.length;
  const open = (row: RunInvoice) => {
    rememberSequence(rows.map((one) => placeOf({ kind: "invoice", id: one.id, number: "" })));
    navigate(placeOf({ kind: "invoice", id: row.id, number: "" }));
  };
  const attempt = useAttempt();
  const leaveOut = () =>
    attempt(async () => {
      await got(
        api.PUT("/api/runs/{id}/left-out", {
          params: { path: { id: view.id }, header: keyed(newKey()) },
          body: { version: view.version, invoices: chosen.map((row) => row.id), out: !out },
        }),
      );
    });
  const goOn = () =>
    attempt(async () => {
      await got(api.POST("/api/runs/{id}/go-on", { params: { path: { id: view.id }, header: keyed(newKey()) } }));
    });
  // Several currencies are said as one, in the books' own.
  const only = view.ready.length === 1 ? view.ready[0] : undefined;
  const total = only
    ? moneyWithCurrency(only.total, only.currency)
    : `${moneyWithCurrency(view.ready_base, view.base)} in all`;
  const columns: Column<RunInvoice>[] = [
    {
      key: "standing",
      head: "Invoice",
      width: "84px",
      cell: (row) => <StandingMark row={row} />,
    },
    {
      key: "customer",
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => <span title={row.held ?? undefined}>{row.customer_name}</span>,
    },
    {
      key: "blocked",
      head: "Blocked by",
      width: "178px",
      cell: (row) =>
        row.held ? (
          <Marked className="heed" title={row.held}>
            ▲ {row.held}
          </Marked>
        ) : (
          <BlockerMark blockers={row.blockers} alone />
        ),
    },
    { key: "source", head: "From", width: "86px", cell: (row) => <span title={row.source}>{row.source}</span> },
    { key: "lines", head: "Lines", width: "46px", right: true, cell: (row) => row.lines },
    {
      key: "net",
      sum: (row) => ({ minor: row.net, currency: row.currency }),
      head: "Net",
      width: "92px",
      right: true,
      cell: (row) => moneyWithCurrency(row.net, row.currency),
    },
    {
      key: "total",
      sum: (row) => ({ minor: row.total, currency: row.currency }),
      head: "Total",
      width: "98px",
      right: true,
      cell: (row) => moneyWithCurrency(row.total, row.currency),
    },
  ];
  return (
    <Worktop
      title={view.name}
      sum={runWords(view)}
      back="/billing/runs"
      actions={[
        posting && !view.underway
          ? { key: "p", label: "Go on posting", run: goOn, primary: true, needs: "run_billing" as const }
          : {
              key: "p",
              label:
                counts.ready > 0
                  ? `Post ${plural(counts.ready, "invoice", "invoices")} · ${total}`
                  : "Nothing ready to post",
              run: () => setAsking("post"),
              primary: true,
              disabled: counts.ready === 0 || posting,
              needs: "run_billing" as const,
            },
        {
          key: "l",
          label: out ? "Include" : "Exclude",
          run: leaveOut,
          disabled: chosen.length === 0 || posting,
          needs: "run_billing",
        },
        {
          key: "t",
          label: "Dates",
          run: () => setAsking("dates"),
          disabled: posting || counts.ready + counts.blocked + counts.left_out === 0,
          needs: "run_billing",
        },
        { key: "k", label: "Save as recurring…", run: () => setAsking("recipe"), needs: "keep_recipe" },
        {
          key: "x",
          label: "Delete run…",
          run: () => setAsking("drop"),
          disabled: posting || counts.ready + counts.blocked + counts.left_out === 0,
          needs: "run_billing",
        },
        {
          key: "Enter",
          label: "Open",
          run: () => current && open(current),
          disabled: !current,
          shownOnly: true,
          quiet: true,
        },
      ]}
      rest={picked.length > 0 ? `${picked.length} selected` : undefined}
      tape={<RunTape view={view} current={current} />}
    >
      <Chips>
        <span className="pills">
          {states.map(([value, label, count]) => (
            <button
              key={value}
              type="button"
              className={state === value ? "on" : ""}
              aria-pressed={state === value}
              onClick={() => setState(value)}
            >
              {label} {count}
            </button>
          ))}
        </span>
      </Chips>
      {view.waiting > 0 && (
        <p style={{ margin: "0 0 8px" }}>
          <Marked className="dim">
            {plural(view.waiting, "shipment is", "shipments are")} not in it: their customers are billed when all of an
            order has shipped.
          </Marked>
        </p>
      )}
      {posting && (
        <p role="status" style={{ margin: "0 0 8px" }}>
          {view.underway ? (
            <Marked className="heed">
              ▲ Being posted: {progress?.posted ?? counts.posted} of{" "}
              {progress ? progress.posted + progress.left : counts.posted + counts.ready}. You can leave; it goes on.
            </Marked>
          ) : (
            <Marked className="stop">
              ◆ Posting was cut off after {counts.posted} of {counts.posted + counts.ready}. Nothing is doubled; go on
              where it stopped.
            </Marked>
          )}
        </p>
      )}
      <Rows
        label="Invoices of the run"
        rows={rows}
        idOf={idOf}
        columns={columns}
        picks={picks}
        onPick={onPick}
        onAll={onAll}
        count={inState}
        nameOf={(row) => row.number ?? row.customer_name}
        onOpen={open}
        onCurrent={setCurrent}
        more={more}
        empty="Nothing of the run stands so."
      />
      {asking === "post" && (
        <Ask
          title={`Post ${plural(counts.ready, "invoice", "invoices")}?`}
          yes={`Post · ${total}`}
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(
              api.POST("/api/runs/{id}/post", {
                params: { path: { id: view.id }, header: keyed(key) },
                body: { version: view.version, seen: view.seen },
              }),
            );
            await changed();
          }}
        >
          They get their numbers in this order, and go on their way to the customers.
          {counts.blocked > 0 && (
            <>
              {" "}
              {plural(counts.blocked, "invoice is", "invoices are")} blocked and{" "}
              {counts.blocked === 1 ? "stays" : "stay"} here with the reason.
            </>
          )}
          {counts.left_out > 0 && <> {counts.left_out} excluded.</>}
        </Ask>
      )}
      {asking === "drop" && (
        <Ask
          title={`Delete ${view.name}?`}
          yes="Delete run"
          busyWords="Deleting…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(
              api.DELETE("/api/runs/{id}", {
                params: { path: { id: view.id }, query: { version: view.version }, header: keyed(key) },
              }),
            );
            say({ kind: "done", text: `${view.name} is deleted; what it held is unbilled again.` });
            navigate("/billing/runs");
            await changed(["run", String(view.id)]);
          }}
        >
          Its {plural(counts.ready + counts.blocked + counts.left_out, "draft is", "drafts are")} deleted, and what they
          bill is unbilled again.{counts.posted > 0 && " What is posted stays."}
        </Ask>
      )}
      {asking === "dates" && (
        <FormAsk
          title="Dates of the run"
          yes="Set the dates"
          close={() => setAsking(undefined)}
          fields={[
            { name: "document_date", label: "Document date", kind: "date", hint: "Leave empty for the business date" },
            { name: "posting_date", label: "Posting date", kind: "date", hint: "Leave empty to use the document date" },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/runs/{id}/dates", {
                params: { path: { id: view.id }, header: keyed(key) },
                body: {
                  version: view.version,
                  document_date: values.document_date || null,
                  posting_date: values.posting_date || null,
                },
              }),
            );
            await changed();
          }}
        >
          They hold for all its invoices that are not posted.
        </FormAsk>
      )}
      {asking === "recipe" && <RecipeAsk view={view} close={() => setAsking(undefined)} />}
    </Worktop>
  );
}

function runWords(view: RunView): string {
  const { counts } = view;
  return [
    counts.ready > 0 && `${counts.ready} ready`,
    counts.blocked > 0 && `${counts.blocked} blocked`,
    counts.left_out > 0 && `${counts.left_out} excluded`,
    counts.posted > 0 && `${counts.posted} posted`,
  ]
    .filter(Boolean)
    .join(" · ");
}

function StandingMark({ row }: { row: RunInvoice }) {
  switch (row.standing) {
    case "posted":
      return <Marked className="done">{row.number}</Marked>;
    case "blocked":
      return <Marked className="stop">◆ blocked</Marked>;
    case "left_out":
      return <Marked className="dim">○ excluded</Marked>;
    default:
      return row.held ? <Marked className="heed">▲ held</Marked> : <Marked className="dim">ready</Marked>;
  }
}
