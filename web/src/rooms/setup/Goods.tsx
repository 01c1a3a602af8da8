import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed, Problem } from "../../api/client";
import type { GoodsSettings } from "../../api/types";
import { date as dateWords, typedDecimal } from "../../format";
import { Chips, Facts, Lines, Marked, RoomLinks, Scroll, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { orNull } from "../../parts/form";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

type Treatment = GoodsSettings["treatments"][number]["treatment"];

const treatmentNames: Record<Treatment, string> = {
  standard: "standard",
  exempt: "exempt",
  reverse_charge: "reverse charge",
  union: "within the union",
  export: "export",
};

const categories: [string, string][] = [
  ["S", "S, standard and reduced"],
  ["Z", "Z, zero rated"],
  ["E", "E, exempt"],
  ["AE", "AE, reverse charge"],
  ["K", "K, within the union"],
  ["G", "G, export"],
  ["O", "O, outside tax"],
];

/** Warehouses, when cost is entered, freight, tax codes and treatments. */
export function GoodsRoom() {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const goods = useQuery({ queryKey: ["goods-settings"], queryFn: () => got(api.GET("/api/goods-settings")) });
  const [asking, setAsking] = useState<"settings" | "warehouse" | "code" | "rate" | "tax rate">();
  const data = goods.data;
  const codeOf = (treatment: Treatment) => data?.treatments.find((one) => one.treatment === treatment)?.tax_code ?? "";
  return (
    <Worktop
      title="Goods and tax"
      sum="warehouses, cost, freight, tax codes"
      actions={[
        {
          key: "c",
          label: "Change the settings",
          run: () => setAsking("settings"),
          primary: true,
          disabled: !data,
          needs: "keep_company",
        },
        { key: "w", label: "Add a warehouse", run: () => setAsking("warehouse"), needs: "keep_company" },
        { key: "t", label: "Add a tax code", run: () => setAsking("code"), needs: "keep_company" },
        { key: "n", label: "New tax rate", run: () => setAsking("tax rate"), needs: "keep_company" },
        { key: "r", label: "Exchange rate", run: () => setAsking("rate"), needs: "keep_company" },
      ]}
      tape={
        <Paper>
          <h2>
            What these settings do
            <br />
            <span>from the next document on</span>
          </h2>
          <h3>Cost</h3>
          <div className="words">
            Entered as goods leave, or as they are billed. Until then they stand as goods shipped and not billed.
          </div>
          <h3>Tax treatments</h3>
          <div className="words">
            Where goods go decides: standard keeps the item's own code, the others lead to the code chosen here.
          </div>
          <h3>Warehouses not counted here</h3>
          <div className="words">Others keep their stock. Goods leave them without stock or cost in these books.</div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {goods.error && <Wrong error={goods.error} />}
      {data && (
        <>
          <Facts
            facts={[
              ["Usual warehouse", data.warehouse],
              ["Cost is entered", data.cost_entry === "at_posting" ? "as goods leave" : "as they are billed"],
              ["Freight is billed as", data.freight_item ?? "nothing chosen"],
              ["Checks clear within", `${data.clearing_days} days`],
            ]}
          />
          <Scroll>
            <Lines label="Warehouses">
              <thead>
                <tr>
                  <th style={{ width: "20%" }}>Warehouse</th>
                  <th>Name</th>
                  <th>Stock</th>
                </tr>
              </thead>
              <tbody>
                {data.warehouses.map((one) => (
                  <tr key={one.code}>
                    <td>
                      <b>{one.code}</b>
                    </td>
                    <td>{one.name}</td>
                    <td className="dim">{one.counted ? "counted here" : "counted elsewhere"}</td>
                  </tr>
                ))}
              </tbody>
            </Lines>
            <Lines label="Tax codes">
              <thead>
                <tr>
                  <th style={{ width: "20%" }}>Tax code</th>
                  <th>Name</th>
                  <th>Category</th>
                  <th>Rate</th>
                  <th>For deliveries</th>
                </tr>
              </thead>
              <tbody>
                {data.tax_codes.map((one) => (
                  <tr key={one.code}>
                    <td>
                      <b>{one.code}</b>
                    </td>
                    <td>{one.name}</td>
                    <td className="dim">{one.category}</td>
                    <td>
                      {one.rates.map((rate, place) => (
                        <div key={rate.valid_from} className={place > 0 ? "dim" : undefined}>
                          {rate.percent} % from {dateWords(rate.valid_from)}
                        </div>
                      ))}
                    </td>
                    <td>
                      {data.treatments
                        .filter((treatment) => treatment.tax_code === one.code)
                        .map((treatment) => treatmentNames[treatment.treatment])
                        .join(", ")}
                    </td>
                  </tr>
                ))}
                {data.treatments
                  .filter((treatment) => !treatment.tax_code)
                  .map((treatment) => (
                    <tr key={treatment.treatment}>
                      <td colSpan={4}>
                        <Marked className="heed">▲ no code chosen</Marked>
                      </td>
                      <td>{treatmentNames[treatment.treatment]}</td>
                    </tr>
                  ))}
              </tbody>
            </Lines>
          </Scroll>
        </>
      )}
      {asking === "settings" && data && (
        <FormAsk
          title="Goods and tax"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            {
              name: "warehouse",
              label: "Usual warehouse",
              value: data.warehouse,
              choices: data.warehouses
                .filter((one) => one.counted)
                .map((one): [string, string] => [one.code, one.name]),
            },
            {
              name: "cost_entry",
              label: "Cost is entered",
              value: data.cost_entry,
              choices: [
                ["at_posting", "as goods leave"],
                ["at_billing", "as they are billed"],
              ],
            },
            { name: "freight_item", label: "Freight is billed as item", value: data.freight_item ?? "" },
            {
              name: "clearing_days",
              label: "Checks clear within days",
              value: String(data.clearing_days),
              right: true,
            },
            ...(["exempt", "reverse_charge", "union", "export"] as const).map((treatment) => ({
              name: treatment,
              label: `Code for ${treatmentNames[treatment]}`,
              value: codeOf(treatment),
              choices: [
                ["", "none"],
                ...data.tax_codes.map((one): [string, string] => [one.code, `${one.code} · ${one.name}`]),
              ] as [string, string][],
            })),
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/goods-settings", {
                params: { header: keyed(key) },
                body: {
                  warehouse: values.warehouse ?? "",
                  cost_entry: values.cost_entry === "at_billing" ? "at_billing" : "at_posting",
                  freight_item: values.freight_item ?? "",
                  clearing_days: Math.max(0, Number.parseInt(values.clearing_days ?? "0", 10) || 0),
                  treatments: (["exempt", "reverse_charge", "union", "export"] as const).map((treatment) => ({
                    treatment,
                    tax_code: orNull(values[treatment]),
                  })),
                },
              }),
            );
            say({ kind: "done", text: "The settings are saved. They hold from the next document on." });
            await changed();
          }}
        />
      )}
      {asking === "warehouse" && (
        <FormAsk
          title="Warehouse"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "code", label: "Code, capital letters" },
            { name: "name", label: "Name" },
            { name: "counted", label: "its stock is counted here", kind: "tick", value: "on" },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/goods-settings/warehouses", {
                params: { header: keyed(key) },
                body: { code: values.code ?? "", name: values.name ?? "", counted: values.counted === "on" },
              }),
            );
            await changed();
          }}
        />
      )}
      {asking === "code" && (
        <FormAsk
          title="Tax code"
          yes="Add"
          close={() => setAsking(undefined)}
          fields={[
            { name: "code", label: "Code, such as S23" },
            { name: "name", label: "Name" },
            { name: "category", label: "Category", choices: categories },
            { name: "rate", label: "Rate, percent", right: true, value: "0" },
            { name: "valid_from", label: "From", kind: "date", hint: "empty: the first day of the books" },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/goods-settings/tax-codes", {
                params: { header: keyed(key) },
                body: {
                  code: values.code ?? "",
                  name: values.name ?? "",
                  category: values.category as "S" | "Z" | "E" | "AE" | "K" | "G" | "O",
                  rate: typedDecimal(values.rate ?? ""),
                  valid_from: orNull(values.valid_from),
                },
              }),
            );
            await changed();
          }}
        />
      )}
      {asking === "tax rate" && (
        <FormAsk
          title="New tax rate"
          yes="Set the rate"
          close={() => setAsking(undefined)}
          fields={[
            {
              name: "code",
              label: "Tax code",
              choices: (data?.tax_codes ?? [])
                .filter((one) => one.category === "S")
                .map((one): [string, string] => [one.code, `${one.code} · ${one.name}`]),
            },
            { name: "rate", label: "Rate, percent", right: true },
            { name: "valid_from", label: "From", kind: "date" },
          ]}
          run={async (values, key) => {
            const code = values.code || data?.tax_codes.find((one) => one.category === "S")?.code || "";
            if (!values.valid_from) {
              throw new Problem({ title: "Say from which day on.", field: "valid_from" });
            }
            await got(
              api.POST("/api/goods-settings/tax-codes/{code}/rates", {
                params: { path: { code }, header: keyed(key) },
                body: { rate: typedDecimal(values.rate ?? ""), valid_from: values.valid_from },
              }),
            );
            say({ kind: "done", text: `${code} has another rate from ${dateWords(values.valid_from)}.` });
            await changed();
          }}
        >
          For what is delivered from that day on. What is posted keeps its rate.
        </FormAsk>
      )}
      {asking === "rate" && (
        <FormAsk
          title="Exchange rate"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "currency", label: "Currency" },
            { name: "rate", label: "Base currency for one of it", right: true },
            { name: "valid_from", label: "From", kind: "date", hint: "empty: the business date" },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/goods-settings/exchange-rates", {
                params: { header: keyed(key) },
                body: {
                  currency: values.currency ?? "",
                  rate: typedDecimal(values.rate ?? ""),
                  valid_from: orNull(values.valid_from),
                },
              }),
            );
            say({ kind: "done", text: `The rate of ${values.currency} is noted.` });
            await changed();
          }}
        />
      )}
    </Worktop>
  );
}
