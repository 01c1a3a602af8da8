import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { OwnField, ReportingList } from "../../api/types";
import { Chips, Lines, Marked, RoomLinks, Scroll, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Paper } from "../../parts/TapeRoll";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

const kinds: [OwnField["kind"], string][] = [
  ["text", "words"],
  ["number", "a number"],
  ["date", "a date"],
  ["choice", "one of a few words"],
  ["yes_no", "yes or no"],
];

/** The company's custom fields and reporting codes, carried from the order to the entry. */
export function FieldsRoom() {
  const may = useMay()("keep_company");
  const goods = useQuery({ queryKey: ["goods-settings"], queryFn: () => got(api.GET("/api/goods-settings")) });
  const [field, setField] = useState<OwnField | "new">();
  const [list, setList] = useState<ReportingList | "new">();
  const data = goods.data;
  return (
    <Worktop
      title="Custom fields and codes"
      sum="carried from the order to the invoice and the entry"
      actions={[
        { key: "n", label: "New field", run: () => setField("new"), primary: true, needs: "keep_company" },
        { key: "l", label: "New reporting list", run: () => setList("new"), needs: "keep_company" },
      ]}
      tape={
        <Paper>
          <h2>
            Where they go
            <br />
            <span>typed once, on the order or its line</span>
          </h2>
          <div className="words">
            They stand on the shipment, the invoice and the entry lines of what was sold and what it cost. A line says
            the last word over its order.
          </div>
          <h3>Required</h3>
          <div className="words">
            An order is not confirmed without a required field. A code that an account demands stops the shipment and
            the posting, and is asked for on the order already.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {goods.error && <Wrong error={goods.error} />}
      {data && (
        <Scroll>
          <Lines label="Custom fields">
            <thead>
              <tr>
                <th style={{ width: "30%" }}>Own field</th>
                <th>On</th>
                <th>Holds</th>
                <th>Required</th>
              </tr>
            </thead>
            <tbody>
              {data.marks.fields.map((one) => (
                <tr key={one.key}>
                  <td>
                    <button type="button" className="quietly" disabled={!may} onClick={() => setField(one)}>
                      {one.label}
                    </button>{" "}
                    <Marked className="dim">{one.key}</Marked>
                    {!one.active && <Marked className="dim"> · not asked for any more</Marked>}
                  </td>
                  <td>{one.place === "order" ? "orders" : "order lines"}</td>
                  <td>
                    {kinds.find(([kind]) => kind === one.kind)?.[1]}
                    {one.choices.length > 0 && <Marked className="dim"> · {one.choices.join(", ")}</Marked>}
                  </td>
                  <td>{one.required ? "yes" : ""}</td>
                </tr>
              ))}
              {data.marks.fields.length === 0 && (
                <tr>
                  <td colSpan={4}>No own field yet.</td>
                </tr>
              )}
            </tbody>
          </Lines>
          <Lines label="Reporting lists">
            <thead>
              <tr>
                <th style={{ width: "30%" }}>Reporting list</th>
                <th>Codes</th>
                <th>Demanded by</th>
              </tr>
            </thead>
            <tbody>
              {data.marks.lists.map((one) => (
                <tr key={one.key}>
                  <td>
                    <button type="button" className="quietly" disabled={!may} onClick={() => setList(one)}>
                      {one.name}
                    </button>{" "}
                    <Marked className="dim">{one.key}</Marked>
                  </td>
                  <td>
                    {one.codes
                      .filter((code) => code.active)
                      .map((code) => `${code.code} ${code.name}`)
                      .join(", ")}
                  </td>
                  <td>{one.required_by.join(", ")}</td>
                </tr>
              ))}
              {data.marks.lists.length === 0 && (
                <tr>
                  <td colSpan={3}>No reporting list yet.</td>
                </tr>
              )}
            </tbody>
          </Lines>
        </Scroll>
      )}
      {field && <FieldAsk field={field === "new" ? undefined : field} close={() => setField(undefined)} />}
      {list && (
        <ListAsk
          list={list === "new" ? undefined : list}
          accounts={(data?.accounts ?? []).map((one) => `${one.number} ${one.name}`)}
          close={() => setList(undefined)}
        />
      )}
    </Worktop>
  );
}

function FieldAsk({ field, close }: { field: OwnField | undefined; close: () => void }) {
  const changed = useEverythingChanged();
  return (
    <FormAsk
      title={field ? field.label : "New own field"}
      yes="Save"
      close={close}
      fields={[
        ...(field
          ? []
          : [
              { name: "key", label: "Key, small letters", hint: "as it stands in files and entries" },
              {
                name: "place",
                label: "On",
                choices: [
                  ["order", "orders"],
                  ["line", "order lines"],
                ] as [string, string][],
              },
              { name: "kind", label: "Holds", choices: kinds as [string, string][] },
            ]),
        { name: "label", label: "Name", value: field?.label ?? "" },
        { name: "choices", label: "Words to choose from, by comma", value: field?.choices.join(", ") ?? "" },
        { name: "required", label: "required", kind: "tick", value: field?.required ? "on" : "" },
        { name: "active", label: "asked for", kind: "tick", value: !field || field.active ? "on" : "" },
      ]}
      run={async (values, key) => {
        await got(
          api.PUT("/api/goods-settings/own-fields", {
            params: { header: keyed(key) },
            body: {
              key: field?.key ?? values.key ?? "",
              label: values.label ?? "",
              place: field?.place ?? (values.place === "line" ? "line" : "order"),
              kind: field?.kind ?? ((values.kind as OwnField["kind"]) || "text"),
              choices: (values.choices ?? "")
                .split(",")
                .map((one) => one.trim())
                .filter(Boolean),
              required: values.required === "on",
              active: values.active === "on",
            },
          }),
        );
        await changed();
      }}
    />
  );
}

function ListAsk({
  list,
  accounts,
  close,
}: {
  list: ReportingList | undefined;
  accounts: string[];
  close: () => void;
}) {
  const changed = useEverythingChanged();
  const codes = list?.codes.filter((code) => code.active).map((code) => `${code.code} ${code.name}`) ?? [];
  return (
    <FormAsk
      title={list ? list.name : "New reporting list"}
      yes="Save"
      close={close}
      fields={[
        ...(list ? [] : [{ name: "key", label: "Key, small letters" }]),
        { name: "name", label: "Name", value: list?.name ?? "" },
        {
          name: "codes",
          label: "Codes: each code and its name, by comma",
          value: codes.join(", "),
          kind: "words",
          hint: "SHOP Shop, WEB Web shop",
        },
        {
          name: "required_by",
          label: "Demanded by accounts, by comma",
          value: list?.required_by.join(", ") ?? "",
          hint: accounts.slice(0, 4).join(", "),
        },
      ]}
      run={async (values, key) => {
        const split = (text: string | undefined) =>
          (text ?? "")
            .split(/[,\n]/)
            .map((one) => one.trim())
            .filter(Boolean);
        await got(
          api.PUT("/api/goods-settings/reporting-lists", {
            params: { header: keyed(key) },
            body: {
              key: list?.key ?? values.key ?? "",
              name: values.name ?? "",
              codes: split(values.codes).map((one) => {
                const [code = "", ...words] = one.split(/\s+/);
                return { code, name: words.join(" ") || code };
              }),
              required_by: split(values.required_by).map((one) => one.split(/\s+/)[0] ?? ""),
            },
          }),
        );
        await changed();
      }}
    />
  );
}
