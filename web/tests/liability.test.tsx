// @vitest-environment jsdom
import { cleanup, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

import { LiabilityPaper } from "../src/rooms/prepayments/Liability";
import { stage } from "./stage";

afterEach(cleanup);

const row = (purpose: string, before: number, added: number, taken: number) => ({
  purpose,
  before,
  added,
  taken,
  after: before + added - taken,
});

test("what is owed to customers is said by kind, before and after today, and what is not due is not shown", async () => {
  stage(<LiabilityPaper />, "/", {
    "GET /api/ledger/liabilities": {
      as_of: "2026-03-18",
      rows: [
        row("deposit_liability", 50000, 0, 20000),
        row("prepayment_liability", 0, 6350, 0),
        row("unapplied", 0, 0, 0),
      ],
      before: 50000,
      after: 36350,
      not_due: 7811,
      not_shown: 6350,
      shown: 30000,
    },
  });
  await screen.findByText("Owed to customers");
  const lines = [...document.querySelectorAll(".l")].map((line) => line.textContent);
  expect(lines).toEqual([
    "Before today500.00",
    "− customer deposits−200.00",
    "+ prepayment invoices63.50",
    "customer deposits300.00",
    "prepayment invoices63.50",
    "in the ledger363.50",
    "neither paid nor due−63.50",
    "Shown300.00",
  ]);
  screen.getByText(/receivables of 78.11 are not shown either/);
});
