// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Tape } from "../src/api/types";
import { ShiftedAsk, shifts } from "../src/rooms/invoice/shifted";

afterEach(cleanup);

const tape = (...lines: [label: string, amount: number | null][]): Tape => ({
  currency: "EUR",
  heading: "Tern Point",
  subheading: "S-1",
  lines: lines.map(([label, amount]) => ({ label, amount, of: null, style: "line", assumed: false })),
});

test("only figures that moved are told, what came and what went among them", () => {
  const before = tape(["2 × 59.00", 11_800], ["Net", 11_800], ["Tax 23 %", 2_714], ["Due", 14_514]);
  const after = tape(["2 × 59.00", 11_800], ["less 5 %", -590], ["Net", 11_210], ["Due", 14_514]);
  expect(shifts(before, after)).toEqual([
    { label: "less 5 %", before: undefined, after: -590 },
    { label: "Net", before: 11_800, after: 11_210 },
    { label: "Tax 23 %", before: 2_714, after: undefined },
  ]);
  expect(shifts(before, before)).toEqual([]);
});

test("two lines of one label are told apart", () => {
  const before = tape(["1 × 10.00", 1_000], ["1 × 10.00", 1_000]);
  const after = tape(["1 × 10.00", 1_000]);
  expect(shifts(before, after)).toEqual([{ label: "1 × 10.00 again", before: 1_000, after: undefined }]);
});

test("says that nothing was posted, who did what, and each figure", async () => {
  const close = vi.fn();
  const doer = { person: 2, name: "Maud Ferrier", from: "here" };
  const deed = {
    what: "draft_changed",
    words: "changed a draft",
    changes: [{ field: "terms", from: "30 days", to: "10 days" }],
  };
  const since = [{ sequence: 7, at: "2026-03-18T09:00:00Z", doer, deed }] as never;
  const figures = [{ label: "Due", before: 14_514, after: 13_788 }];
  render(<ShiftedAsk shifted={{ since, figures, currency: "EUR" }} name="Tern Point" close={close} />);
  expect(screen.getByText(/Nothing was posted/)).toBeTruthy();
  expect(screen.getByText(/Maud Ferrier changed a draft/)).toBeTruthy();
  expect(screen.getByText(/30 days → 10 days/)).toBeTruthy();
  expect(screen.getByText(/Due: 145.14 → 137.88/)).toBeTruthy();
  screen.getByRole("button", { name: /Look at it as it is now/ }).click();
  await vi.waitFor(() => expect(close).toHaveBeenCalled());
});
