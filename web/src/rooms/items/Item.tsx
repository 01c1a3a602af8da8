import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { ItemForm, ItemView } from "../../api/types";
import { date, money, number, price, typedDecimal } from "../../format";
import { Lines, Marked, Scroll, useBase, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Field, FormGrid, orNull, Tick, useGoods } from "../../parts/form";
import { useForget, useKeptState } from "../../parts/kept";
import { useSaving } from "../../parts/saving";
import { Paper, Tear } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";

const NEW: ItemForm = {
  code: "",
  name: "",
  kind: "goods",
  class: "",
  unit: "pc",
  units: [],
  list_price: "",
  tax_code: "",
  active: true,
};

export function NewItemRoom() {
  return <Opened form={NEW} />;
}

export function ItemRoom() {
  const { id = "" } = useParams();
  const item = useQuery({
    queryKey: ["item", id],
    queryFn: () => got(api.GET("/api/items/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!item.data) {
    return (
      <Worktop title="Item" actions={[]} back="/items">
        {item.error && <Wrong error={item.error} />}
      </Worktop>
    );
  }
  return <Opened key={`${id}.${item.data.version}`} form={item.data.form} item={item.data} />;
}

function Opened({ form: started, item }: { form: ItemForm; item?: ItemView }) {
  const base = useBase();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay()("keep_items");
  const goods = useGoods();
  // What is half typed is kept for this version: after another change it would take that back.
  const place = `item.${item?.id ?? "new"}.${item?.version ?? 0}`;
  const forget = useForget(place);
  const [form, setForm] = useKeptState(place, "form", started);
  const saving = useSaving({ kind: "item", id: item?.id, version: item?.version });
  const { faults, setFaults, stale } = saving;
  const [asking, setAsking] = useState<"in" | "count" | "expect" | "back">();
  const change = (part: Partial<ItemForm>) => {
    setFaults(undefined);
    setForm((before) => ({ ...before, ...part }));
  };
  const text = (name: keyof ItemForm, label: string, span = 3, more: object = {}) => (
    <Field
      key={name}
      label={label}
      name={name}
      value={String(form[name] ?? "")}
      onChange={(value) => change({ [name]: value })}
      faults={faults}
      span={span}
      disabled={!may}
      {...more}
    />
  );
  const save = () => {
    const plain = (value: string | undefined) => (value ? typedDecimal(value) : "");
    const body: ItemForm = {
      ...form,
      list_price: plain(form.list_price),
      minimum: plain(form.minimum),
      step: plain(form.step),
      over: plain(form.over),
      surcharge: plain(form.surcharge),
      share_ahead: plain(form.share_ahead),
      units: (form.units ?? [])
        .filter((one) => one.factor !== "")
        .map((one) => ({ ...one, factor: plain(one.factor) })),
    };
    return saving.save(async (header) => {
      const saved = item
        ? await got(
            api.PUT("/api/items/{id}", {
              params: { path: { id: item.id }, header },
              body: { version: item.version, form: body },
            }),
          )
        : await got(api.POST("/api/items", { params: { header }, body }));
      forget();
      say({ kind: "done", text: `${form.code} is saved. New orders use it.` });
      await changed();
      if (!item) {
        navigate(`/items/${saved.id}`, { replace: true });
      }
    });
  };
  const kept = item && form.kind === "goods";
  const units = form.units ?? [];
  const fieldNames = [
    "code",
    "name",
    "class",
    "unit",
    "list_price",
    "tax_code",
    "minimum",
    "step",
    "over",
    "surcharge",
    "surcharge_name",
    "share_ahead",
    "container",
  ];
  const elsewhere = faults && !fieldNames.includes(faults.field ?? "") && !(faults.field ?? "").startsWith("units.");
  const receipts = item?.layers.filter((layer) => layer.reversible) ?? [];
  const houses = (goods?.warehouses ?? [])
    .filter((one) => one.counted)
    .map((one): [string, string] => [one.code, one.name]);
  return (
    <Worktop
      title={item ? form.code : "New item"}
      sum={item ? form.name : "what is it?"}
      back="/items"
      actions={[
        { key: "p", label: "Save", run: save, primary: true, needs: "keep_items" },
        ...(kept
          ? [
              { key: "i", label: "Take goods in", run: () => setAsking("in"), needs: "take_in" as const },
              { key: "o", label: "Goods on their way", run: () => setAsking("expect"), needs: "take_in" as const },
              { key: "c", label: "Count", run: () => setAsking("count"), needs: "adjust_stock" as const },
              ...(receipts.length > 0
                ? [
                    {
                      key: "b",
                      label: "Reverse goods receipt",
                      run: () => setAsking("back"),
                      needs: "adjust_stock" as const,
                    },
                  ]
                : []),
            ]
          : []),
      ]}
      tape={
        item && (
          <Paper>
            <h2>
              {form.name}
              <br />
              <span>stock by warehouse</span>
            </h2>
            {item.stock.map((stock) => (
              <div key={stock.warehouse}>
                <div className="group">{stock.warehouse}</div>
                <div className="l">
                  <span>on hand</span>
                  <span>{number(stock.on_hand)}</span>
                </div>
                <div className="l quiet">
                  <span>reserved for orders</span>
                  <span>{number(stock.committed)}</span>
                </div>
                {stock.expected_on && (
                  <div className="l quiet">
                    <span>expected from {date(stock.expected_on)}</span>
                    <span>{number(stock.expected)}</span>
                  </div>
                )}
              </div>
            ))}
            {(item.expected_back !== "0" || item.to_inspect !== "0") && (
              <>
                <div className="group">Returned by customers, not for sale</div>
                <div className="l quiet">
                  <span>waiting for inspection</span>
                  <span>{number(item.to_inspect)}</span>
                </div>
                <div className="l quiet">
                  <span>still expected back</span>
                  <span>{number(item.expected_back)}</span>
                </div>
              </>
            )}
            {item.layers.length > 0 && (
              <>
                <Tear />
                <h3>Layers, in the order they leave</h3>
                {item.layers.map((layer) => (
                  <div key={layer.id}>
                    <div className="l">
                      <span>
                        {date(layer.posting_date)}, {layer.warehouse}
                      </span>
                      <span>{money(layer.remaining_cost, base)}</span>
                    </div>
                    <div className="detail">
                      {number(layer.remaining)} of {number(layer.quantity)} at {price(layer.unit_cost)}
                    </div>
                  </div>
                ))}
                <div className="l sum">
                  <span>Cost of what there is</span>
                  <span>
                    {money(Number(item.layers.reduce((sum, layer) => sum + BigInt(layer.remaining_cost), 0n)), base)}
                  </span>
                </div>
              </>
            )}
            <RecordLines kind="item" id={item.id} />
          </Paper>
        )
      }
    >
      <Scroll>
        {elsewhere && (
          <p role="alert" style={{ margin: "0 0 8px" }}>
            <Wrong error={new Error(stale ?? faults.message)} />
          </p>
        )}
        <FormGrid>
          {text("code", "Code", 3, { autoFocus: !item })}
          {text("name", "Name", 6)}
          <Field
            label="What it is"
            name="kind"
            value={form.kind}
            onChange={(kind) => change({ kind: kind as ItemForm["kind"] })}
            disabled={!may || !!item}
            choices={[
              ["goods", "goods in stock"],
              ["service", "a service"],
              ["charge", "a charge"],
              ["packaging", "returnable packaging"],
            ]}
          />
          {text("list_price", `List price ${base}`, 3, { right: true })}
          <Field
            label="Stock unit"
            name="unit"
            value={form.unit}
            onChange={(unit) => change({ unit })}
            faults={faults}
            disabled={!may || !!item}
            choices={(goods?.units ?? []).map(
              (unit) => [unit.word, `${unit.word} · ${unit.name} · ${unit.code}`] as const,
            )}
          />
          <Field
            label="Tax code"
            name="tax_code"
            value={form.tax_code}
            onChange={(tax_code) => change({ tax_code })}
            faults={faults}
            disabled={!may}
            // Nothing is assumed: an item that bills at the wrong rate does so until someone looks.
            choices={[
              ...(form.tax_code ? [] : [["", "Choose a tax code"] as const]),
              ...(goods?.tax_codes ?? []).map((code) => [code.code, `${code.code} · ${code.name}`] as const),
            ]}
          />
          {text("class", "Class, for accounts and breaks", 3, { hint: goods?.classes.join(", ") })}
          <h2>How it is sold</h2>
          {text("minimum", "Least quantity", 2, { right: true })}
          {text("step", "In steps of", 2, { right: true })}
          {text("over", "May go over by, percent", 3, { right: true })}
          {text("share_ahead", "Advance %", 3, { right: true, hint: "Leave empty to use the customer's; 0 for never" })}
          {text("container", "Packaging", 2)}
          {text("surcharge", "Surcharge on one", 2, { right: true })}
          {text("surcharge_name", "for", 4)}
          <Tick
            label="sold"
            on={form.active ?? true}
            toggle={(active) => change({ active })}
            span={6}
            disabled={!may}
          />
          {units.map((unit, at) => (
            <div key={at} style={{ gridColumn: "span 6", display: "grid", gridTemplateColumns: "1fr 1fr", gap: 12 }}>
              <Field
                label="Also sold by the"
                name={`units.${at}.unit`}
                value={unit.unit}
                onChange={(value) =>
                  change({ units: units.map((one, place) => (place === at ? { ...one, unit: value } : one)) })
                }
                faults={faults}
                span={1}
                disabled={!may}
                choices={(goods?.units ?? []).map((one) => [one.word, one.word] as const)}
              />
              <Field
                label={`holds so many ${form.unit}`}
                name={`units.${at}.factor`}
                value={unit.factor}
                onChange={(factor) =>
                  change({ units: units.map((one, place) => (place === at ? { ...one, factor } : one)) })
                }
                faults={faults}
                span={1}
                right
                disabled={!may}
                hint="empty: not any more"
              />
            </div>
          ))}
          {may && (
            <div style={{ gridColumn: "1 / -1" }}>
              <button
                type="button"
                className="quietly"
                onClick={() => change({ units: [...units, { unit: "box", factor: "" }] })}
              >
                Another unit it is sold by
              </button>
            </div>
          )}
        </FormGrid>
        {item && item.moves.length > 0 && (
          <Lines label="Moves">
            <thead>
              <tr>
                <th>Date</th>
                <th>What</th>
                <th className="right">Quantity</th>
                <th className="right">Cost {base}</th>
              </tr>
            </thead>
            <tbody>
              {item.moves.map((move, at) => (
                <tr key={at}>
                  <td className="dim">{date(move.date)}</td>
                  <td>
                    {move.shipment ? (
                      <Link to={`/shipments/${move.shipment}`}>{move.what}</Link>
                    ) : (
                      <Marked>{move.what}</Marked>
                    )}
                  </td>
                  <td className="right">{number(move.quantity)}</td>
                  <td className="right">{money(move.cost, base)}</td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
      </Scroll>
      {asking === "in" && item && (
        <FormAsk
          title={`Take ${form.code} in`}
          yes="Take in"
          close={() => setAsking(undefined)}
          fields={[
            { name: "quantity", label: `How much, ${form.unit}`, right: true },
            { name: "cost", label: `Cost of all of it, ${base}`, right: true },
            { name: "warehouse", label: "Where", value: goods?.warehouse ?? "", choices: houses },
            { name: "date", label: "When", kind: "date", hint: "empty: the business date" },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/items/{id}/intakes", {
                params: { path: { id: item.id }, header: keyed(key) },
                body: {
                  quantity: typedDecimal(values.quantity ?? ""),
                  cost: typedDecimal(values.cost ?? ""),
                  warehouse: orNull(values.warehouse),
                  date: orNull(values.date),
                },
              }),
            );
            say({
              kind: "done",
              text: `${values.quantity} ${form.unit} of ${form.code} came in: a new layer of cost.`,
            });
            await changed();
          }}
        >
          A new layer of cost, and its entry. What an order waited for is reserved for it.
        </FormAsk>
      )}
      {asking === "count" && item && (
        <FormAsk
          title={`Count ${form.code}`}
          yes="Put stock right"
          close={() => setAsking(undefined)}
          fields={[
            { name: "counted", label: `Counted, ${form.unit}`, right: true, value: item.stock[0]?.on_hand ?? "" },
            { name: "warehouse", label: "Where", value: goods?.warehouse ?? "", choices: houses },
            { name: "unit_cost", label: `Cost of one found, ${base}`, right: true, hint: "empty: as the newest layer" },
            { name: "reason", label: "Why it differs", kind: "words" },
          ]}
          run={async (values, key) => {
            const difference = await got(
              api.POST("/api/items/{id}/counts", {
                params: { path: { id: item.id }, header: keyed(key) },
                body: {
                  counted: typedDecimal(values.counted ?? ""),
                  warehouse: orNull(values.warehouse),
                  unit_cost: values.unit_cost ? typedDecimal(values.unit_cost) : null,
                  reason: values.reason ?? "",
                },
              }),
            );
            say({ kind: "done", text: `${form.code} corrected by ${number(difference)} ${form.unit}.` });
            await changed();
          }}
        >
          What is missing leaves the oldest layer; what is found is a new one. Where less is there than was reserved,
          the latest orders give it up.
        </FormAsk>
      )}
      {asking === "back" && item && (
        <FormAsk
          title={`Reverse a goods receipt of ${form.code}`}
          yes="Reverse it"
          close={() => setAsking(undefined)}
          fields={[
            {
              name: "layer",
              label: "Which",
              value: String(receipts.at(-1)?.id ?? ""),
              choices: receipts
                .toReversed()
                .map((layer): [string, string] => [
                  String(layer.id),
                  `${date(layer.posting_date)}, ${number(layer.quantity)} ${form.unit} for ${money(layer.remaining_cost, base)}`,
                ]),
            },
            { name: "date", label: "On", kind: "date", hint: "empty: the business date" },
            { name: "reason", label: "Why", kind: "words" },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/items/{id}/intakes/{layer}/reverse", {
                params: { path: { id: item.id, layer: Number(values.layer) }, header: keyed(key) },
                body: { date: orNull(values.date), reason: values.reason ?? "" },
              }),
            );
            say({
              kind: "done",
              text: `The goods receipt of ${form.code} is reversed: stock and its cost are as before it.`,
            });
            await changed();
          }}
        >
          For a goods receipt that was typed in error, while nothing of it has left. Its entry is turned round. Where
          less is there than was reserved, the latest orders give it up.
        </FormAsk>
      )}
      {asking === "expect" && item && (
        <FormAsk
          title={`${form.code} on its way`}
          yes="Save"
          close={() => setAsking(undefined)}
          fields={[
            { name: "quantity", label: `How much, ${form.unit}`, right: true },
            { name: "expected_on", label: "Expected on", kind: "date" },
            { name: "warehouse", label: "Where to", value: goods?.warehouse ?? "", choices: houses },
          ]}
          run={async (values, key) => {
            await got(
              api.POST("/api/expected-goods", {
                params: { header: keyed(key) },
                body: {
                  item: form.code,
                  quantity: typedDecimal(values.quantity ?? ""),
                  expected_on: values.expected_on ?? "",
                  warehouse: orNull(values.warehouse),
                },
              }),
            );
            say({ kind: "done", text: `${values.quantity} ${form.unit} of ${form.code} are expected.` });
            await changed();
          }}
        />
      )}
    </Worktop>
  );
}
