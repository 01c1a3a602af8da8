import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { ChartAccount, MapRow } from "../../api/types";
import { Chips, Lines, Marked, RoomLinks, Scroll, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { orNull } from "../../parts/form";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

type AccountType = ChartAccount["account_type"];

const types: [AccountType, string][] = [
  ["asset", "Asset"],
  ["liability", "Liability"],
  ["equity", "Equity"],
  ["revenue", "Revenue"],
  ["expense", "Expense"],
];

/** “Sales”, and for which items or customers. */
const said = (row: MapRow): string => row.name.charAt(0).toUpperCase() + row.name.slice(1);
const whose = (row: MapRow): string =>
  [
    row.item_class && `items of class ${row.item_class}`,
    row.customer_class && `customers of class ${row.customer_class}`,
  ]
    .filter(Boolean)
    .join(", ");

type Asking = { what: "account"; account?: ChartAccount } | { what: "class" } | { what: "row"; row: MapRow };

/** The chart of accounts, and which account each purpose of an entry goes to. */
export function AccountsRoom() {
  const chart = useQuery({ queryKey: ["chart"], queryFn: () => got(api.GET("/api/chart")) });
  const may = useMay()("keep_company");
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState<Asking>();
  const close = () => setAsking(undefined);
  const data = chart.data;
  const nameOf = (number: string | null | undefined) => data?.accounts.find((one) => one.number === number)?.name ?? "";
  const fitting = (demands: AccountType): [string, string][] =>
    (data?.accounts ?? [])
      .filter((one) => one.account_type === demands)
      .map((one) => [one.number, `${one.number} ${one.name}`]);
  const lead = async (row: Pick<MapRow, "purpose" | "item_class" | "customer_class">, account: string, key: string) => {
    await got(
      api.PUT("/api/chart/map", {
        params: { header: keyed(key) },
        body: {
          purpose: row.purpose,
          item_class: row.item_class ?? null,
          customer_class: row.customer_class ?? null,
          account: orNull(account),
        },
      }),
    );
    say({ kind: "done", text: "The account map is saved. It holds from the next entry on." });
    await changed();
  };
  return (
    <Worktop
      title="Accounts"
      sum={data && `${data.accounts.length} accounts`}
      actions={[
        {
          key: "n",
          label: "New account",
          run: () => setAsking({ what: "account" }),
          primary: true,
          disabled: !data,
          needs: "keep_company",
        },
        {
          key: "m",
          label: "Account for a class",
          run: () => setAsking({ what: "class" }),
          disabled: !data,
          needs: "keep_company",
        },
      ]}
      tape={
        <Paper>
          <h2>
            How an entry finds its accounts
            <br />
            <span>there is never a default</span>
          </h2>
          <div className="words">
            Each line of an entry has a purpose. The row for its item's class comes first, then the row for the
            customer's class, then the row for all the rest.
          </div>
          <h3>Accounts that are proved</h3>
          <div className="words">
            Receivables, stock, tax and the like are compared with the documents behind them, so nothing else may stand
            on their accounts.
          </div>
          <h3>What is posted stays</h3>
          <div className="words">
            Another account in the map holds from the next entry on. An open invoice is settled on the account it was
            posted to.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {chart.error && <Wrong error={chart.error} />}
      {data && (
        <Scroll>
          <Lines label="Account map">
            <thead>
              <tr>
                <th style={{ width: "38%" }}>Purpose</th>
                <th>For</th>
                <th style={{ width: "36%" }}>Account</th>
              </tr>
            </thead>
            <tbody>
              {data.map.map((row) => (
                <tr key={`${row.purpose} ${row.item_class} ${row.customer_class}`}>
                  <td>{said(row)}</td>
                  <td className="dim">{whose(row) || "all"}</td>
                  <td>
                    <button
                      type="button"
                      className="quietly"
                      style={{ textAlign: "left" }}
                      disabled={!may}
                      onClick={() => setAsking({ what: "row", row })}
                    >
                      {row.account ? `${row.account} ${nameOf(row.account)}` : "no account yet"}
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
          <Lines label="Chart of accounts">
            <thead>
              <tr>
                <th style={{ width: "16%" }}>Number</th>
                <th>Name</th>
                <th>Type</th>
                <th>Entries</th>
              </tr>
            </thead>
            <tbody>
              {data.accounts.map((one) => (
                <tr key={one.number}>
                  <td>{one.number}</td>
                  <td>
                    <button
                      type="button"
                      className="quietly"
                      style={{ textAlign: "left" }}
                      disabled={!may}
                      onClick={() => setAsking({ what: "account", account: one })}
                    >
                      {one.name}
                    </button>
                  </td>
                  <td className="dim">{types.find(([type]) => type === one.account_type)?.[1]}</td>
                  <td>{one.used ? <Marked className="dim">yes</Marked> : ""}</td>
                </tr>
              ))}
            </tbody>
          </Lines>
        </Scroll>
      )}
      {asking?.what === "account" && (
        <AccountAsk
          account={asking.account}
          close={close}
          changed={changed}
          say={(text) => say({ kind: "done", text })}
        />
      )}
      {asking?.what === "row" && (
        <FormAsk
          title={said(asking.row)}
          yes="Save"
          close={close}
          fields={[
            {
              name: "account",
              label: "Account",
              value: asking.row.account ?? "",
              choices: [
                ...(asking.row.account && !whose(asking.row)
                  ? []
                  : ([["", whose(asking.row) ? "As for all the rest" : "Choose"]] as [string, string][])),
                ...fitting(asking.row.demands),
              ],
            },
          ]}
          run={(values, key) => lead(asking.row, values.account ?? "", key)}
        >
          {whose(asking.row) ? `For ${whose(asking.row)}.` : "For everything that has no row of its own."}
        </FormAsk>
      )}
      {asking?.what === "class" && data && (
        <ClassAsk
          map={data.map}
          items={data.item_classes}
          customers={data.customer_classes}
          fitting={fitting}
          close={close}
          lead={lead}
        />
      )}
    </Worktop>
  );
}

/** A new account, or another name of one: its number and type stay. */
function AccountAsk({
  account,
  close,
  changed,
  say,
}: {
  account: ChartAccount | undefined;
  close: () => void;
  changed: () => Promise<void>;
  say: (text: string) => void;
}) {
  const name = { name: "name", label: "Name", value: account?.name ?? "" };
  return (
    <FormAsk
      title={account ? `Account ${account.number}` : "New account"}
      yes="Save"
      close={close}
      fields={
        account
          ? [name]
          : [
              { name: "number", label: "Number", hint: "3 to 10 digits, such as 61400" },
              name,
              { name: "account_type", label: "Type", value: "revenue", choices: types },
            ]
      }
      run={async (values, key) => {
        const header = keyed(key);
        if (account) {
          const path = { number: account.number };
          await got(
            api.PUT("/api/chart/accounts/{number}", { params: { path, header }, body: { name: values.name ?? "" } }),
          );
        } else {
          const account_type = types.find(([type]) => type === values.account_type)?.[0] ?? "revenue";
          const body = { number: values.number ?? "", name: values.name ?? "", account_type };
          await got(api.POST("/api/chart/accounts", { params: { header }, body }));
        }
        say(`${account?.number ?? values.number} ${values.name} is saved.`);
        await changed();
      }}
    >
      {account ? "Number and type stay: entries stand on it." : "Lead a purpose to it in the account map afterwards."}
    </FormAsk>
  );
}

/** An account of its own for a class of items or customers. */
function ClassAsk({
  map,
  items,
  customers,
  fitting,
  close,
  lead,
}: {
  map: MapRow[];
  items: string[];
  customers: string[];
  fitting: (demands: AccountType) => [string, string][];
  close: () => void;
  lead: (row: Pick<MapRow, "purpose" | "item_class" | "customer_class">, account: string, key: string) => Promise<void>;
}) {
  const purposes = map.filter((row) => !whose(row));
  const usual = purposes.find((row) => row.purpose === "revenue") ?? purposes[0];
  const [demands, setDemands] = useState<AccountType>(usual?.demands ?? "revenue");
  const any: [string, string] = ["", "any"];
  return (
    <FormAsk
      title="Account for a class"
      yes="Save"
      close={close}
      fields={[
        {
          name: "purpose",
          label: "Purpose",
          value: usual?.purpose ?? "",
          choices: purposes.map((row) => [row.purpose, said(row)]),
          changed: (value) => setDemands(purposes.find((row) => row.purpose === value)?.demands ?? demands),
        },
        {
          name: "item_class",
          label: "Class of items",
          choices: [any, ...items.map((one): [string, string] => [one, one])],
        },
        {
          name: "customer_class",
          label: "Class of customers",
          choices: [any, ...customers.map((one): [string, string] => [one, one])],
        },
        { name: "account", label: "Account", choices: fitting(demands) },
      ]}
      run={async (values, key) => {
        const row = purposes.find((one) => one.purpose === values.purpose);
        if (row) {
          const classes = {
            item_class: orNull(values.item_class ?? ""),
            customer_class: orNull(values.customer_class ?? ""),
          };
          await lead({ purpose: row.purpose, ...classes }, values.account ?? "", key);
        }
      }}
    />
  );
}
