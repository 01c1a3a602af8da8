import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../api/client";
import type { ShipmentView } from "../api/types";
import { date, decimal, exponentOf, money, number, plural, typedDecimal } from "../format";
import { Facts, Lines, Marked, Scroll, useBase, useEverythingChanged, Wrong } from "../parts/bits";
import { FormAsk } from "../parts/FormAsk";
import { Field, FormGrid, orNull } from "../parts/form";
import {
  BlockerLines,
  ChangeLines,
  EntryLines,
  Paper,
  PostedEntries,
  TapeLines,
  Tear,
  TrailLines,
} from "../parts/TapeRoll";
import { OpenMark, RecordLines, useOpenElsewhere, useOpenHere } from "../parts/together";
import { Ask } from "../shell/Ask";
import { useNotices } from "../shell/notices";
import { useMay } from "../shell/session";
import { Worktop } from "../shell/Worktop";
import { printPaper } from "./papers/Sheet";
import { PackingSlip, PickList } from "./papers/ShipmentPapers";

export function ShipmentRoom() {
  const { id = "" } = useParams();
  const query = useQuery({
    queryKey: ["shipment", id],
    queryFn: () => got(api.GET("/api/shipments/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!query.data) {
    return (
      <Worktop title="Shipment" actions={[]} back="/shipments">
        {query.error && <Wrong error={query.error} />}
      </Worktop>
    );
  }
  return <Opened key={query.data.id} shipment={query.data} />;
}

const states: Record<ShipmentView["state"], [shape: string, className: string, words: string]> = {
  picking: ["▲", "heed", "on its pick list"],
  packed: ["▲", "heed", "packed, not posted"],
  posted: ["●", "done", "shipped"],
  taken_back: ["○", "dim", "reversed"],
  dropped: ["○", "dim", "canceled"],
};

interface Typed {
  carrier: string;
  consignment: string;
  freight: string;
  picked: Record<number, string>;
}

function asTyped(shipment: ShipmentView): Typed {
  return {
    carrier: shipment.carrier ?? "",
    consignment: shipment.consignment_number ?? "",
    freight: shipment.freight == null ? "" : decimal(shipment.freight, exponentOf(shipment.currency)),
    picked: Object.fromEntries(shipment.lines.map((line) => [line.order_line, line.quantity])),
  };
}

function Opened({ shipment }: { shipment: ShipmentView }) {
  useOpenHere("shipment", shipment.id);
  const openAt = useOpenElsewhere("shipment")(shipment.id);
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const may = useMay()("keep_shipment");
  const { say } = useNotices();
  const [asking, setAsking] = useState<"post" | "drop" | "back">();
  const [typed, setTyped] = useState<Typed>(() => asTyped(shipment));
  const [faults, setFaults] = useState<Problem>();
  const version = useRef(shipment.version);
  const kept = useRef(asTyped(shipment));
  if (shipment.version > version.current) {
    version.current = shipment.version;
    kept.current = asTyped(shipment);
  }
  const saving = useRef<Promise<boolean>>(Promise.resolve(true));
  const unposted = shipment.state === "picking" || shipment.state === "packed";
  const cameBack = shipment.lines.some((line) => line.returned !== "0");
  const editable = unposted && may;
  const stopped = shipment.blockers.some((blocker) => blocker.effect === "stops");
  /** Keeps what was picked, one change after the other; says whether it is kept. */
  const keep = (next: Typed) => {
    setTyped(next);
    saving.current = saving.current.then(async () => {
      // Beside what was kept last, not what stood here when it was asked: one may be on its way.
      if (JSON.stringify(kept.current) === JSON.stringify(next)) {
        setFaults(undefined);
        return true;
      }
      try {
        const answer = await got(
          api.PUT("/api/shipments/{id}", {
            params: { path: { id: shipment.id }, header: keyed(newKey()) },
            body: {
              version: version.current,
              form: {
                carrier: orNull(next.carrier),
                consignment_number: orNull(next.consignment),
                freight: orNull(typedDecimal(next.freight)),
                lines: shipment.lines.map((line) => ({
                  order_line: line.order_line,
                  quantity: typedDecimal(next.picked[line.order_line] ?? "0") || "0",
                })),
              },
            },
          }),
        );
        version.current = answer.version;
        kept.current = next;
        setFaults(undefined);
        await changed();
        return true;
      } catch (error) {
        setFaults(error instanceof Problem ? error : new Problem({ title: String(error) }));
        return false;
      }
    });
    return saving.current;
  };
  const pack = async () => {
    if (!(await keep(typed))) {
      return;
    }
    try {
      await got(
        api.POST("/api/shipments/{id}/pack", {
          params: { path: { id: shipment.id }, header: keyed(newKey()) },
          body: { version: version.current },
        }),
      );
      say({ kind: "done", text: `${shipment.number} is packed. Post it when it leaves.` });
      await changed();
    } catch (error) {
      setFaults(error instanceof Problem ? error : new Problem({ title: String(error) }));
    }
  };
  const [shape, className, words] = states[shipment.state];
  const lineFault = (at: number) => {
    const field = `lines.${at}.quantity`;
    const blocker = faults?.blockers.find((one) => one.field === field);
    return blocker?.sentence ?? (faults?.field === field ? faults.message : undefined);
  };
  const elsewhere =
    faults &&
    !/^lines\.\d+\.quantity$|^(carrier|consignment_number|freight)$/.test(faults.field ?? "") &&
    faults.blockers.length === 0
      ? faults
      : undefined;
  return (
    <Worktop
      title={shipment.number}
      sum={
        <>
          {shipment.customer_name}
          <OpenMark names={openAt} />
        </>
      }
      back="/shipments"
      actions={[
        ...(unposted
          ? [
              {
                key: "p",
                label: "Post the shipment",
                run: async () => (await keep(typed)) && setAsking("post"),
                primary: true,
                disabled: stopped,
                needs: "post_shipment" as const,
              },
              ...(shipment.state === "picking"
                ? [{ key: "k", label: "Mark as packed", run: pack, needs: "keep_shipment" as const }]
                : []),
              { key: "w", label: "Print the pick list", run: () => printPaper("pick") },
              {
                key: "x",
                label: "Cancel shipment…",
                run: () => setAsking("drop"),
                quiet: true,
                needs: "keep_shipment" as const,
              },
            ]
          : []),
        ...(shipment.state === "posted"
          ? [
              {
                key: "b",
                label: "Bill it",
                run: () => navigate(`/billing?q=${shipment.number}`),
                primary: true,
                disabled: !shipment.unbilled,
              },
              {
                key: "x",
                label: "Reverse shipment…",
                run: () => setAsking("back"),
                disabled: shipment.lines.some(
                  (line) => line.billed !== "0" || line.on_draft !== "0" || line.returned !== "0",
                ),
                needs: "take_back_shipment" as const,
              },
              {
                key: "r",
                label: "Authorize a return",
                run: () => navigate(`/returns/new?customer=${shipment.customer}&shipment=${shipment.id}`),
                quiet: true,
                needs: "authorize_return" as const,
              },
            ]
          : []),
        // Before it has left, w prints what is to be picked.
        { key: unposted ? "" : "w", label: "Print the packing slip", run: () => printPaper("slip"), quiet: unposted },
        { key: "o", label: `Order ${shipment.order_number}`, run: () => navigate(`/orders/${shipment.order}`) },
      ]}
      tape={
        <Paper>
          {shipment.tape && <TapeLines tape={shipment.tape} />}
          <BlockerLines blockers={shipment.blockers} />
          {shipment.tape && <Tear />}
          {shipment.entry && <EntryLines entry={shipment.entry} base={base} title="Entry when posted" />}
          {unposted && !shipment.entry && !stopped && (
            <div className="words quiet">No entry: nothing of it costs anything here.</div>
          )}
          <PostedEntries entries={shipment.entries} base={base} />
          {shipment.state === "posted" && shipment.entries.length === 0 && (
            <div className="words quiet">No entry: its goods are kept, and their cost is written, elsewhere.</div>
          )}
          <ChangeLines changes={shipment.changes} base={base} />
          <TrailLines trail={shipment.trail} />
          <RecordLines kind="shipment" id={shipment.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          [
            "State",
            <Marked key="s" className={className}>
              {shape} {words}
            </Marked>,
          ],
          [
            "Order",
            <Link key="o" to={`/orders/${shipment.order}`}>
              {shipment.order_number}
            </Link>,
          ],
          ["Customer PO", shipment.customer_order_number],
          ["Ship to", `${shipment.ship_to.name}, ${shipment.ship_to.address}`],
          ["Ship from", shipment.warehouse],
          [unposted ? "Started" : "Left on", date(shipment.posting_date ?? shipment.packed_date)],
          ["Delivery", shipment.delivery_terms],
          ["Number elsewhere", shipment.outside_number],
          ...(unposted
            ? []
            : ([["Carrier", [shipment.carrier, shipment.consignment_number].filter(Boolean).join(" · ")]] as [
                string,
                string,
              ][])),
          ["Reversed", shipment.taken_back && `${date(shipment.taken_back.date)}: ${shipment.taken_back.reason}`],
        ]}
      />
      {unposted && (
        <FormGrid>
          <Field
            label="Carrier"
            name="carrier"
            value={typed.carrier}
            onChange={(carrier) => setTyped({ ...typed, carrier })}
            faults={faults}
            span={4}
            disabled={!editable}
            onEnter={() => keep(typed)}
            onLeave={() => keep(typed)}
          />
          <Field
            label="Tracking number"
            name="consignment_number"
            value={typed.consignment}
            onChange={(consignment) => setTyped({ ...typed, consignment })}
            faults={faults}
            span={4}
            disabled={!editable}
            onEnter={() => keep(typed)}
            onLeave={() => keep(typed)}
          />
          <Field
            label={`Freight to charge ${shipment.currency}`}
            name="freight"
            value={typed.freight}
            onChange={(freight) => setTyped({ ...typed, freight })}
            faults={faults}
            span={4}
            right
            hint="billed once, with the shipment"
            disabled={!editable}
            onEnter={() => keep(typed)}
            onLeave={() => keep(typed)}
          />
        </FormGrid>
      )}
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={elsewhere} />
        </p>
      )}
      <Scroll>
        <Lines label="Lines of the shipment">
          <thead>
            <tr>
              <th>Item</th>
              <th className="right">To pick</th>
              <th className="right">{unposted ? "Picked" : "Shipped"}</th>
              <th className="right">Still to come</th>
              {!unposted && <th className="right">On drafts</th>}
              {!unposted && <th className="right">Billed</th>}
              {cameBack && <th className="right">Came back</th>}
              {!unposted && <th className="right">Cost {base}</th>}
            </tr>
          </thead>
          <tbody>
            {shipment.lines.map((line, at) => (
              <tr key={line.id}>
                <td>
                  <b>{line.code}</b> {line.description}
                  {lineFault(at) && (
                    <div role="alert">
                      <Marked className="stop">◆ {lineFault(at)}</Marked>
                    </div>
                  )}
                </td>
                <td className="right">{number(line.asked)}</td>
                <td className="right">
                  {editable ? (
                    <input
                      aria-label={`Picked of ${line.code}`}
                      aria-invalid={!!lineFault(at)}
                      inputMode="decimal"
                      value={typed.picked[line.order_line] ?? ""}
                      style={{
                        width: 76,
                        textAlign: "right",
                        font: "inherit",
                        padding: "3px 6px",
                        border: "1px solid var(--line-strong)",
                        borderRadius: 5,
                        background: "var(--sheet)",
                        color: "inherit",
                      }}
                      onFocus={(event) => event.target.select()}
                      onChange={(event) =>
                        setTyped({ ...typed, picked: { ...typed.picked, [line.order_line]: event.target.value } })
                      }
                      onBlur={() => keep(typed)}
                      onKeyDown={(event) => {
                        if (event.key === "Enter" && !event.ctrlKey) {
                          event.preventDefault();
                          const inputs = [...document.querySelectorAll<HTMLInputElement>("#worktop td input")];
                          const next = inputs[inputs.indexOf(event.currentTarget) + 1];
                          if (next) {
                            next.focus();
                          } else {
                            event.currentTarget.blur();
                          }
                        }
                      }}
                    />
                  ) : (
                    number(line.quantity)
                  )}{" "}
                  <span className="unit">{line.unit}</span>
                </td>
                <td className="right">
                  {line.to_come === "0" ? "" : <Marked className="heed">▲ {number(line.to_come)}</Marked>}
                </td>
                {!unposted && <td className="right">{line.on_draft === "0" ? "" : number(line.on_draft)}</td>}
                {!unposted && <td className="right">{line.billed === "0" ? "" : number(line.billed)}</td>}
                {cameBack && <td className="right">{line.returned === "0" ? "" : number(line.returned)}</td>}
                {!unposted && <td className="right">{money(line.cost, base)}</td>}
              </tr>
            ))}
          </tbody>
        </Lines>
      </Scroll>
      {asking === "post" && (
        <Ask
          title={`Post ${shipment.number}?`}
          yes="Post the shipment"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(
              api.POST("/api/shipments/{id}/post", {
                params: { path: { id: shipment.id }, header: keyed(key) },
                body: { version: version.current },
              }),
            );
            say({
              kind: "done",
              text: `${shipment.number} posted. It can be billed now.`,
              links: [{ text: "Bill it", to: `/billing?q=${shipment.number}` }],
            });
            await changed();
          }}
        >
          {plural(shipment.lines.length, "line leaves", "lines leave")} stock at cost
          {shipment.freight
            ? `, with ${shipment.currency} ${money(shipment.freight, shipment.currency)} of freight to charge`
            : ""}
          . What is not on it stays on the order.
        </Ask>
      )}
      {asking === "drop" && (
        <Ask
          title={`Cancel ${shipment.number}?`}
          yes="Cancel shipment"
          busyWords="Canceling…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(
              api.DELETE("/api/shipments/{id}", {
                params: { path: { id: shipment.id }, header: keyed(key) },
                body: { version: version.current },
              }),
            );
            say({
              kind: "done",
              text: `${shipment.number} is canceled. Its goods stay reserved for ${shipment.order_number}.`,
            });
            await changed();
            navigate(`/orders/${shipment.order}`);
          }}
        >
          Its goods stay where they are, reserved for the order. Its number is used up.
        </Ask>
      )}
      {asking === "back" && (
        <FormAsk
          title={`Reverse ${shipment.number}?`}
          yes="Reverse shipment"
          close={() => setAsking(undefined)}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          run={async (values, key) => {
            await got(
              api.POST("/api/shipments/{id}/take-back", {
                params: { path: { id: shipment.id }, header: keyed(key) },
                body: { version: version.current, reason: values.reason ?? "" },
              }),
            );
            say({
              kind: "done",
              text: `${shipment.number} is reversed: its goods are in stock, its entry is reversed.`,
            });
            await changed();
          }}
        >
          Its goods go back into the layers they left, the entry is reversed, and the order has them to ship again. Only
          possible while nothing of it is billed.
        </FormAsk>
      )}
      <PickList shipment={shipment} />
      <PackingSlip shipment={shipment} />
    </Worktop>
  );
}
