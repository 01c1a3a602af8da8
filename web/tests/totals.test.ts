// @vitest-environment jsdom
import { expect, test } from "vitest";
import type { InvoiceView } from "../src/api/types";
import { totals } from "../src/rooms/invoice/Posted";

const document = {
  currency: "EUR",
  discount: null,
  taxes: [
    { code: "S23", category: "S", rate: "0.23", base: 10_000, tax: 2_300 },
    { code: "Z", category: "Z", rate: "0", base: 4_400, tax: 0 },
  ],
  net: 14_400,
  tax: 2_300,
  total: 16_700,
  due: 16_700,
  deposits: [],
};

const of = (open: number | null, more: object = {}) => {
  const whole = { ...document, ...more } as unknown as NonNullable<InvoiceView["document"]>;
  return totals({ open, prepaid: [] } as unknown as InvoiceView, whole);
};

test("an invoice says its tax by rate, and nothing of payments while there are none", () => {
  expect(of(16_700)).toEqual([
    ["Net", 14_400],
    ["Tax 23 % of 100.00, S23", 2_300],
    ["Tax 0 % of 44.00, Z", 0],
    ["Total EUR", 16_700],
  ]);
});

test("what was paid, credited or deducted is told, and what is left of it", () => {
  expect(of(6_700).slice(-3)).toEqual([
    ["Total EUR", 16_700],
    ["Less paid, credited, or deducted", -10_000],
    ["Balance due EUR", 6_700],
  ]);
  expect(of(0).at(-1)).toEqual(["Balance due EUR", 0]);
});

test("deposits and a discount stand where they count", () => {
  const rows = of(3_000, {
    discount: { percent: "0.1", amount: 1_600, reason: "as agreed" },
    deposits: [{ document: { kind: "deposit", id: 1, number: "D-7" }, amount: 11_700 }],
    due: 5_000,
  });
  expect(rows[0]).toEqual(["Less 10 %, as agreed", -1_600]);
  expect(rows.slice(-3)).toEqual([
    ["Less deposit D-7", -11_700],
    ["Less paid, credited, or deducted", -2_000],
    ["Balance due EUR", 3_000],
  ]);
});
