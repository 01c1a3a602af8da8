// @vitest-environment jsdom
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, describe, expect, it } from "vitest";
import type { CreditOpen, MoneyPreview, OpenItem } from "../src/api/types";
import { typedDecimal } from "../src/format";
import { ApplyTable, asApplications, fieldErrors, type Typed } from "../src/rooms/Applying";
import { Credits } from "../src/rooms/receipt/Credits";

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
  disputed: 0,
});

const none = { amount: 0, base: 0 };
const nothing = { discount: none, written_off: none, kept: none, taxes: [] };

const preview = (applied: [invoice: number, amount: number, after: number][]): MoneyPreview => ({
  with: [],
  settled_by: [],
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
      beside: nothing,
      open_after: after,
    })),
    unapplied: 0,
    unapplied_base: 0,
  },
  suggested: applied.map(([item, amount], at) => ({
    item,
    amount,
    beside: { discount: 0, written_off: 0 },
    because: at === 0 ? "number" : "oldest",
  })),
  entry: null,
  tape: { heading: "", subheading: "", currency: "EUR", lines: [] },
  changes: [],
  blockers: [],
  fingerprint: "x",
});

function Table({
  given,
  errors = {},
  items = [item(1, 7000), item(2, 5000), item(3, 900, "GBP")],
}: {
  given: MoneyPreview | undefined;
  errors?: Record<string, string>;
  items?: OpenItem[];
}) {
  const [typed, setTyped] = useState<Typed>();
  return (
    <>
      <ApplyTable items={items} currency="EUR" typed={typed} setTyped={setTyped} preview={given} errors={errors} />
      <output>{JSON.stringify(asApplications(typed, typedDecimal))}</output>
    </>
  );
}

const field = (invoice: number) => screen.getByLabelText<HTMLInputElement>(new RegExp(`Apply to I-${invoice}`));
const sent = () => JSON.parse(screen.getByRole("status").textContent ?? "");

const credit = (at: number): CreditOpen => ({
  item: at,
  document: { kind: "receipt", id: at, number: `C-${at}` },
  date: "2026-03-01",
  currency: "EUR",
  open: at * 100,
});

function Both({ said }: { said: number[][] }) {
  const [used, setUsed] = useState<number[]>([]);
  return (
    <Credits
      credits={[credit(7), credit(8)]}
      used={used}
      use={(now) => {
        said.push(now);
        setUsed(now);
      }}
    />
  );
}

describe("money together with credits", () => {
  it("shows what goes to an invoice in all", () => {
    const used = {
      document: { kind: "credit_memo" as const, id: 64, number: "CM-64" },
      amount: 3000,
      to: [{ item: 1, number: "I-1", amount: 3000 }],
      entry: null,
    };
    render(<Table given={{ ...preview([[1, 4000, 0]]), with: [used] }} />);
    expect(field(1).value).toBe("70.00");
    expect(field(2).value).toBe("");
  });

  it("uses credits in the order they were ticked", async () => {
    const user = userEvent.setup();
    const said: number[][] = [];
    render(<Both said={said} />);
    await user.click(screen.getByLabelText(/C-8/));
    await user.click(screen.getByLabelText(/C-7/));
    await user.click(screen.getByLabelText(/C-8/));
    expect(said).toEqual([[8], [8, 7], [7]]);
  });

  it("sends a dispute with its row", () => {
    const dispute = { reason: "price" as const, words: "agreed less", owner: 3 };
    expect(asApplications({ 1: { amount: "10", dispute }, 2: { amount: " " } }, typedDecimal)).toEqual([
      { item: 1, amount: "10", dispute },
    ]);
  });
});

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

  it("shows a discount that can be earned, and takes another one", async () => {
    const user = userEvent.setup();
    const early: OpenItem = { ...item(2, 5000), early: { until: "2026-03-28", amount: 100 } };
    const given = preview([[2, 4900, 0]]);
    const [applied] = given.document.applied;
    if (applied) {
      applied.amount = 5000;
      applied.beside = { ...nothing, discount: { amount: 100, base: 100 } };
    }
    render(<Table given={given} items={[early]} />);
    expect(screen.getByText("1.00 less until 28 Mar 2026")).toBeTruthy();
    const discount = screen.getByLabelText<HTMLInputElement>("Discount on I-2");
    expect([field(2).value, discount.value]).toEqual(["49.00", "1.00"]);
    await user.clear(discount);
    await user.type(discount, "0.5");
    expect(sent()).toEqual([{ item: 2, amount: "49.00", discount: "0.5" }]);
    // "=" pays what is open less the discount; what that earns is for the server to say.
    await user.type(field(2), "=");
    expect(sent()).toEqual([{ item: 2, amount: "49.00" }]);
  });

  it("writes off a small rest, and leaves a large one open", async () => {
    const user = userEvent.setup();
    const given = preview([
      [1, 6997, 3],
      [2, 3000, 2000],
    ]);
    render(<Table given={given} />);
    expect(screen.getAllByText("write off")).toHaveLength(1);
    await user.click(screen.getByText("write off"));
    expect(sent()[0]).toEqual({ item: 1, amount: "69.97", write_off: "0.03" });
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

describe("money in another currency", () => {
  it("goes to what it settles at the rates of the day", () => {
    const foreign = { ...preview([]), settled_by: [{ item: 3, amount: 1053 }] };
    render(<Table given={foreign} />);
    // 9.00 pounds, which 10.53 euros settle; nothing is given up between two currencies.
    expect(screen.getAllByText("£9.00")).toHaveLength(2);
    expect(screen.getByText("€10.53")).toBeTruthy();
    const field = screen.getByLabelText("Apply to I-3, £9.00 open");
    fireEvent.keyDown(field, { key: "=" });
    expect(screen.getByRole("status").textContent).toBe('[{"item":3,"amount":"10.53"}]');
  });
  it("is not offered where nobody said so", () => {
    render(<Table given={preview([])} />);
    expect(screen.queryByLabelText(/Apply to I-3/)).toBeNull();
  });
});
