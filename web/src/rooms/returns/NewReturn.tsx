import Autocomplete from "@mui/material/Autocomplete";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { ReturnableRow } from "../../api/types";
import { date, money, number, price, shortDate, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { faultsOf, isStopped } from "../../parts/faults";
import { useForget, useKeptState } from "../../parts/kept";
import { PreviewTape } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { Choice } from "./Choice";
import { useReturnSettings } from "./settings";
import { nothingKnown, type Unknown, WithoutDocument } from "./WithoutDocument";

const Form = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 1.6fr) minmax(0, 1.2fr) minmax(0, 1fr) minmax(0, 1fr)",
  gap: "16px 14px",
  margin: "6px 0 12px",
});

/** A line of an invoice, or of a shipment that is not billed. */
const keyOf = (row: ReturnableRow) => (row.line != null ? `billed ${row.line}` : `shipped ${row.shipment_line}`);

/** What was typed for a line. It is kept while another search shows other lines. */
interface Typed {
  row: ReturnableRow;
  quantity: string;
  reason: string;
  disposition: string;
}

/** Authorizes a return: points at what was billed or shipped, of one document or of everything the customer ever bought. */
export function NewReturnRoom() {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const customerId = Number(params.get("customer")) || undefined;
  const invoiceId = Number(params.get("invoice")) || undefined;
  const shipmentId = Number(params.get("shipment")) || undefined;
  const settings = useReturnSettings();
  const reasons = settings?.reasons.filter((one) => one.active) ?? [];
  const dispositions = settings?.dispositions.filter((one) => one.active) ?? [];
  const [search, setSearch] = useState("");
  const form = `return.${customerId ?? ""}.${invoiceId ?? ""}.${shipmentId ?? ""}`;
  const forget = useForget(form);
  const [typed, setTyped] = useKeptState<Record<string, Typed>>(form, "typed", {});
  const [unknown, setUnknown] = useKeptState<Unknown[]>(form, "unknown", []);
  const mayFree = useMay()("return_without_document") && !!settings && settings.proof !== "needed";
  const [until, setUntil] = useKeptState(form, "until", "");
  const [reference, setReference] = useKeptState(form, "reference", "");
  const [asking, setAsking] = useState(false);
  const words = useSettled(search.trim());
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const billed = useQuery({
    queryKey: ["returnable", customerId, invoiceId, shipmentId, words],
    queryFn: () =>
      got(
        api.GET("/api/returnable", {
          params: {
            query: { customer: customerId, invoice: invoiceId, shipment: shipmentId, q: words || undefined, limit: 60 },
          },
        }),
      ),
    enabled: !!customerId,
    placeholderData: keepPreviousData,
  });
  const wanted = Object.values(typed).filter((one) => one.quantity.trim() !== "");
  const free = unknown.filter((one) => one.item.trim() !== "");
  const body = {
    customer: customerId ?? 0,
    lines: [
      ...wanted.map((one) => ({
        ...(one.row.line != null ? { line: one.row.line } : { shipment_line: one.row.shipment_line }),
        quantity: typedDecimal(one.quantity),
        reason: one.reason,
        disposition: one.disposition || null,
      })),
      ...free.map((one) => ({
        item: one.item.trim(),
        price: typedDecimal(one.price),
        quantity: typedDecimal(one.quantity),
        reason: one.reason,
        disposition: one.disposition || null,
        ...(one.cost.trim() !== "" && { cost: typedDecimal(one.cost), cost_reason: one.costReason }),
      })),
    ],
    expires_on: until || null,
    reference: reference || null,
  };
  const ready = !!customerId && body.lines.length > 0;
  const preview = useQuery({
    queryKey: ["return-preview", body],
    queryFn: () => got(api.POST("/api/returns/preview", { body })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const shown = ready && !preview.error ? preview.data : undefined;
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const errors = faultsOf(shown?.blockers, problem, "customer");
  const stopped = !shown || preview.isFetching || isStopped(shown.blockers);
  // What is wanted stays in sight, whatever is searched for next.
  const found = billed.data?.lines ?? [];
  const kept = wanted.map((one) => one.row).filter((row) => !found.some((other) => keyOf(other) === keyOf(row)));
  const rows = [...kept, ...found];
  // The first reason chosen is the one of the next line too.
  const usual = wanted.at(-1)?.reason ?? "";
  const type = (row: ReturnableRow, what: Partial<Typed>) =>
    setTyped((now) => {
      const before = now[keyOf(row)] ?? { row, quantity: "", reason: usual, disposition: "" };
      return { ...now, [keyOf(row)]: { ...before, ...what } };
    });
  const elsewhere = Object.entries(errors).find(([field]) => !/^(lines\.|expires_on|reference)/.test(field));
  const assumed = settings?.until ?? "";
  return (
    <Worktop
      title="Authorize a return"
      sum={
        chosen
          ? `${chosen.name} · ${found.length < (billed.data?.count ?? 0) ? `${found.length} of ` : ""}${billed.data?.count ?? 0} lines`
          : "Whose goods come back?"
      }
      back={invoiceId ? `/invoices/${invoiceId}` : shipmentId ? `/shipments/${shipmentId}` : "/returns"}
      actions={[
        {
          key: "p",
          label: "Authorize",
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "authorize_return",
        },
        {
          key: "/",
          label: "Search",
          run: () => document.querySelector<HTMLInputElement>("input[name=billed]")?.focus(),
          disabled: !customerId,
          quiet: true,
        },
        ...(mayFree
          ? [
              {
                key: "o",
                label: "Without a document",
                run: () => {
                  setUnknown((now) => [...now, nothingKnown]);
                  const added = `[aria-label="Item of line ${unknown.length + 1} without a document"]`;
                  requestAnimationFrame(() => document.querySelector<HTMLInputElement>(added)?.focus());
                },
                disabled: !customerId,
              },
            ]
          : []),
      ]}
      rest={
        <span>
          all of a line <kbd>=</kbd> from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={shown?.tape ? { ...shown, tape: shown.tape, entry: null, changes: [] } : undefined}
          until="Type how much of which line comes back: what it was billed at appears here. Nothing is posted before the goods arrive."
        />
      }
    >
      <Form>
        <Autocomplete
          options={customers.data ?? []}
          value={chosen}
          getOptionLabel={(option) => `${option.name} · ${option.number}`}
          isOptionEqualToValue={(option, value) => option.id === value.id}
          onChange={(_, option) => {
            setTyped({});
            setUnknown([]);
            setParams(option ? { customer: String(option.id) } : {}, { replace: true });
          }}
          disabled={!!invoiceId || !!shipmentId}
          autoHighlight
          openOnFocus
          renderInput={(input) => <TextField {...input} label="Customer" autoFocus={!customerId} />}
        />
        <TextField
          name="billed"
          label="Find what was sold"
          value={search}
          onChange={(event) => setSearch(event.target.value)}
          disabled={!customerId}
          autoFocus={!!customerId}
          helperText="item, document, PO, 2026-03"
        />
        <TextField
          label="Their reference"
          value={reference}
          onChange={(event) => setReference(event.target.value)}
          error={!!errors.reference}
          helperText={errors.reference}
        />
        <DateField
          label="May arrive until"
          typed={until}
          assumed={assumed}
          onType={setUntil}
          error={errors.expires_on}
          from={`${settings?.days ?? 60} days`}
        />
      </Form>
      {(elsewhere || errors.lines) && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere?.[1] ?? errors.lines ?? "")} />
        </p>
      )}
      {billed.error && <Wrong error={billed.error} />}
      {customerId && billed.data && rows.length === 0 && (
        <p className="dim">
          {words ? "Nothing sold to this customer fits. Search for less." : "Nothing was sold to this customer yet."}
        </p>
      )}
      {unknown.length > 0 && (
        <div style={{ flexShrink: 0, marginBottom: 12 }}>
          <WithoutDocument
            lines={unknown}
            first={wanted.length}
            currency={chosen?.currency ?? ""}
            reasons={reasons}
            dispositions={dispositions}
            errors={errors}
            change={(at, what) =>
              setUnknown((now) => now.map((one, place) => (place === at ? { ...one, ...what } : one)))
            }
          />
        </div>
      )}
      {rows.length > 0 && (
        <Scroll>
          <Lines label="Lines that were sold">
            <thead>
              <tr>
                <th>Document</th>
                <th style={{ width: "34%" }}>Item</th>
                <th className="right">Price</th>
                <th className="right">Can come back</th>
                <th className="right">Comes back</th>
                <th>Reason, and what is planned</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => {
                const mine = typed[keyOf(row)];
                const at = wanted.findIndex((one) => keyOf(one.row) === keyOf(row));
                const wrong =
                  errors[`lines.${at}.quantity`] ??
                  errors[`lines.${at}.reason`] ??
                  errors[`lines.${at}.disposition`] ??
                  errors[`lines.${at}`];
                return (
                  <tr key={keyOf(row)}>
                    <td style={{ whiteSpace: "nowrap" }}>
                      <b>{row.document.number}</b>
                      <div className="dim" title={date(row.date)}>
                        {shortDate(row.date, today)}
                        {row.line == null && ", not billed"}
                      </div>
                    </td>
                    <td>
                      <b>{row.code}</b> {row.description}
                      <div className={wrong ? "wrong" : "dim"} role={wrong ? "alert" : undefined}>
                        {wrong ?? row.obstacle ?? whence(row, chosen?.name)}
                      </div>
                    </td>
                    <td className="right dim">
                      {price(row.unit_price)} {row.currency}
                    </td>
                    <td className="right" title={row.obstacle ? undefined : money(row.worth, row.currency)}>
                      {number(row.left)} of {number(row.billed)} {row.unit}
                    </td>
                    <td className="right">
                      {!row.obstacle && (
                        <TextField
                          value={mine?.quantity ?? ""}
                          onChange={(event) => type(row, { quantity: event.target.value })}
                          onKeyDown={(event) => {
                            if (event.key === "=") {
                              event.preventDefault();
                              type(row, { quantity: number(row.left) });
                            }
                          }}
                          error={!!errors[`lines.${at}.quantity`]}
                          sx={{ width: 70 }}
                          slotProps={{
                            htmlInput: {
                              "aria-label": `Quantity of ${row.code} of ${row.document.number} that comes back`,
                              inputMode: "decimal",
                              style: { textAlign: "right" },
                            },
                          }}
                        />
                      )}
                    </td>
                    <td style={{ width: 190 }}>
                      {mine && mine.quantity.trim() !== "" && (
                        <>
                          <Choice
                            label={`Why ${row.code} of ${row.document.number} comes back`}
                            value={mine.reason}
                            choices={reasons}
                            none="Why?"
                            wrong={!!errors[`lines.${at}.reason`]}
                            choose={(reason) => type(row, { reason })}
                          />
                          <Choice
                            label={`What is to become of ${row.code} of ${row.document.number}`}
                            value={mine.disposition}
                            choices={dispositions}
                            none="Inspect first"
                            choose={(disposition) => type(row, { disposition })}
                          />
                        </>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </Lines>
        </Scroll>
      )}
      {asking && shown && chosen && (
        <Ask
          title="Authorize this return?"
          yes="Authorize"
          close={() => setAsking(false)}
          run={async (key) => {
            const made = await got(
              api.POST("/api/returns", {
                params: { header: keyed(key) },
                body: { ...body, seen: shown.fingerprint },
              }),
            );
            forget();
            say({
              kind: "done",
              text: `${made.number} is authorized. Print the slip, and send it to the customer.`,
              links: [{ text: "Another return", to: "/returns/new" }],
            });
            await changed();
            navigate(`/returns/${made.id}`, { replace: true });
          }}
        >
          {chosen.name} may send it back until {date(shown.expires_on)}. Nothing is posted before it arrives.
        </Ask>
      )}
    </Worktop>
  );
}

/** What a line was ordered and left with, and where it went where that is not the customer itself. */
function whence(row: ReturnableRow, customer: string | undefined): string {
  const shipment = row.line != null && row.shipment;
  return [row.customer_po, shipment, row.ship_to !== customer && row.ship_to].filter(Boolean).join(" · ");
}
