import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import { date, number, percent, price, typedDecimal } from "../../format";
import { Chips, Lines, Marked, RoomLinks, Scroll, useBase, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { orNull, useGoods } from "../../parts/form";
import { Paper } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { itemLinks } from "./Items";

/** Price lists, quantity breaks and promotions: what prices are built from. */
export function PricesRoom() {
  const base = useBase();
  const may = useMay()("keep_items");
  const goods = useGoods();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const prices = useQuery({ queryKey: ["prices"], queryFn: () => got(api.GET("/api/prices")) });
  const [asking, setAsking] = useState<"price" | "list" | "break" | "promotion">();
  const data = prices.data;
  const lists = data?.lists ?? [];
  const classes: [string, string][] = [["", "–"], ...(goods?.classes ?? []).map((one): [string, string] => [one, one])];
  const [deleting, setDeleting] = useState<{ id: number; what: string }>();
  return (
    <Worktop
      title="Prices"
      sum="what the price of a line is built from"
      actions={[
        {
          key: "p",
          label: "Set a price",
          run: () => setAsking("price"),
          primary: true,
          disabled: lists.length === 0,
          needs: "keep_items",
        },
        { key: "b", label: "Quantity break", run: () => setAsking("break"), needs: "keep_items" },
        { key: "o", label: "Promotion", run: () => setAsking("promotion"), needs: "keep_items" },
        { key: "n", label: "New price list", run: () => setAsking("list"), needs: "keep_items" },
      ]}
      tape={
        <Paper>
          <h2>
            How a price comes about
            <br />
            <span>each step stands on the order</span>
          </h2>
          {[
            "the item's list price",
            "the customer's price list, or what a blanket order agreed",
            "less the quantity break that is reached",
            "less the best promotion that runs",
            "less a discount of the line, with its reason",
            "plus the item's surcharge",
          ].map((step, at) => (
            <div className="words" key={step}>
              {at + 1}. {step}
            </div>
          ))}
          <h3>Percentages follow one another</h3>
          <div className="words">
            Each comes off what the one before left. A typed or agreed price has neither break nor promotion.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={itemLinks} />
      </Chips>
      {prices.error && <Wrong error={prices.error} />}
      {data && (
        <Scroll>
          <Lines label="Promotions">
            <thead>
              <tr>
                <th>Promotion</th>
                <th>For</th>
                <th>From</th>
                <th>To</th>
                <th className="right">Off</th>
                <th>State</th>
              </tr>
            </thead>
            <tbody>
              {data.promotions.map((one) => (
                <tr key={one.code}>
                  <td>
                    <b>{one.code}</b> {one.name}
                  </td>
                  <td>{one.item ?? one.class ?? "all goods"}</td>
                  <td className="dim">{date(one.first)}</td>
                  <td className="dim">{date(one.last)}</td>
                  <td className="right">{percent(one.off)}</td>
                  <td>
                    {one.runs ? <Marked className="done">● runs</Marked> : <Marked className="dim">○ not today</Marked>}
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
          <Lines label="Quantity breaks">
            <thead>
              <tr>
                <th>Quantity break of</th>
                <th>In</th>
                <th className="right">From</th>
                <th className="right">Off</th>
                <th> </th>
              </tr>
            </thead>
            <tbody>
              {data.breaks.map((one) => (
                <tr key={one.id}>
                  <td>{one.item ? <b>{one.item}</b> : `class ${one.class}`}</td>
                  <td className="dim">{one.price_list ?? "every list"}</td>
                  <td className="right">{number(one.from)} and over</td>
                  <td className="right">{percent(one.off)}</td>
                  <td className="right">
                    {may && (
                      <button
                        type="button"
                        className="quietly"
                        onClick={() =>
                          setDeleting({ id: one.id, what: `${one.item ?? one.class}, ${number(one.from)} and over` })
                        }
                      >
                        Delete
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
          {lists.map((list) => (
            <Lines key={list.id} label={`Price list ${list.name}`}>
              <thead>
                <tr>
                  <th>
                    {list.name}, {list.customers === 1 ? "1 customer" : `${list.customers} customers`}
                  </th>
                  <th>From</th>
                  <th className="right">List {base}</th>
                  <th className="right">Price {list.currency}</th>
                </tr>
              </thead>
              <tbody>
                {list.prices.map((one) => (
                  <tr key={`${one.item}${one.valid_from}`}>
                    <td>
                      <b>{one.item}</b> {one.name}
                    </td>
                    <td className="dim">{date(one.valid_from)}</td>
                    <td className="right dim">{price(one.list_price)}</td>
                    <td className="right">{price(one.price)}</td>
                  </tr>
                ))}
                {list.prices.length === 0 && (
                  <tr>
                    <td colSpan={4}>No price yet: what is not in the list has its list price.</td>
                  </tr>
                )}
              </tbody>
            </Lines>
          ))}
        </Scroll>
      )}
      {asking === "list" && (
        <FormAsk
          title="New price list"
          yes="Add"
          close={() => setAsking(undefined)}
          fields={[
            { name: "name", label: "Name" },
            { name: "currency", label: "Currency", value: base },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/price-lists", {
                params: { header: keyed(key) },
                body: { name: values.name ?? "", currency: values.currency ?? "" },
              }),
            );
            await changed();
          }}
        />
      )}
      {asking === "price" && (
        <FormAsk
          title="Set a price"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            {
              name: "list",
              label: "In",
              choices: lists.map((one): [string, string] => [String(one.id), `${one.name}, ${one.currency}`]),
            },
            { name: "item", label: "Item" },
            { name: "price", label: "Price of one stock unit", right: true },
            { name: "valid_from", label: "From", kind: "date", hint: "empty: today" },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/price-lists/{id}/prices", {
                params: { path: { id: Number(values.list) }, header: keyed(key) },
                body: {
                  item: values.item ?? "",
                  price: typedDecimal(values.price ?? ""),
                  valid_from: orNull(values.valid_from),
                },
              }),
            );
            say({ kind: "done", text: `The price of ${values.item} is set. Orders from then on have it.` });
            await changed();
          }}
        />
      )}
      {asking === "break" && (
        <FormAsk
          title="Quantity break"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "item", label: "Item", hint: "or a class below" },
            { name: "class", label: "Class", choices: classes },
            { name: "from", label: "From how many stock units", right: true },
            { name: "off", label: "Off, percent", right: true },
            {
              name: "list",
              label: "In",
              choices: [["", "every list"], ...lists.map((one): [string, string] => [String(one.id), one.name])],
            },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/quantity-breaks", {
                params: { header: keyed(key) },
                body: {
                  price_list: values.list ? Number(values.list) : null,
                  item: values.item ?? "",
                  class: values.class ?? "",
                  from: typedDecimal(values.from ?? ""),
                  off: typedDecimal(values.off ?? ""),
                },
              }),
            );
            await changed();
          }}
        />
      )}
      {asking === "promotion" && (
        <FormAsk
          title="Promotion"
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "code", label: "Code" },
            { name: "name", label: "Name, as it stands on papers" },
            { name: "first", label: "First day", kind: "date" },
            { name: "last", label: "Last day", kind: "date" },
            { name: "item", label: "Item", hint: "or a class; neither: all goods" },
            { name: "class", label: "Class", choices: classes },
            { name: "off", label: "Off, percent", right: true },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/promotions", {
                params: { header: keyed(key) },
                body: {
                  code: values.code ?? "",
                  name: values.name ?? "",
                  first: values.first ?? "",
                  last: values.last ?? "",
                  item: values.item ?? "",
                  class: values.class ?? "",
                  off: typedDecimal(values.off ?? ""),
                },
              }),
            );
            await changed();
          }}
        />
      )}
      {deleting && (
        <Ask
          title={`Delete the quantity break of ${deleting.what}?`}
          yes="Delete"
          close={() => setDeleting(undefined)}
          run={async (key) => {
            const path = { id: deleting.id };
            await got(api.DELETE("/api/quantity-breaks/{id}", { params: { path, header: keyed(key) } }));
            say({ kind: "done", text: "The quantity break is deleted. Orders keep the prices they have." });
            await changed();
          }}
        >
          Orders keep the prices they have.
        </Ask>
      )}
    </Worktop>
  );
}
