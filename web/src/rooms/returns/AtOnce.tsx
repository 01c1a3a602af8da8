import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { ReturnableRow } from "../../api/types";
import { money, number, price, typedDecimal } from "../../format";
import { Lines, Scroll, useEverythingChanged, useSettled, Wrong } from "../../parts/bits";
import { faultsOf, isStopped } from "../../parts/faults";
import { useKept } from "../../parts/kept";
import { PreviewTape } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { addedLines, type OtherLine, OtherWay } from "../invoice/OtherWay";
import { Choice } from "./Choice";
import { comesToWords, settledAtOnce, WhyAndDate } from "./parts";
import { useReturnSettings } from "./settings";

interface Typed {
  quantity: string;
  reason: string;
  disposition: string;
}

/** Takes goods back and credits them in one posting: a direct return, with a fee or not, or an exchange. */
export function AtOnceRoom() {
  const { id = "" } = useParams();
  const found = useQuery({
    queryKey: ["returnable", "of", id],
    queryFn: () => got(api.GET("/api/returnable", { params: { query: { invoice: Number(id), limit: 200 } } })),
  });
  const invoice = useQuery({
    queryKey: ["invoice", id],
    queryFn: () => got(api.GET("/api/invoices/{id}", { params: { path: { id: Number(id) } } })),
  });
  const document = invoice.data?.document;
  if (!found.data || !invoice.data || !document) {
    return (
      <Worktop title="Take goods back" actions={[]} back={`/invoices/${id}`}>
        {(found.error ?? invoice.error) && <Wrong error={found.error ?? invoice.error ?? new Error()} />}
      </Worktop>
    );
  }
  return (
    <Opened
      key={id}
      id={Number(id)}
      number={invoice.data.number ?? ""}
      customer={invoice.data.customer.name}
      currency={document.currency}
      gross={document.gross_priced}
      rows={found.data.lines.filter((row) => row.left !== "0")}
    />
  );
}

function Opened({
  id,
  number: invoiceNumber,
  customer,
  currency,
  gross,
  rows,
}: {
  id: number;
  number: string;
  customer: string;
  currency: string;
  gross: boolean;
  rows: ReturnableRow[];
}) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const settings = useReturnSettings();
  const reasons = settings?.reasons.filter((one) => one.active) ?? [];
  const dispositions = settledAtOnce(settings);
  const kept = useKept(`back-at-once.${id}`, {
    lines: {} as Record<number, Typed>,
    other: [] as OtherLine[],
    why: "",
    day: "",
  });
  const { lines: typed, other, why, day } = kept.typed;
  const [first, setFirst] = useState<number[]>([]);
  const rank = (row: ReturnableRow) => (first.includes(row.position) ? 0 : 1);
  const [asking, setAsking] = useState(false);
  const [unsaid, setUnsaid] = useState(false);
  const wanted = rows.filter((row) => typed[row.position]?.quantity.trim());
  const usual = Object.values(typed).find((one) => one.reason)?.reason ?? reasons.at(-1)?.code ?? "";
  const back = wanted.map((row) => ({
    position: row.position,
    quantity: typedDecimal(typed[row.position]?.quantity ?? ""),
    reason: typed[row.position]?.reason || usual,
    disposition: typed[row.position]?.disposition || null,
  }));
  const added = addedLines(other);
  const body = useSettled(JSON.stringify({ back, added, date: day || null }));
  const ready = back.length > 0;
  const preview = useQuery({
    queryKey: ["back-at-once", id, body],
    queryFn: () =>
      got(
        api.POST("/api/invoices/{id}/back-at-once/preview", {
          params: { path: { id }, header: keyed(newKey()) },
          // What it does to the books is the same for any reason.
          body: { ...JSON.parse(body), reason: "to be said" },
        }),
      ),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const shown = ready && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "invoice");
  if (unsaid && why.trim() === "") {
    errors.reason = "Say why, in a few words: the customer reads it on the document.";
  }
  const settled = JSON.stringify({ back, added, date: day || null }) === body;
  const stopped = !shown || !settled || preview.isFetching || isStopped(shown.blockers);
  const total = shown?.total ?? 0;
  const exchanged = added.length > 0;
  const comesTo = comesToWords(total, currency);
  const verb = exchanged ? "Post the exchange" : "Return and credit";
  const type = (row: ReturnableRow, what: Partial<Typed>) =>
    kept.type((now) => ({
      lines: {
        ...now.lines,
        [row.position]: { ...(now.lines[row.position] ?? { quantity: "", reason: "", disposition: "" }), ...what },
      },
    }));
  const elsewhere = Object.entries(errors).find(([field]) => !/^(back\.\d|added\.\d|date|reason)/.test(field));
  return (
    <Worktop
      title={`Goods back on ${invoiceNumber}`}
      sum={`${customer} · ${stopped || !ready ? "in one posting" : comesTo}`}
      back={`/invoices/${id}`}
      actions={[
        {
          key: "p",
          label: stopped || !ready ? verb : `${verb} · ${comesTo}`,
          run: () => {
            setUnsaid(why.trim() === "");
            setAsking(why.trim() !== "");
          },
          primary: true,
          disabled: stopped,
          needs: "return_at_once",
        },
      ]}
      rest={
        <span>
          all of a line <kbd>=</kbd> from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={shown?.tape ? { ...shown, tape: shown.tape } : undefined}
          until="Type how much of which line is back: what is credited, what goes out and the entry appear here."
        />
      }
    >
      <WhyAndDate why={why} day={day} type={kept.type} errors={errors} />
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      {rows.length === 0 ? (
        <p>Nothing of this invoice can come back any more: it is credited, or on a return.</p>
      ) : (
        <Scroll>
          {/* Both tables stay in view, however long the invoice is; what was chosen comes first as one leaves the first. */}
          <div
            role="group"
            aria-label="Lines that can come back"
            style={{ maxHeight: "40vh", overflowY: "auto" }}
            onBlur={(event) => {
              if (!event.currentTarget.contains(event.relatedTarget)) {
                setFirst(wanted.map((row) => row.position));
                event.currentTarget.scrollTop = 0;
              }
            }}
          >
            <Lines label="What comes back">
              <thead>
                <tr>
                  <th style={{ width: "34%" }}>Comes back</th>
                  <th className="right">{gross ? "Price with tax" : "Price"}</th>
                  <th className="right">Can come back</th>
                  <th className="right">Is back</th>
                  <th>Reason, and where it goes</th>
                  <th className="right">Credit {currency}</th>
                </tr>
              </thead>
              <tbody>
                {[...rows]
                  .sort((one, other) => rank(one) - rank(other))
                  .map((row) => {
                    const mine = typed[row.position];
                    const at = wanted.indexOf(row);
                    const wrong =
                      at < 0 ? undefined : Object.entries(errors).find(([f]) => f.startsWith(`back.${at}`))?.[1];
                    return (
                      <tr key={row.position}>
                        <td>
                          <b>{row.code}</b> {row.description}
                          {(wrong ?? row.obstacle) && (
                            <div className={wrong ? "wrong" : "dim"} role={wrong ? "alert" : undefined}>
                              {wrong ?? row.obstacle}
                            </div>
                          )}
                        </td>
                        <td className="right dim">{price(row.unit_price)}</td>
                        <td className="right">
                          {number(row.left)} {row.unit}
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
                              error={!!wrong}
                              sx={{ width: 76 }}
                              slotProps={{
                                htmlInput: {
                                  "aria-label": `Quantity of ${row.code} that is back`,
                                  inputMode: "decimal",
                                  style: { textAlign: "right" },
                                },
                              }}
                            />
                          )}
                        </td>
                        <td style={{ width: 190 }}>
                          {at >= 0 && (
                            <>
                              <Choice
                                label={`Why ${row.code} comes back`}
                                value={mine?.reason || usual}
                                choices={reasons}
                                choose={(reason) => type(row, { reason })}
                              />
                              <Choice
                                label={`Where ${row.code} goes`}
                                value={mine?.disposition ?? ""}
                                choices={dispositions}
                                none="Inspect first"
                                choose={(disposition) => type(row, { disposition })}
                              />
                            </>
                          )}
                        </td>
                        <td className="right">{at >= 0 && !wrong ? money(shown?.back[at] ?? 0, currency) : ""}</td>
                      </tr>
                    );
                  })}
              </tbody>
            </Lines>
          </div>
          <div style={{ height: 14 }} />
          <OtherWay
            typed={other}
            type={(other) => kept.type({ other })}
            amounts={shown?.added ?? []}
            errors={errors}
            currency={currency}
            goods
          />
        </Scroll>
      )}
      {asking && shown && (
        <Ask
          title={exchanged ? "Post this exchange?" : "Are these goods here?"}
          yes={`${verb} · ${comesTo}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const done = await got(
              api.POST("/api/invoices/{id}/back-at-once", {
                params: { path: { id }, header: keyed(key) },
                body: { ...JSON.parse(body), reason: why, seen: shown.fingerprint },
              }),
            );
            say({
              kind: "done",
              text: `${done.document.number} is posted: ${comesTo}. What came back stands on ${done.returned.number}.`,
              links: [{ text: `Open ${done.returned.number}`, to: placeOf(done.returned) }],
            });
            await changed();
            kept.forget();
            navigate(placeOf(done.document), { replace: true });
          }}
        >
          {total < 0
            ? "What is left to pay becomes an invoice."
            : `What is open of ${invoiceNumber} is settled by it first; what was paid is kept for the customer.`}
        </Ask>
      )}
    </Worktop>
  );
}
