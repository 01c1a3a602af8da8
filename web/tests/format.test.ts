import { describe, expect, it } from "vitest";
import {
  date,
  decimal,
  learnExponents,
  money,
  moneyWithCurrency,
  number,
  percent,
  price,
  shortDate,
  typedDecimal,
} from "../src/format";

describe("amounts", () => {
  it("are moved about as text, never as floating point", () => {
    expect(decimal(29028, 2)).toBe("290.28");
    expect(decimal(-5, 2)).toBe("-0.05");
    expect(decimal(1200, 0)).toBe("1200");
    expect(decimal(1, 3)).toBe("0.001");
  });

  it("stay exact where a float would not", () => {
    expect(money(9007199254740991, "EUR")).toBe("90,071,992,547,409.91");
    expect(money(-123456, "EUR")).toBe("\u22121,234.56");
  });

  it("have the decimals of their currency", () => {
    learnExponents({ JPY: 0, BHD: 3 });
    expect(money(1200, "JPY")).toBe("1,200");
    expect(money(1200, "BHD")).toBe("1.200");
    expect(moneyWithCurrency(280526, "EUR")).toBe("€2,805.26");
    expect(moneyWithCurrency(100, "CHF")).toBe("CHF 1.00");
  });
});

describe("quantities, prices and rates", () => {
  it("keep what the server said", () => {
    expect(number("2.5")).toBe("2.5");
    expect(number("1200")).toBe("1,200");
    expect(price("9.4")).toBe("9.40");
    expect(price("0.335")).toBe("0.335");
    expect(percent("0.05")).toBe("5 %");
    expect(percent("0.135")).toBe("13.5 %");
    expect(percent("1")).toBe("100 %");
    expect(percent("0.000001")).toBe("0.0001 %");
  });
});

describe("what a person types", () => {
  it("becomes a plain decimal for the server to judge", () => {
    expect(typedDecimal(" 1,204.50 ")).toBe("1204.50");
    expect(typedDecimal("7.")).toBe("7");
    expect(typedDecimal("\u22123")).toBe("-3");
    expect(typedDecimal("ten")).toBe("ten");
  });

  it.each([
    ["12,345,678", "12345678"],
    ["-1,204", "-1204"],
    ["1 204.5", "1204.5"],
    ["7,5", "7,5"],
    ["10,00", "10,00"],
    ["1,2345", "1,2345"],
    ["1204,500", "1204,500"],
    ["12,,345", "12,,345"],
    ["1.204,50", "1.204,50"],
    [",5", ",5"],
    ["", ""],
  ])("%s is sent as %s: a mark that parts no thousands is not taken out", (typed, sent) => {
    expect(typedDecimal(typed)).toBe(sent);
  });
});

describe("dates", () => {
  it("are read as they are said", () => {
    expect(date("2026-03-18")).toBe("18 Mar 2026");
    expect(date("2026-12-01")).toBe("1 Dec 2026");
    expect(shortDate("2026-03-04", "2026-03-18")).toBe("4 Mar");
    expect(shortDate("2025-12-30", "2026-03-18")).toBe("30 Dec 2025");
  });
});
