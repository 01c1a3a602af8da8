// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it } from "vitest";
import type { MoneyPreview, OpenItem } from "../src/api/types";
import { typedDecimal } from "../src/format";
import { ApplyTable, asApplications, fieldErrors, type Typed } from "../src/rooms/Applying";

afterEach(cleanup);

const item = (invoice: number, open: number, currency = "EUR"): OpenItem => ({
  item: invoice,
  document: { kind: "invoice", id: 100 + invoice, number: `I-${invoice}` },
  customer: 7,
  branch: null,
  number: `I-${invoice}`,
  document_date: "2026-03-01",
  due_date: "2026-03-31",
  days_late: -13,
  currency,
  total: open,
  open,
});

const preview = (applied: [invoice: number, amount: number, after: number][]): MoneyPreview => ({
  currency: "EUR",
  document: {
    date: { date: "2026-03-18", typed: false },
    amount: 10000,
    amount_base: 10000,
    applied: applied.map(([invoice, amount, after]) => ({
      item: invoice,
      document: { kind: "invoice", id: 100 + invoice, number: `I-${invoice}` },
      customer: 7,
      currency: "EUR",
      amount,
      credit_amount: amount,
      receivable_base: amount,
      money_base: amount,
      open_after: after,
    })),
    unapplied: 0,
    unapplied_base: 0,
  },
  suggested: applied.map(([item, amount], at) => ({ item, amount, because: at === 0 ? "number" : "oldest" })),
  entry: null,
  tape: { heading: "", subheading: "", currency: "EUR", lines: [] },
  changes: [],
  blockers: [],
  fingerprint: "x",
});

function Table({ given, errors = {} }: { given: MoneyPreview | undefined; errors?: Record<string, string> }) {
  const [typed, setTyped] = useState<Typed>();
  return (
    <>
      <ApplyTable
        items={[item(1, 7000), item(2, 5000), item(3, 900, "GBP")]}
        currency="EUR"
        typed={typed}
        setTyped={setTyped}
        preview={given}
        errors={errors}
      />
      <output>{JSON.stringify(asApplications(typed, typedDecimal))}</output>
    </>
  );
}

const field = (invoice: number) => screen.getByLabelText<HTMLInputElement>(new RegExp(`Apply to I-${invoice}`));
const sent = () => JSON.parse(screen.getByRole("status").textContent ?? "");

describe("applying money to invoices", () => {
  it("says why, until someone types", async () => {
    render(
      <Table
        given={preview([
          [1, 7000, 0],
          [2, 3000, 2000],
        ])}
      />,
    );
    // By age needs no word.
    expect(screen.getAllByText("named by number")).toHaveLength(1);
    fireEvent.change(field(2), { target: { value: "10" } });
    expect(screen.queryByText("named by number")).toBeNull();
  });

  it("shows what the server proposes until someone types", () => {
    render(
      <Table
        given={preview([
          [1, 7000, 0],
          [2, 3000, 2000],
        ])}
      />,
    );
    expect([field(1).value, field(2).value]).toEqual(["70.00", "30.00"]);
    expect(sent()).toBeNull();
    expect(screen.getByText("settled")).toBeTruthy();
  });

  it("keeps the proposal of the other invoices when one is typed", async () => {
    const user = userEvent.setup();
    render(
      <Table
        given={preview([
          [1, 7000, 0],
          [2, 3000, 2000],
        ])}
      />,
    );
    await user.clear(field(2));
    await user.type(field(2), "1,000.5");
    expect(sent()).toEqual([
      { item: 1, amount: "70.00" },
      { item: 2, amount: "1000.5" },
    ]);
  });

  it("leaves out what was emptied, and fills in what is open with =", async () => {
    const user = userEvent.setup();
    render(<Table given={preview([[1, 7000, 0]])} />);
    await user.clear(field(1));
    await user.type(field(2), "=");
    expect(sent()).toEqual([{ item: 2, amount: "50.00" }]);
  });

  it("offers only invoices in the currency of the money", () => {
    render(<Table given={preview([])} />);
    expect(screen.queryByLabelText(/I-3/)).toBeNull();
  });

  it("puts an error at the field it belongs to", async () => {
    const user = userEvent.setup();
    render(<Table given={preview([])} errors={{ "applications.0.amount": "I-2 has 50.00 open." }} />);
    await user.type(field(2), "60");
    expect(field(2).getAttribute("aria-invalid")).toBe("true");
    expect(field(1).getAttribute("aria-invalid")).toBe("false");
  });

  it("collects what stops from the checks and from the request", () => {
    const blocked = preview([]);
    blocked.blockers = [
      { check: "period_closed", effect: "stops", field: "date", words: "", sentence: "Closed." },
      { check: "price_zero", effect: "warns", field: "price", words: "", sentence: "Only a warning." },
    ];
    expect(fieldErrors(blocked, { field: "amount", message: "Too many decimals." })).toEqual({
      date: "Closed.",
      amount: "Too many decimals.",
    });
  });
});
