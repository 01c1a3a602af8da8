// @vitest-environment jsdom
import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));

import type { BankLineView } from "../src/api/types";
import { FindAsk } from "../src/rooms/bank/FindAsk";
import { MoneySetupRoom } from "../src/rooms/setup/Money";
import { type Call, no, stage } from "./stage";

afterEach(cleanup);

const line: BankLineView = {
  id: 7,
  place: 3,
  booked_on: "2026-03-17",
  amount: 2500,
  left: 2500,
  kind: "transfer",
  party: "B. Linnet",
  party_account: null,
  words: "thanks",
  reference: null,
  advised: 0,
  matches: [],
  proposals: [],
};

const found = (words: string, customer: number) => ({
  certainty: "possible",
  score: 50,
  because: ["searched", "part"],
  words,
  customer,
  accept: { as: "receipt", customer, applications: [] },
});

test("a line is looked for by words or an amount, and what was found is seen before it is accepted", async () => {
  const user = userEvent.setup();
  const run = vi.fn(async () => undefined);
  const { asked } = stage(<FindAsk line={line} currency="EUR" close={() => undefined} run={run} />, "/", {
    "GET /api/bank-lines/{id}/find": ({ params }: Call) =>
      params?.query?.q === "salt" || params?.query?.q === "1207.48"
        ? [found("Saltmarsh: I-3291", 1), found("Salter", 2)]
        : [],
    "POST /api/bank-lines/{id}/accept/preview": {
      tape: { heading: "", subheading: "", currency: "EUR", lines: [] },
      entry: null,
      beside: [],
      changes: [],
      blockers: [],
      fingerprint: "seen",
    },
  });
  const field = await screen.findByLabelText("Number, name, amount or what was noted");
  await user.type(field, "zz");
  await screen.findByText(/Nothing that is open fits/);
  // Nothing is chosen: it says what to do.
  await user.click(screen.getByRole("button", { name: /Accept/ }));
  await screen.findByText(/Choose what it is\./);
  await user.clear(field);
  await user.type(field, "1,207.48");
  await screen.findByText("Saltmarsh: I-3291");
  expect(asked("GET /api/bank-lines/{id}/find").at(-1)?.params?.query).toEqual({ q: "1207.48" });
  await user.keyboard("{ArrowDown}{ArrowDown}");
  await screen.findByRole("button", { name: /Accept · Salter/ });
  await user.keyboard("{ArrowUp}");
  const yes = await screen.findByRole("button", { name: /Accept · Saltmarsh: I-3291/ });
  await waitFor(() =>
    expect(asked("POST /api/bank-lines/{id}/accept/preview").at(-1)?.body).toMatchObject({ customer: 1 }),
  );
  // Enter on what was found accepts it, once it is worked out.
  expect(yes).toBeTruthy();
  await waitFor(async () => {
    await user.keyboard("{Enter}");
    expect(run).toHaveBeenCalledWith(expect.any(String), { as: "receipt", customer: 1, applications: [] }, "seen");
  });
});

test("a place of money is added on an account of its own, and a refusal stands at its field", async () => {
  const user = userEvent.setup();
  const place = {
    code: "bank",
    name: "Bank",
    kind: "bank",
    account: "31000",
    account_name: "Bank",
    currency: null,
    bank_account: "XX33MARR0001234567",
    methods: [{ code: "transfer", name: "transfer", active: true }],
  };
  let refuse = true;
  const { asked } = stage(
    <MoneySetupRoom />,
    "/setup/money",
    {
      "GET /api/money-places": [place],
      "GET /api/chart": {
        accounts: [
          { number: "31000", name: "Bank", account_type: "asset" },
          { number: "31100", name: "Bank, pounds", account_type: "asset" },
          { number: "61000", name: "Sales", account_type: "revenue" },
        ],
      },
      "POST /api/money-places": () =>
        refuse ? no({ code: "invalid", field: "method", title: "A way of paying is called so." }) : "bank_5",
      "PUT /api/payment-methods/{code}": true,
    },
    "*",
    ["keep_company"],
  );
  await screen.findByText("XX33 MARR 0001 2345 67");
  await user.click(screen.getByRole("button", { name: /Add a place of money/ }));
  await user.type(await screen.findByLabelText("Name"), "Bank, pounds");
  const account = screen.getByLabelText<HTMLSelectElement>("Ledger account");
  // One of its own: neither the bank's, nor what is no asset.
  expect([...account.options].map((one) => one.value)).toEqual(["", "31100"]);
  await user.selectOptions(account, "31100");
  await user.type(screen.getByLabelText("Way of paying that leads there"), "transfer");
  await user.click(screen.getByRole("button", { name: /Add it/ }));
  await screen.findByText(/A way of paying is called so\./);
  refuse = false;
  await user.click(screen.getByRole("button", { name: /Add it/ }));
  await screen.findByText("Bank, pounds is added.");
  expect(asked("POST /api/money-places").at(-1)?.body).toEqual({
    name: "Bank, pounds",
    kind: "bank",
    account: "31100",
    currency: null,
    method: "transfer",
  });
});
