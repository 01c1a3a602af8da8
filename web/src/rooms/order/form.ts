import type { LineForm, OrderForm } from "../../api/types";
import { typedDecimal } from "../../format";
import { orNull } from "../../parts/form";

/** A line nobody has typed into yet. */
export function emptyLine(): LineForm {
  return { item: "", quantity: "" };
}

/** An order nobody has typed into yet. */
export function emptyOrder(): OrderForm {
  return { customer: 0, lines: [emptyLine()], tags: [], marks: {} };
}

function line(typed: LineForm): LineForm {
  const decimal = (text: string | null | undefined) => {
    const given = orNull(text);
    return given === null ? null : typedDecimal(given);
  };
  return {
    ...typed,
    item: typed.item.trim(),
    quantity: typedDecimal(typed.quantity.trim() === "" ? "1" : typed.quantity),
    unit: orNull(typed.unit),
    unit_price: decimal(typed.unit_price),
    price_reason: orNull(typed.price_reason),
    discount: decimal(typed.discount),
    discount_reason: orNull(typed.discount_reason),
    promotion: orNull(typed.promotion),
    tax_code: orNull(typed.tax_code),
    tax_reason: orNull(typed.tax_reason),
    warehouse: orNull(typed.warehouse),
    description: orNull(typed.description),
  };
}

/**
 * What is sent: lines with an item only, decimals as the server reads them. `places` says which
 * typed line each line that is sent was; `without` leaves out a line that is still being typed.
 */
export function toSend(typed: OrderForm, without?: number): { form: OrderForm; places: number[] } {
  const places: number[] = [];
  const lines: LineForm[] = [];
  typed.lines.forEach((one, at) => {
    if (one.item.trim() !== "" && at !== without) {
      places.push(at);
      lines.push(line(one));
    }
  });
  const form: OrderForm = {
    ...typed,
    customer_order_number: orNull(typed.customer_order_number),
    order_date: typed.order_date || null,
    requested_date: typed.requested_date || null,
    promised_date: typed.promised_date || null,
    warehouse: orNull(typed.warehouse),
    carrier: orNull(typed.carrier),
    delivery_terms: orNull(typed.delivery_terms),
    delivery_place: orNull(typed.delivery_place),
    salesperson: orNull(typed.salesperson),
    note: orNull(typed.note),
    own_note: orNull(typed.own_note),
    lines,
  };
  return { form, places };
}

/** A field of the order as it was sent, as a field of what was typed: `lines.0.quantity` → `lines.2.quantity`. */
export function typedField(field: string, places: number[]): string {
  const found = /^lines\.(\d+)\.(.+)$/.exec(field);
  const at = found ? places[Number(found[1])] : undefined;
  return found && at !== undefined ? `lines.${at}.${found[2]}` : field;
}

const KEPT = "till.order.new";

/** What was typed of a new order before the page was left. */
export function keptOrder(key: string): OrderForm | undefined {
  try {
    const kept = sessionStorage.getItem(`${KEPT}.${key}`);
    return kept ? JSON.parse(kept) : undefined;
  } catch {
    return undefined;
  }
}

/** Keeps what is typed of a new order; nothing forgets it. */
export function keepOrder(key: string, form: OrderForm | undefined): void {
  if (form) {
    sessionStorage.setItem(`${KEPT}.${key}`, JSON.stringify(form));
  } else {
    sessionStorage.removeItem(`${KEPT}.${key}`);
  }
}
