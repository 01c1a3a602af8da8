import { expect, test } from "vitest";
import type { InvoiceLine } from "../src/api/types";
import { whole } from "../src/api/types";
import { addedLine } from "../src/rooms/invoice/adding";
import { sourcesOf } from "../src/rooms/invoice/source";

const shipped = {
  from: "shipped",
  shipment_line: 12,
  order_line: 4,
  shipment_number: "S-1",
  shipped_on: "2026-03-12",
  order_number: "O-1",
  customer_order_number: "PO 7",
} as unknown as InvoiceLine;
const ordered = { from: "ordered", order_line: 5, order_number: "O-2" } as unknown as InvoiceLine;
const typed = { from: "typed" } as unknown as InvoiceLine;

test("lines are told apart by where they come from, typed ones by their place among the typed", () => {
  const sources = sourcesOf([shipped, typed, ordered, typed]);
  expect(sources.map((source) => source.key)).toEqual(["s12", "t0", "o5", "t1"]);
  expect(sources[0]).toMatchObject({ shipment: "S-1", order: "O-1", theirs: "PO 7", shippedOn: "2026-03-12" });
  expect(sources[2]?.shipmentLine).toBeUndefined();
  expect(sources[3]?.added).toBe(1);
});

test("what was typed becomes a line with nothing empty on it", () => {
  expect(
    addedLine({ item: " ASM ", account: "61100", description: "", quantity: "3.5", unit_price: "", tax_code: "" }),
  ).toEqual({ item: "ASM", quantity: "3.5" });
  expect(
    addedLine({
      item: "",
      account: "61100",
      description: "Rent",
      quantity: "",
      unit_price: "1,200.50",
      tax_code: "S23",
    }),
  ).toEqual({ account: "61100", description: "Rent", quantity: "1", unit_price: "1200.50", tax_code: "S23" });
  expect(addedLine({ item: "ASM", quantity: "1", "code.project": "HEATH", "code.place": "" })).toEqual({
    item: "ASM",
    quantity: "1",
    marks: { codes: { project: "HEATH" } },
  });
});

test("what is to be billed always has its lists", () => {
  expect(whole(undefined)).toEqual({ picks: [], order_picks: [], added: [] });
  expect(whole({ picks: [{ shipment_line: 1 }], document_date: "2026-03-17" })).toEqual({
    picks: [{ shipment_line: 1 }],
    order_picks: [],
    added: [],
    document_date: "2026-03-17",
  });
});
