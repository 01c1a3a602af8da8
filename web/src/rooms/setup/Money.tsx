import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { PlaceRow } from "../../api/types";
import { Chips, Lines, RoomLinks, useCurrencies, useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

type Way = PlaceRow["methods"][number];

const kinds: Record<PlaceRow["kind"], string> = {
  bank: "bank account",
  drawer: "cash drawer",
  checks_in_hand: "checks in hand",
  card_clearing: "captured cards, until they are paid out",
};

/** Where the company's money lies, and the ways of paying that lead there. */
export function MoneySetupRoom() {
  const places = useQuery({ queryKey: ["money-places"], queryFn: () => got(api.GET("/api/money-places")) });
  const chart = useQuery({ queryKey: ["chart"], queryFn: () => got(api.GET("/api/chart")) });
  const currencies = useCurrencies();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay()("keep_company");
  const [adding, setAdding] = useState(false);
  const [way, setWay] = useState<Way>();
  const [numbering, setNumbering] = useState<PlaceRow>();
  // What comes in by hand may lie on one account; a bank, and what is captured, on one of its own.
  const alone = places.data?.filter((place) => place.kind === "bank" || place.kind === "card_clearing");
  const taken = new Set(alone?.map((place) => place.account));
  const free = (chart.data?.accounts ?? []).filter((one) => one.account_type === "asset" && !taken.has(one.number));
  const saved = async (text: string) => {
    say({ kind: "done", text });
    await changed();
  };
  const quietly = (label: string, what: () => void) =>
    may && (
      <button type="button" className="quietly" onClick={what}>
        {label}
      </button>
    );
  return (
    <Worktop
      title="Money"
      back="/setup"
      actions={[
        {
          key: "n",
          label: "Add a place of money",
          run: () => setAdding(true),
          primary: true,
          disabled: !places.data || !chart.data,
          needs: "keep_company",
        },
      ]}
      tape={
        <Paper>
          <h2>
            Money
            <br />
            <span>where it lies, and how it comes there</span>
          </h2>
          <div className="words">
            Each place lies on a ledger account of its own: what the bank says is held against what stands there. A way
            of paying is what a clerk chooses on a receipt; what came by one stays as it is when it is offered no more.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      <Lines label="Places of money">
        <thead>
          <tr>
            <th>Place</th>
            <th>Account</th>
            <th>Currency</th>
            <th>Bank’s number</th>
            <th>Ways of paying</th>
          </tr>
        </thead>
        <tbody>
          {places.data?.map((place) => (
            <tr key={place.code}>
              <td>
                <b>{place.name}</b>
                <div className="dim">{kinds[place.kind]}</div>
              </td>
              <td>
                {place.account} <span className="dim">{place.account_name}</span>
              </td>
              <td>{place.currency ?? <span className="dim">any</span>}</td>
              <td className="nowrap">
                {place.bank_account?.replace(/(.{4})(?=.)/g, "$1 ")}{" "}
                {place.kind === "bank" && quietly(place.bank_account ? "Change" : "Say it", () => setNumbering(place))}
              </td>
              <td>
                {place.methods.map((one) => (
                  <div key={one.code}>
                    {one.name} {!one.active && <span className="dim">not offered</span>}{" "}
                    {place.kind !== "card_clearing" && quietly("Change", () => setWay(one))}
                  </div>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </Lines>
      {adding && (
        <FormAsk
          title="A new place of money"
          yes="Add it"
          close={() => setAdding(false)}
          fields={[
            { name: "name", label: "Name", hint: "such as Bank, pounds" },
            {
              name: "kind",
              label: "What it is",
              value: "bank",
              choices: [
                ["bank", kinds.bank],
                ["drawer", kinds.drawer],
                ["checks_in_hand", kinds.checks_in_hand],
              ],
            },
            {
              name: "account",
              label: "Ledger account",
              hint: "a bank account has one of its own",
              choices: [
                ["", "choose"],
                ...free.map((one): [string, string] => [one.number, `${one.number} ${one.name}`]),
              ],
            },
            {
              name: "currency",
              label: "Currency of the account",
              value: "",
              choices: [["", "any"], ...currencies.map((one): [string, string] => [one, one])],
            },
            { name: "method", label: "Way of paying that leads there", hint: "such as transfer in pounds" },
          ]}
          run={async (values, key) => {
            const { name = "", kind = "bank", account = "", currency = "", method = "" } = values;
            const body = { name, kind: kind as PlaceRow["kind"], account, currency: currency || null, method };
            await got(api.POST("/api/money-places", { params: { header: keyed(key) }, body }));
            await saved(`${name} is added.`);
          }}
        />
      )}
      {way && (
        <FormAsk
          title={`Way of paying: ${way.name}`}
          yes="Save"
          close={() => setWay(undefined)}
          fields={[
            { name: "name", label: "Name", value: way.name },
            { name: "active", label: "Offered on receipts", kind: "tick", value: way.active ? "on" : "" },
          ]}
          run={async (values, key) => {
            const body = { name: values.name ?? "", active: values.active === "on" };
            const params = { path: { code: way.code }, header: keyed(key) };
            await got(api.PUT("/api/payment-methods/{code}", { params, body }));
            await saved(`${body.name} is saved.`);
          }}
        />
      )}
      {numbering && (
        <FormAsk
          title={`Account number of ${numbering.name}`}
          yes="Save"
          close={() => setNumbering(undefined)}
          fields={[
            {
              name: "number",
              label: "IBAN, or the bank's number",
              value: numbering.bank_account ?? "",
              hint: "as it stands on the bank's statements: by it a file finds its account",
            },
          ]}
          run={async (values, key) => {
            const params = { path: { code: numbering.code }, header: keyed(key) };
            await got(api.PUT("/api/bank-accounts/{code}", { params, body: { number: values.number ?? "" } }));
            await saved(`The number of ${numbering.name} is saved.`);
          }}
        />
      )}
    </Worktop>
  );
}
