import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../api/client";
import type { InvoicePreview, ToBill, UnbilledCustomer, UnbilledShipment } from "../api/types";
import { money, moneyWithCurrency, plural } from "../format";
import {
  BlockerMark,
  Chips,
  ExportLink,
  FilterField,
  RoomLinks,
  StateChips,
  useBase,
  useEverythingChanged,
  useFilter,
  Wrong,
} from "../parts/bits";
import { type Column, PickBox, Rows } from "../parts/Rows";
import { BlockerLines, ChangeLines, EntryLines, Paper, TapeLines, Tear } from "../parts/TapeRoll";
import { Track } from "../parts/Track";
import { placeOf, rememberSequence } from "../places";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { Worktop } from "../shell/Worktop";

type Row = { customer: UnbilledCustomer } | { shipment: UnbilledShipment; of: UnbilledCustomer };

export const billingLinks: [string, string][] = [
  ["/billing", "Unbilled"],
  ["/billing/invoices", "Invoices"],
];

function idOf(row: Row): string {
  return "customer" in row ? `c${row.customer.customer}` : `s${row.shipment.shipment}`;
}

export function UnbilledRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [search] = useFilter("q");
  const [over] = useFilter("over_days");
  const [customer, setCustomer] = useFilter("customer");
  const [picks, setPicks] = useState<ReadonlySet<string>>(new Set());
  const [current, setCurrent] = useState<Row>();
  const [asking, setAsking] = useState(false);
  const opening = useRef(false);
  const unbilled = useQuery({
    queryKey: ["unbilled", search, over, customer],
    queryFn: () =>
      got(
        api.GET("/api/unbilled", {
          params: {
            query: {
              q: search || undefined,
              over_days: over ? Number(over) : undefined,
              customer: customer ? Number(customer) : undefined,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const customers = unbilled.data?.customers ?? [];
  const rows = useMemo(() => {
    const all: Row[] = [];
    for (const owner of unbilled.data?.customers ?? []) {
      all.push({ customer: owner });
      for (const shipment of owner.shipments) {
        all.push({ shipment, of: owner });
      }
    }
    return all;
  }, [unbilled.data]);
  const shipments = customers.flatMap((owner) => owner.shipments);
  const picked = shipments.filter((shipment) => picks.has(`s${shipment.shipment}`));
  const chosen =
    picked.length > 0
      ? picked
      : current
        ? "customer" in current
          ? current.customer.shipments
          : [current.shipment]
        : [];
  const toBill: ToBill = {
    picks: chosen.flatMap((shipment) => shipment.lines.map((line) => ({ shipment_line: line.shipment_line }))),
  };
  const preview = useQuery({
    queryKey: ["invoice-preview", toBill],
    queryFn: () => got(api.POST("/api/invoices/preview", { body: toBill })),
    enabled: toBill.picks.length > 0,
    placeholderData: keepPreviousData,
  });
  const previews = toBill.picks.length > 0 ? (preview.data ?? []) : [];
  const stopped = previews.flatMap((one) => one.blockers).filter((blocker) => blocker.effect === "stops");
  const visible = new Set(rows.map(idOf));
  const markOf = (row: Row) =>
    "customer" in row
      ? row.customer.shipments.every((shipment) => picks.has(`s${shipment.shipment}`))
      : picks.has(idOf(row));
  const pick = (some: Row[]) => {
    const ids = some.flatMap((row) =>
      "customer" in row ? row.customer.shipments.map((shipment) => `s${shipment.shipment}`) : [idOf(row)],
    );
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
      key: "mark",
      head: "",
      width: "36px",
      cell: (row) => (
        <PickBox
          on={markOf(row)}
          label={"customer" in row ? `All of ${row.customer.name}` : row.shipment.number}
          toggle={() => pick([row])}
        />
      ),
    },
    { key: "shipment", head: "Shipment", width: "78px", cell: (row) => ("customer" in row ? "" : row.shipment.number) },
    { key: "order", head: "Order", width: "76px", cell: (row) => ("customer" in row ? "" : row.shipment.order_number) },
    {
      key: "track",
      head: "Track",
      width: "134px",
      cell: (row) => ("customer" in row ? "" : <Track track={row.shipment.track} />),
    },
    {
      key: "what",
      head: "What",
      width: "minmax(0, 1fr)",
      cell: (row) =>
        "customer" in row ? (
          ""
        ) : (
          <span title={row.shipment.what}>
            {row.shipment.blockers.length > 0 ? row.shipment.what.split(",")[0] : row.shipment.what}
            <BlockerMark blockers={row.shipment.blockers} />
          </span>
        ),
    },
    {
      key: "days",
      head: "Days",
      width: "56px",
      right: true,
      cell: (row) => ("customer" in row ? row.customer.days : row.shipment.days),
    },
    {
      key: "net",
      head: `Net ${base}`,
      width: "96px",
      right: true,
      cell: (row) => money("customer" in row ? row.customer.net_base : row.shipment.net_base, base),
    },
  ];
  const total = previews.length > 0 ? totals(previews) : "";
  const name = customer ? customers[0]?.name : undefined;
  return (
    <Worktop
      title="Unbilled"
      sum={
        unbilled.data &&
        `${plural(unbilled.data.shipments, "shipment", "shipments")} · ${plural(customers.length, "customer", "customers")} · ${money(unbilled.data.net_base, base)}`
      }
      actions={[
        {
          key: "p",
          label:
            previews.length > 0
              ? `Post ${plural(previews.length, "invoice", "invoices")} · ${total}`
              : "Nothing to post",
          run: () => setAsking(true),
          primary: true,
          disabled: previews.length === 0 || stopped.length > 0 || preview.isFetching,
          needs: "post_invoice",
        },
        {
          key: "Enter",
          label: "Open the draft",
          run: openDraft,
          disabled: toBill.picks.length === 0,
          shownOnly: true,
          needs: "keep_draft",
        },
        { key: "i", label: "Invoices", run: () => navigate("/billing/invoices"), quiet: true },
      ]}
      rest={
        <span>
          {picked.length} of {shipments.length} picked <kbd>Space</kbd>
        </span>
      }
      tape={<UnbilledTape previews={previews} base={base} wrong={preview.error} />}
    >
      <Chips>
        <RoomLinks links={billingLinks} />
        <span className="gap" />
        <FilterField label="Customer, number, item" />
        <StateChips
          name="over_days"
          choices={[
            ["", "Any age"],
            ["4", "Over 3 days"],
          ]}
        />
        {name && (
          <button type="button" className="on" onClick={() => setCustomer("")}>
            only {name} ✕
          </button>
        )}
        <ExportLink list="unbilled" />
      </Chips>
      {unbilled.error && <Wrong error={unbilled.error} />}
      {unbilled.data && (
        <Rows
          label="Unbilled shipments by customer"
          rows={rows}
          idOf={idOf}
          columns={columns}
          isGroup={(row) => "customer" in row}
          groupCell={(row) =>
            "customer" in row ? (
              <>
                {row.customer.name} <span className="sub">· {row.customer.terms}</span>
              </>
            ) : (
              ""
            )
          }
          groupTail={2}
          picks={showMarks}
          onPick={pick}
          onOpen={openDraft}
          onCurrent={setCurrent}
          empty={
            search || over || customer
              ? "Nothing unbilled fits this filter. What is packed and not posted is not here; look among the shipments."
              : "Everything that was shipped is billed. What is packed and not posted stands among the shipments."
          }
        />
      )}
      {asking && (
        <Ask
          title={`Post ${plural(previews.length, "invoice", "invoices")}?`}
          yes={`Post · ${total}`}
          close={() => setAsking(false)}
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

/** Sums by currency, said with their sign. */
function totals(previews: InvoicePreview[]): string {
  const sums = new Map<string, bigint>();
  for (const { document } of previews) {
    if (document) {
      sums.set(document.currency, (sums.get(document.currency) ?? 0n) + BigInt(document.total));
    }
  }
  return [...sums].map(([currency, sum]) => moneyWithCurrency(Number(sum), currency)).join(" + ");
}

function UnbilledTape({ previews, base, wrong }: { previews: InvoicePreview[]; base: string; wrong: Error | null }) {
  if (wrong) {
    return (
      <Paper>
        <div className="words">
          <Wrong error={wrong} />
        </div>
      </Paper>
    );
  }
  return (
    <Paper>
      {previews.length > 1 && (
        <>
          <h2>
            {plural(previews.length, "invoice", "invoices")}
            <br />
            <span>one for each customer, currency and terms</span>
          </h2>
          {previews.map((one) => (
            <div className="l" key={one.fingerprint}>
              <span>{one.customer_name}</span>
              <span>{one.document && money(one.document.total, one.document.currency)}</span>
            </div>
          ))}
          <div className="l due">
            <span>Together</span>
            <span>{totals(previews)}</span>
          </div>
          <Tear />
        </>
      )}
      {previews.slice(0, 12).map((one) => (
        <div key={one.fingerprint}>
          <TapeLines tape={one.tape} />
          <BlockerLines blockers={one.blockers} />
          <Tear />
          {one.entry && <EntryLines entry={one.entry} base={base} title="Entry when posted" />}
          <ChangeLines changes={one.changes} base={base} />
        </div>
      ))}
    </Paper>
  );
}
