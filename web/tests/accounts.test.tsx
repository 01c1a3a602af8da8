// @vitest-environment jsdom
import { cleanup, screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, test, vi } from "vitest";
import { AccountsRoom } from "../src/rooms/setup/Accounts";
import { type Answers, no, stage } from "./stage";

vi.mock("../src/api/client", async (original) => ({
  ...(await original<typeof import("../src/api/client")>()),
  api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
}));
vi.mock("../src/shell/session", async (original) => ({
  ...(await original<typeof import("../src/shell/session")>()),
  useMay: () => () => true,
}));

afterEach(cleanup);

const row = (
  purpose: string,
  name: string,
  demands: string,
  account: string | null,
  item_class: string | null = null,
) => ({
  purpose,
  name,
  demands,
  account,
  item_class,
  customer_class: null,
});

const chart = {
  accounts: [
    { number: "21000", name: "Accounts receivable", account_type: "asset", used: true },
    { number: "61000", name: "Sales", account_type: "revenue", used: true },
    { number: "61400", name: "Tools sold", account_type: "revenue", used: false },
  ],
  map: [
    row("receivable", "accounts receivable", "asset", "21000"),
    row("revenue", "sales", "revenue", "61000"),
    row("revenue", "sales", "revenue", "61400", "tools"),
    row("returns", "returns", "revenue", null),
  ],
  item_classes: ["tools", "pots"],
  customer_classes: [],
};

const show = (answers: Answers = {}) =>
  stage(<AccountsRoom />, "/setup/accounts", { "GET /api/chart": chart, ...answers });

test("each purpose shows its account, a class its own, and what has none says so", async () => {
  show();
  const map = within(await screen.findByRole("table", { name: "Account map" }));
  expect(map.getByRole("button", { name: "61000 Sales" })).toBeTruthy();
  expect(map.getByText("items of class tools")).toBeTruthy();
  expect(map.getByRole("button", { name: "no account yet" })).toBeTruthy();
});

test("a purpose is led only to accounts of its type, and a refusal stands at the field", async () => {
  const user = userEvent.setup();
  const why = "61400 Tools sold carries sales. It is proved line by line.";
  const room = show({ "PUT /api/chart/map": () => no({ title: why, code: "invalid", field: "account" }) });
  await user.click(await screen.findByRole("button", { name: "no account yet" }));
  const ask = within(await screen.findByRole("dialog"));
  const choices = ask.getAllByRole("option").map((one) => one.textContent);
  expect(choices).toEqual(["Choose", "61000 Sales", "61400 Tools sold"]);
  await user.selectOptions(ask.getByRole("combobox"), "61400");
  await user.click(ask.getByRole("button", { name: /Save/ }));
  await ask.findByText(why);
  const body = { purpose: "returns", item_class: null, customer_class: null, account: "61400" };
  expect(room.asked("PUT /api/chart/map").at(-1)?.body).toEqual(body);
});

test("a new account and another name of one are saved", async () => {
  const user = userEvent.setup();
  const room = show({ "POST /api/chart/accounts": chart, "PUT /api/chart/accounts/{number}": chart });
  await screen.findByRole("table", { name: "Chart of accounts" });
  await user.click(await screen.findByRole("button", { name: /New account/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.type(ask.getByRole("textbox", { name: /Number/ }), "61500");
  await user.type(ask.getByRole("textbox", { name: /Name/ }), "Wax sold");
  await user.click(ask.getByRole("button", { name: /Save/ }));
  await screen.findByText(/61500 Wax sold is saved/);
  const added = { number: "61500", name: "Wax sold", account_type: "revenue" };
  expect(room.asked("POST /api/chart/accounts").at(-1)?.body).toEqual(added);
  await user.click(screen.getByRole("button", { name: "Tools sold" }));
  const rename = within(await screen.findByRole("dialog"));
  const name = rename.getByRole("textbox", { name: /Name/ });
  await user.clear(name);
  await user.type(name, "Hand tools{Enter}");
  await screen.findByText(/61400 Hand tools is saved/);
  expect(room.asked("PUT /api/chart/accounts/{number}").at(-1)?.body).toEqual({ name: "Hand tools" });
});

test("a class of items gets an account of its own", async () => {
  const user = userEvent.setup();
  const room = show({ "PUT /api/chart/map": chart });
  await screen.findByRole("table", { name: "Account map" });
  await user.click(await screen.findByRole("button", { name: /Account for a class/ }));
  const ask = within(await screen.findByRole("dialog"));
  await user.selectOptions(ask.getByRole("combobox", { name: /Class of items/ }), "pots");
  await user.selectOptions(ask.getByRole("combobox", { name: /^Account/ }), "61400");
  await user.click(ask.getByRole("button", { name: /Save/ }));
  await screen.findByText(/account map is saved/);
  const body = { purpose: "revenue", item_class: "pots", customer_class: null, account: "61400" };
  expect(room.asked("PUT /api/chart/map").at(-1)?.body).toEqual(body);
});
