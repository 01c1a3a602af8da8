import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../api/client";
import type { UnbilledCustomer, UnbilledShipment } from "../api/types";
import { money, moneyWithCurrency, plural } from "../format";
import {
  BlockerMark,
  Chips,
  ExportLink,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useEverythingChanged,
  useFilter,
  Wrong,
} from "../parts/bits";
import { type Column, Rows } from "../parts/Rows";
import { SavedViews } from "../parts/SavedViews";
import { Track } from "../parts/Track";
import { placeOf, rememberSequence } from "../places";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";
import { MakeRunAsk } from "./unbilled/MakeRunAsk";
import { habits, keyOf, toBillOf, useUnbilledFilter } from "./unbilled/picking";
import { totals, UnbilledTape } from "./unbilled/UnbilledTape";

type Row = { customer: UnbilledCustomer } | { shipment: UnbilledShipment; of: UnbilledCustomer };

export const billingLinks: [string, string][] = [
  ["/billing", "Unbilled"],
  ["/billing/runs", "Runs"],
  ["/billing/direct", "Direct"],
  ["/billing/invoices", "Invoices"],
  ["/billing/credit-memos", "Credit memos"],
  ["/billing/going-out", "Outbox"],
];

function idOf(row: Row): string {
  return "customer" in row ? `c${row.customer.customer}` : keyOf(row.shipment);
}

/** Pages of the list as one: a customer that goes on over the page stands once. */
function together(pages: { customers: UnbilledCustomer[] }[]): UnbilledCustomer[] {
  const all = new Map<number, UnbilledCustomer>();
  for (const owner of pages.flatMap((page) => page.customers)) {
    const known = all.get(owner.customer);
    all.set(owner.customer, known ? { ...known, shipments: [...known.shipments, ...owner.shipments] } : owner);
  }
  return [...all.values()];
}

export function UnbilledRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const query = useUnbilledFilter();
  const [params] = useSearchParams();
  const [, setCustomer] = useFilter("customer");
  const [picks, setPicks] = useState<ReadonlySet<string>>(new Set());
  const [current, setCurrent] = useState<Row>();
  const [asking, setAsking] = useState<"post" | "run">();
  const opening = useRef(false);
  const unbilled = useInfiniteQuery({
    queryKey: ["unbilled", query],
    queryFn: ({ pageParam }) =>
      got(api.GET("/api/unbilled", { params: { query: { ...query, limit: 200, offset: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const first = unbilled.data?.pages[0];
  const customers = useMemo(() => together(unbilled.data?.pages ?? []), [unbilled.data]);
  const rows = useMemo(() => {
    const all: Row[] = [];
    for (const owner of customers) {
      all.push({ customer: owner });
      for (const shipment of owner.shipments) {
        all.push({ shipment, of: owner });
      }
    }
    return all;
  }, [customers]);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = unbilled;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) {
      fetchNextPage();
    }
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const shipments = customers.flatMap((owner) => owner.shipments);
  const picked = shipments.filter((shipment) => picks.has(keyOf(shipment)));
  const chosen =
    picked.length > 0
      ? picked
      : current
        ? "customer" in current
          ? current.customer.shipments
          : [current.shipment]
        : [];
  const toBill = toBillOf(chosen);
  const any = toBill.picks.length + toBill.order_picks.length > 0;
  const preview = useQuery({
    queryKey: ["invoice-preview", toBill],
    queryFn: () => got(api.POST("/api/invoices/preview", { body: toBill })),
    enabled: any,
    placeholderData: keepPreviousData,
  });
  const previews = any ? (preview.data ?? []) : [];
  const stopped = previews.flatMap((one) => one.blockers).filter((blocker) => blocker.effect === "stops");
  const visible = new Set(rows.map(idOf));
  const markOf = (row: Row) =>
    "customer" in row ? row.customer.shipments.every((shipment) => picks.has(keyOf(shipment))) : picks.has(idOf(row));
  const pick = (some: Row[]) => {
    const ids = some.flatMap((row) => ("customer" in row ? row.customer.shipments.map(keyOf) : [idOf(row)]));
    setPicks((before) => {
      const after = new Set([...before].filter((id) => visible.has(id)));
      const all = ids.every((id) => after.has(id));
      for (const id of ids) {
        if (all && some.length === 1) {
          after.delete(id);
        } else {
          after.add(id);
        }
      }
      return after;
    });
  };
  const openDraft = async () => {
    // A second Enter on the way to the draft makes no second draft.
    if (opening.current) {
      return;
    }
    opening.current = true;
    try {
      const drafts = await got(api.POST("/api/invoices", { body: toBill, params: { header: keyed(newKey()) } }));
      const places = drafts.map((id) => `/invoices/${id}`);
      rememberSequence(places);
      setPicks(new Set());
      await changed();
      if (places[0]) {
        navigate(places[0]);
      }
    } catch (error) {
      say({ kind: "stop", text: error instanceof Problem ? error.message : String(error) });
    } finally {
      opening.current = false;
    }
  };
  const showMarks = new Set(rows.filter(markOf).map(idOf));
  const columns: Column<Row>[] = [
    {
      key: "shipment",
      head: "Shipment",
      width: "76px",
      cell: (row) =>
        "customer" in row ? "" : row.shipment.shipment ? row.shipment.number : <Marked className="dim">none</Marked>,
    },
    { key: "order", head: "Order", width: "70px", cell: (row) => ("customer" in row ? "" : row.shipment.order_number) },
    {
      key: "track",
      head: "Track",
      width: "90px",
      cell: (row) => ("customer" in row ? "" : <Track small track={row.shipment.track} />),
    },
    {
      key: "what",
      head: "What",
      width: "minmax(0, 1fr)",
      cell: (row) => ("customer" in row ? "" : <span title={row.shipment.what}>{row.shipment.what}</span>),
    },
    {
      key: "blocked",
      head: "Blocked by",
      width: "178px",
      cell: (row) => ("customer" in row ? "" : <BlockerMark blockers={row.shipment.blockers} alone />),
    },
    {
      key: "days",
      head: "Days",
      width: "50px",
      right: true,
      cell: (row) => ("customer" in row ? row.customer.days : row.shipment.days),
    },
    {
      key: "net",
      sum: (row) => ("customer" in row ? null : { minor: row.shipment.net_base, currency: base }),
      head: `Net ${base}`,
      width: "88px",
      right: true,
      cell: (row) => money("customer" in row ? row.customer.net_base : row.shipment.net_base, base),
    },
  ];
  const total = previews.length > 0 ? totals(previews) : "";
  const name = query.customer ? customers[0]?.name : undefined;
  const filtered = params.toString() !== "";
  return (
    <Worktop
      title="Unbilled"
      sum={
        first &&
        `${plural(first.shipments, "shipment", "shipments")} · ${plural(customers.length, "customer", "customers")}${hasNextPage ? " so far" : ""} · ${money(first.net_base, base)}`
      }
      actions={[
        {
          key: "p",
          label:
            previews.length > 0
              ? `Post ${plural(previews.length, "invoice", "invoices")} · ${total}`
              : "Nothing to post",
          run: () => setAsking("post"),
          primary: true,
          disabled: previews.length === 0 || stopped.length > 0 || preview.isFetching,
          needs: "post_invoice",
        },
        {
          key: "Enter",
          label: "Open the draft",
          run: openDraft,
          disabled: !any,
          shownOnly: true,
          needs: "keep_draft",
        },
        {
          key: "r",
          label: picked.length > 0 ? `Make a run of ${picked.length}` : "Make a run",
          run: () => setAsking("run"),
          disabled: !first || first.shipments === 0,
          needs: "run_billing",
        },
        { key: "n", label: "Direct invoice", run: () => navigate("/billing/direct"), quiet: true, needs: "keep_draft" },
        { key: "i", label: "Invoices", run: () => navigate("/billing/invoices"), quiet: true },
      ]}
      rest={
        <span>
          {picked.length} of {first?.shipments ?? 0} selected <kbd>Space</kbd>
        </span>
      }
      tape={<UnbilledTape previews={previews} base={base} wrong={preview.error} />}
    >
      <Chips>
        <RoomLinks links={billingLinks} />
        <ExportLink list="unbilled" />
      </Chips>
      <Chips>
        <FilterField label="Customer, number, item" />
        <StateChips
          name="over_days"
          choices={[
            ["", "Any age"],
            ["4", "Over 3 days"],
          ]}
        />
        <FilterChoice
          name="habit"
          label="Billed"
          choices={[["", "any combination"], ...Object.entries(habits)] as [string, string][]}
        />
        <FilterChoice
          name="blocked"
          label="Blockers"
          choices={[
            ["", "ready and blocked"],
            ["false", "only ready"],
            ["true", "only blocked"],
          ]}
        />
        {name && (
          <button type="button" className="only" onClick={() => setCustomer("")}>
            only {name} ✕
          </button>
        )}
        <SavedViews room="unbilled" />
      </Chips>
      {unbilled.error && <Wrong error={unbilled.error} />}
      {first && (
        <Rows
          label="Unbilled shipments by customer"
          rows={rows}
          idOf={idOf}
          columns={columns}
          isGroup={(row) => "customer" in row}
          groupCell={(row) =>
            "customer" in row ? (
              <>
                {row.customer.name}{" "}
                <span className="sub">
                  · {row.customer.terms} · {habits[row.customer.habit]}
                  {row.customer.when_complete && ", when all has shipped"}
                </span>
              </>
            ) : (
              ""
            )
          }
          groupTail={2}
          picks={showMarks}
          onPick={pick}
          count={first.shipments}
          onAll={(on) => setPicks(new Set(on ? shipments.map(keyOf) : []))}
          nameOf={(row) => ("customer" in row ? `All of ${row.customer.name}` : row.shipment.number)}
          onOpen={openDraft}
          onCurrent={setCurrent}
          more={more}
          empty={
            filtered ? (
              <NotHere asked={query.q} />
            ) : (
              "Everything that was shipped is billed. What is packed and not posted is under Shipments."
            )
          }
        />
      )}
      {asking === "run" && first && (
        <MakeRunAsk picked={picked} count={first.shipments} close={() => setAsking(undefined)} />
      )}
      {asking === "post" && (
        <Ask
          title={`Post ${plural(previews.length, "invoice", "invoices")}?`}
          yes={`Post · ${total}`}
          close={() => setAsking(undefined)}
          run={async (key) => {
            const posted = await got(
              api.POST("/api/invoices/post", {
                body: { ...toBill, seen: previews.map((one) => one.fingerprint) },
                params: { header: keyed(key) },
              }),
            );
            setPicks(new Set());
            say({
              kind: "done",
              text: `${posted.map((one) => one.number).join(", ")} posted · ${total}. It is owed from now on.`,
              links: posted.slice(0, 3).map((one) => ({
                text: `Open ${one.number}`,
                to: placeOf({ kind: "invoice", id: one.id, number: one.number }),
              })),
            });
            await changed();
          }}
        >
          {previews.map((one) => (
            <div key={one.fingerprint}>
              {one.customer_name}: {one.document && moneyWithCurrency(one.document.total, one.document.currency)}
            </div>
          ))}
          Numbers are given now, the entries are written, and nothing on them changes afterwards.
        </Ask>
      )}
    </Worktop>
  );
}

/** A filter with a few choices. */
function FilterChoice({ name, label, choices }: { name: string; label: string; choices: [string, string][] }) {
  const [value, set] = useFilter(name);
  return (
    <select aria-label={label} value={value} onChange={(event) => set(event.target.value)}>
      {choices.map(([choice, text]) => (
        <option key={choice} value={choice}>
          {text}
        </option>
      ))}
    </select>
  );
}

/** Why what was asked for is not in the list. */
function NotHere({ asked }: { asked: string | undefined }) {
  const why = useQuery({
    queryKey: ["why", asked],
    queryFn: () => got(api.GET("/api/unbilled/why", { params: { query: { number: asked ?? "" } } })),
    enabled: !!asked,
  });
  if (!why.data || why.data.length === 0) {
    return "Nothing unbilled fits this filter. Ask for an order or shipment by its whole number, and this says where it is.";
  }
  return (
    <>
      {why.data.map((one) => (
        <div key={one.sentence}>
          {one.sentence} <Link to={placeOf(one.at)}>Open {one.at.number}</Link>
        </div>
      ))}
    </>
  );
}
