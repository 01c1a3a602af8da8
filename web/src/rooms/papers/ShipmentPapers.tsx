import type { ShipmentView } from "../../api/types";
import { date, number } from "../../format";
import { PaperSheet } from "./Sheet";

/** What is to be fetched from the shelves, with room for what was found. */
export function PickList({ shipment }: { shipment: ShipmentView }) {
  return (
    <PaperSheet
      name="pick"
      title={`Pick list ${shipment.number}`}
      addresses={[["For", shipment.ship_to]]}
      facts={[
        ["Order", shipment.order_number],
        ["From", shipment.warehouse],
        ["Started", date(shipment.packed_date)],
        ["Carrier", shipment.carrier],
      ]}
    >
      <table>
        <thead>
          <tr>
            <th> </th>
            <th>Item</th>
            <th className="right">To pick</th>
            <th className="right">Picked</th>
          </tr>
        </thead>
        <tbody>
          {shipment.lines.map((line) => (
            <tr key={line.id}>
              <td>
                <span className="box" />
              </td>
              <td>
                {line.code} {line.description}
              </td>
              <td className="right">
                {number(line.asked)} {line.unit}
              </td>
              <td className="right">
                <span className="blank" />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="signed">
        <span>picked by</span>
        <span>checked by</span>
      </div>
    </PaperSheet>
  );
}

/** What lies in the parcel, and what is still to come. No prices. */
export function PackingSlip({ shipment }: { shipment: ShipmentView }) {
  return (
    <PaperSheet
      name="slip"
      title={`Packing slip ${shipment.number}`}
      addresses={[["To", shipment.ship_to]]}
      facts={[
        ["Date", date(shipment.posting_date ?? shipment.packed_date)],
        ["Order", shipment.order_number],
        ["Your order", shipment.customer_order_number],
        ["Carrier", [shipment.carrier, shipment.consignment_number].filter(Boolean).join(" ")],
        ["Delivery", shipment.delivery_terms],
      ]}
    >
      <table>
        <thead>
          <tr>
            <th>Item</th>
            <th className="right">Ordered</th>
            <th className="right">In this parcel</th>
            <th className="right">Still to come</th>
          </tr>
        </thead>
        <tbody>
          {shipment.lines
            .filter((line) => line.kind !== "charge")
            .map((line) => (
              <tr key={line.id}>
                <td>
                  {line.code} {line.description}
                  {line.kind === "packaging" && <div className="dim">returnable: please send it back empty</div>}
                </td>
                <td className="right">{number(line.ordered)}</td>
                <td className="right">
                  {number(line.quantity)} {line.unit}
                </td>
                <td className="right">{line.to_come === "0" ? "" : number(line.to_come)}</td>
              </tr>
            ))}
        </tbody>
      </table>
      {shipment.note && <p className="note">{shipment.note}</p>}
    </PaperSheet>
  );
}
