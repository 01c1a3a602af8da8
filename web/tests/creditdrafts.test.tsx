// @vitest-environment jsdom
import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));
vi.mock("../src/shell/session", async (original) => ({
  ...(await original<typeof import("../src/shell/session")>()),
  useMay: () => () => true,
}));

import { asTyped, CreditDraftRoom, otherLines } from "../src/rooms/invoice/CreditDraft";
import { CreditDrafts } from "../src/rooms/invoice/CreditDrafts";
import { type Answers, stage } from "./stage";

afterEach(cleanup);

const alone = {
  id: 4,
  version: 2,
  returned: null,
  form: {
    of: "alone",
    wish: {
      customer: 2,
      currency: null,
      added: [{ item: "FRT", description: "Bonus of the spring", quantity: "1", unit_price: "1250.5" }],
      came_back: [],
      date: null,
      reason: "agreed in March",
      seen: null,
    },
  },
};

const answers: Answers = {
  "GET /api/credit-drafts/{id}": alone,
  "GET /api/customers": [{ id: 2, number: "1002", name: "Orchard Lane", currency: "EUR" }],
  "GET /api/items": { items: [], count: 0 },
  "GET /api/goods-settings": { tax_codes: [], units: [] },
  "GET /api/approvals": [],
  "POST /api/credit-memos/preview": {
    currency: "EUR",
    total: 153812,
    added: [125050],
    tape: { heading: "Orchard Lane", subheading: "credit memo", currency: "EUR", lines: [] },
    entry: null,
    changes: [],
    blockers: [],
    fingerprint: "seen",
  },
  "POST /api/credit-drafts/{id}": { ...alone, version: 3 },
  "POST /api/credit-memos": { credit_memo: 88, number: "CM-88", waits: null },
};

test("a draft opens as it was typed, is saved anew with the version seen, and ends as it is posted", async () => {
  const user = userEvent.setup();
  const till = stage(<CreditDraftRoom />, "/credit-drafts/4", answers, "/credit-drafts/:id");
  const price = await screen.findByLabelText<HTMLInputElement>("Price of line 1");
  expect(price.value).toBe("1,250.50");
  expect(screen.getByLabelText<HTMLInputElement>("Why").value).toBe("agreed in March");
  expect(screen.getByLabelText<HTMLInputElement>("Words of line 1").value).toBe("Bonus of the spring");
  await user.clear(price);
  await user.type(price, "1,300");
  await user.click(await screen.findByRole("button", { name: /Save draft/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-drafts/{id}")).toHaveLength(1));
  expect(till.asked("POST /api/credit-drafts/{id}").at(-1)?.body).toMatchObject({
    version: 2,
    form: { of: "alone", wish: { customer: 2, reason: "agreed in March", added: [{ unit_price: "1300" }] } },
  });
  await user.click(await screen.findByRole("button", { name: /Credit €1,538.12/ }));
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Credit/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-memos")).toHaveLength(1));
  expect(till.asked("POST /api/credit-memos").at(-1)?.params?.query).toEqual({ draft: 4, draft_version: 2 });
});

test("drafts stand above the list, with what stands in their way, and are deleted after asking", async () => {
  const user = userEvent.setup();
  const row = {
    id: 4,
    customer: { kind: "customer", id: 2, number: "1002" },
    customer_name: "Orchard Lane",
    invoice: { kind: "invoice", id: 12, number: "I-12" },
    reason: "",
    currency: "EUR",
    total: 7257,
    blocked: "2 pc of HIVE are left to credit.",
    saved_by: "tess",
    saved_at: "2026-03-18T10:00:00Z",
    version: 2,
  };
  const till = stage(
    <CreditDrafts />,
    "/billing/credit-memos",
    { "GET /api/credit-drafts": [row], "POST /api/credit-drafts/{id}/delete": null },
    "/billing/credit-memos",
  );
  await screen.findByText(/2 pc of HIVE are left to credit/);
  screen.getByText("not said yet");
  screen.getByText("72.57 EUR");
  await user.click(screen.getByRole("button", { name: "Delete the draft for Orchard Lane" }));
  expect(till.asked("POST /api/credit-drafts/{id}/delete")).toHaveLength(0);
  await user.click(within(await screen.findByRole("dialog")).getByRole("button", { name: /Delete draft/ }));
  await waitFor(() => expect(till.asked("POST /api/credit-drafts/{id}/delete")).toHaveLength(1));
  expect(till.asked("POST /api/credit-drafts/{id}/delete").at(-1)?.body).toEqual({ version: 2 });
});

test("what was no number in a draft stays what was typed", () => {
  expect([asTyped("1250.5"), asTyped("a few"), asTyped(null)]).toEqual(["1,250.5", "a few", ""]);
  expect(otherLines([{ item: "FRT", quantity: "2", unit_price: "5" }])).toEqual([
    { item: "FRT", quantity: "2", price: "5.00" },
  ]);
});
