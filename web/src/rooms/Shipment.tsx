import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../api/client";
import { date, money, number, plural } from "../format";
import { Facts, Lines, Marked, useBase, useEverythingChanged, Wrong } from "../parts/bits";
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
import { Worktop } from "../shell/Worktop";

export function ShipmentRoom() {
  const { id = "" } = useParams();
  useOpenHere("shipment", Number(id));
  const openAt = useOpenElsewhere("shipment")(Number(id));
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState(false);
  const query = useQuery({
    queryKey: ["shipment", id],
    queryFn: () => got(api.GET("/api/shipments/{id}", { params: { path: { id: Number(id) } } })),
  });
  const shipment = query.data;
  if (!shipment) {
    return (
      <Worktop title="Shipment" actions={[]} back="/shipments">
        {query.error && <Wrong error={query.error} />}
      </Worktop>
    );
  }
  const posted = !!shipment.posting_date;
  const stopped = shipment.blockers.some((blocker) => blocker.effect === "stops");
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
        posted
          ? {
              key: "b",
              label: "Bill it",
              run: () => navigate(`/billing?q=${shipment.number}`),
              primary: true,
              disabled: !shipment.unbilled,
            }
          : {
              key: "p",
              label: "Post the shipment",
              run: () => setAsking(true),
              primary: true,
              disabled: stopped,
              needs: "post_shipment",
            },
        { key: "o", label: `Order ${shipment.order_number}`, run: () => navigate(`/orders/${shipment.order}`) },
      ]}
      tape={
        <Paper>
          {shipment.tape && <TapeLines tape={shipment.tape} />}
          <BlockerLines blockers={shipment.blockers} />
          {shipment.tape && <Tear />}
          {shipment.entry && <EntryLines entry={shipment.entry} base={base} title="Entry when posted" />}
          <PostedEntries entries={shipment.entries} base={base} />
          <ChangeLines changes={shipment.changes} base={base} />
          <TrailLines trail={shipment.trail} />
          <RecordLines kind="shipment" id={shipment.id} />
        </Paper>
      }
    >
      <Facts
        facts={[
          ["Order", shipment.order_number],
          ["Packed", date(shipment.packed_date)],
          [
            "Left on",
            shipment.posting_date ? (
              date(shipment.posting_date)
            ) : (
              <Marked key="n" className="heed">
                ▲ not posted
              </Marked>
            ),
          ],
          ["Carrier", [shipment.carrier, shipment.consignment_number].filter(Boolean).join(" · ")],
        ]}
      />
      <Lines label="Lines of the shipment">
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Shipped</th>
            <th className="right">On drafts</th>
            <th className="right">Billed</th>
            <th className="right">Cost {base}</th>
          </tr>
        </thead>
        <tbody>
          {shipment.lines.map((line) => (
            <tr key={line.id}>
              <td>
                <b>{line.code}</b> {line.description}
              </td>
              <td className="right">
                {number(line.quantity)} {line.unit}
              </td>
              <td className="right">{line.on_draft === "0" ? "" : number(line.on_draft)}</td>
              <td className="right">{line.billed === "0" ? "" : number(line.billed)}</td>
              <td className="right">{posted ? money(line.cost, base) : ""}</td>
            </tr>
          ))}
        </tbody>
      </Lines>
      {asking && (
        <Ask
          title={`Post ${shipment.number}?`}
          yes="Post the shipment"
          close={() => setAsking(false)}
          run={async (key) => {
            await got(
              api.POST("/api/shipments/{id}/post", {
                params: { path: { id: shipment.id }, header: keyed(key) },
                body: { version: shipment.version },
              }),
            );
            say({
              kind: "done",
              text: `${shipment.number} is posted; it can be billed now.`,
              links: [{ text: "Bill it", to: `/billing?q=${shipment.number}` }],
            });
            await changed();
          }}
        >
          {plural(shipment.lines.length, "line leaves", "lines leave")} stock at cost, and can be billed from now on.
        </Ask>
      )}
    </Worktop>
  );
}
