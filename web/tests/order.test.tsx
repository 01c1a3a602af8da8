// @vitest-environment jsdom
import { beforeEach, describe, expect, it } from "vitest";
import { percentText, share } from "../src/rooms/customers/TermsFields";
import { emptyLine, emptyOrder, keepOrder, keptOrder, toSend, typedField } from "../src/rooms/order/form";

describe("an order as it is typed", () => {
  beforeEach(() => sessionStorage.clear());

  it("sends lines with an item only, and knows which they were", () => {
    const typed = {
      ...emptyOrder(),
      customer: 4,
      customer_order_number: "  ",
      lines: [
        emptyLine(),
        { item: " HB-12 ", quantity: "1,240.5", unit_price: "", price_reason: " " },
        { item: "", quantity: "7" },
        { item: "FR-50", quantity: "", discount: "2,5" },
      ],
    };
    const { form, places } = toSend(typed);
    expect(places).toEqual([1, 3]);
    expect(toSend(typed, 1).places).toEqual([3]);
    expect(form.customer_order_number).toBeNull();
    expect(form.lines.map((line) => [line.item, line.quantity])).toEqual([
      ["HB-12", "1240.5"],
      ["FR-50", "1"],
    ]);
    expect(form.lines[0]).toMatchObject({ unit_price: null, price_reason: null });
  });

  it("leads from a field that was sent to the one that was typed", () => {
    expect(typedField("lines.1.quantity", [1, 3])).toBe("lines.3.quantity");
    expect(typedField("lines.5.quantity", [1, 3])).toBe("lines.5.quantity");
    expect(typedField("customer", [1, 3])).toBe("customer");
  });

  it("keeps what was typed of a new order until it is saved", () => {
    const typed = { ...emptyOrder(), customer: 9 };
    expect(keptOrder("order")).toBeUndefined();
    keepOrder("order", typed);
    expect(keptOrder("order")).toEqual(typed);
    expect(keptOrder("quote")).toBeUndefined();
    keepOrder("order", undefined);
    expect(keptOrder("order")).toBeUndefined();
  });

  it("does not trip over what someone else kept there", () => {
    sessionStorage.setItem("till.order.new.order", "{");
    expect(keptOrder("order")).toBeUndefined();
  });
});

describe("a discount in percent", () => {
  it("is a share of one in the books, digit for digit", () => {
    const pairs = [
      ["0", "0.000000"],
      ["2.5", "0.025000"],
      ["12.125", "0.121250"],
      ["100", "1.000000"],
    ] as const;
    for (const [percent, rate] of pairs) {
      expect(share(percent)).toBe(rate);
      expect(percentText(rate)).toBe(percent);
    }
  });
});
