// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it } from "vitest";
import type { Blocker, Entry, EntryLine, Tape, Trail } from "../src/api/types";
import { BlockerLines, ChangeLines, EntryLines, TapeLines, TrailLines } from "../src/parts/TapeRoll";
import { Track } from "../src/parts/Track";

afterEach(cleanup);

const line = (account: string, base: number): EntryLine => ({
  account,
  account_name: `Account ${account}`,
  purpose: "receivable",
  base,
  document: base,
  currency: "EUR",
  customer: null,
  tax: null,
});

const entry = (lines: EntryLine[]): Entry => ({ date: "2026-03-18", text: "Invoice", currency: "EUR", lines });

describe("the tape", () => {
  it("shows each step with its figure, and what a figure is a part of", () => {
    const tape: Tape = {
      heading: "Saltmarsh",
      subheading: "one invoice",
      currency: "EUR",
      lines: [
        { style: "line", label: "40 × 32.50", of: null, amount: 130000, assumed: false },
        { style: "detail", label: "less 5 %", of: null, amount: -6500, assumed: false },
        { style: "line", label: "Tax 23 %", of: 219880, amount: 50572, assumed: false },
        { style: "detail", label: "posted on 18 Mar 2026", of: null, amount: null, assumed: true },
        { style: "due", label: "Due 17 Apr 2026", of: null, amount: 274852, assumed: false },
      ],
    };
    const { container } = render(<TapeLines tape={tape} />);
    const lines = [...container.querySelectorAll("[data-tape]")].map((one) => one.textContent);
    expect(lines).toEqual([
      "40 × 32.501,300.00",
      "less 5 %\u221265.00",
      "Tax 23 % of 2,198.80505.72",
      "posted on 18 Mar 2026",
      "Due 17 Apr 20262,748.52",
    ]);
    expect(screen.getByTitle("Nobody typed this").textContent).toBe("posted on 18 Mar 2026");
  });

  it("puts debits before credits and sums both sides", () => {
    const { container } = render(
      <EntryLines
        entry={entry([line("61000", -23600), line("21000", 29028), line("41000", -5428)])}
        base="EUR"
        title="Entry"
      />,
    );
    const rows = [...container.querySelectorAll(".e")].map((row) => row.textContent);
    expect(rows).toEqual([
      "Entrydebitcredit",
      "21000 Account 21000290.28",
      "61000 Account 61000236.00",
      "41000 Account 4100054.28",
      "balances290.28290.28",
    ]);
  });

  it("never hides an entry that does not balance", () => {
    render(<EntryLines entry={entry([line("21000", 100), line("61000", -99)])} base="EUR" title="Entry" />);
    expect(screen.getByText("does not balance")).toBeTruthy();
  });

  it("shows changes as before → after and nothing where nothing changes", () => {
    const { container, rerender } = render(<ChangeLines changes={[]} base="EUR" />);
    expect(container.textContent).toBe("");
    const words = (text: string) => ({ kind: "words" as const, text });
    rerender(
      <ChangeLines
        base="EUR"
        changes={[
          { label: "Customer owes", before: { kind: "money", minor: 100 }, after: { kind: "money", minor: 250 } },
          { label: "O-1", before: words("open"), after: words("filled") },
          { label: "Number", before: null, after: words("given when posted") },
        ]}
      />,
    );
    const rows = [...container.querySelectorAll(".l")].map((row) => row.textContent);
    expect(rows).toEqual(["Customer owes1.00 → 2.50", "O-1open → filled", "Numbergiven when posted"]);
  });

  it("says what stops and leads to the field", () => {
    const blockers: Blocker[] = [
      {
        check: "tax_id_missing",
        effect: "stops",
        field: "customer.tax_id",
        words: "no tax id",
        sentence: "Add the tax id.",
        at: { kind: "customer", id: 7, number: "1007" },
      },
      { check: "price_zero", effect: "warns", field: "x", words: "", sentence: "A price of zero.", at: null },
    ];
    render(
      <MemoryRouter>
        <BlockerLines blockers={blockers} />
      </MemoryRouter>,
    );
    expect(screen.getByText("Blocked by")).toBeTruthy();
    expect(screen.getByRole("link", { name: "Go to field" }).getAttribute("href")).toBe(
      "/customers/7?field=customer.tax_id",
    );
    expect(screen.getByText(/A price of zero/).textContent).toContain("▲");
  });

  it("leads from every document of the trail but the one that is open", () => {
    const step = (kind: "order" | "invoice", id: number, number: string, here: boolean): Trail["steps"][number] => ({
      document: { kind, id, number },
      date: "2026-03-18",
      state: "open",
      amount: 100,
      currency: "EUR",
      entries: [],
      here,
    });
    render(
      <MemoryRouter>
        <TrailLines trail={{ steps: [step("order", 1, "O-1", false), step("invoice", 2, "I-2", true)] }} />
      </MemoryRouter>,
    );
    expect(screen.getAllByRole("link").map((link) => link.getAttribute("href"))).toEqual(["/orders/1"]);
  });
});

describe("the track", () => {
  it("says its shares to those who cannot see it, cut down", () => {
    render(<Track track={{ ordered: 1000, shipped: 999, billed: 434, paid: 0 }} />);
    expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
      "ordered 100 %, shipped 99 %, billed 43 %, paid 0 %",
    );
  });
});
