import type { InvoiceLine } from "../../api/types";

/** Where a line comes from, flat. */
export interface Source {
  /** Tells the lines of one invoice apart. */
  key: string;
  shipmentLine?: number;
  orderLine?: number;
  shipment?: string;
  shippedOn?: string;
  order?: string;
  theirs?: string;
  /** Its place among the lines typed here. */
  added?: number;
}

/** Where the lines of an invoice come from, in their order. */
export function sourcesOf(lines: InvoiceLine[]): Source[] {
  let added = 0;
  return lines.map((line) => {
    if (line.from === "shipped") {
      return {
        key: `s${line.shipment_line}`,
        shipmentLine: line.shipment_line,
        orderLine: line.order_line,
        shipment: line.shipment_number,
        shippedOn: line.shipped_on,
        order: line.order_number,
        ...(line.customer_order_number && { theirs: line.customer_order_number }),
      };
    }
    if (line.from === "ordered") {
      return {
        key: `o${line.order_line}`,
        orderLine: line.order_line,
        order: line.order_number,
        ...(line.customer_order_number && { theirs: line.customer_order_number }),
      };
    }
    if (line.from === "prepaid") {
      return {
        key: `p${line.in_advance_of}`,
        order: line.order_number,
        ...(line.customer_order_number && { theirs: line.customer_order_number }),
      };
    }
    const place = added++;
    return { key: `t${place}`, added: place };
  });
}
