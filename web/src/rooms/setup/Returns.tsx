import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { ReturnSettings } from "../../api/types";
import { plural } from "../../format";
import { Chips, Facts, Lines, RoomLinks, useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { useReturnSettings } from "../returns/settings";
import { setupLinks } from "./links";

type Reason = ReturnSettings["reasons"][number];
type Disposition = ReturnSettings["dispositions"][number];

const outcomes: Record<Disposition["outcome"], string> = {
  restock: "sold again",
  scrap: "scrapped",
  supplier: "back to the supplier, with a claim",
  send_back: "sent back to the customer, no credit",
};

const proofs: Record<ReturnSettings["proof"], string> = {
  needed: "not authorized",
  warn: "authorized by a supervisor, with a warning",
  free: "authorized by a supervisor",
};

const limits: Record<ReturnSettings["limit"], string> = {
  line: "what the line billed",
  customer: "all the customer bought of the item",
};

/** Why goods come back, what becomes of them, and how long a return may arrive: the company's own words. */
export function ReturnsSetupRoom() {
  const settings = useReturnSettings();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay()("keep_company");
  const [reason, setReason] = useState<Partial<Reason>>();
  const [disposition, setDisposition] = useState<Partial<Disposition>>();
  const [rules, setRules] = useState(false);
  const saved = async (text: string) => {
    say({ kind: "done", text });
    await changed();
  };
  const change = (what: () => void) =>
    may && (
      <button type="button" className="quietly" onClick={what}>
        Change
      </button>
    );
  return (
    <Worktop
      title="Returns"
      back="/setup"
      actions={[
        {
          key: "n",
          label: "Add a reason",
          run: () => setReason({}),
          primary: true,
          disabled: !settings,
          needs: "keep_company",
        },
        {
          key: "d",
          label: "Add a disposition",
          run: () => setDisposition({}),
          disabled: !settings,
          needs: "keep_company",
        },
        { key: "e", label: "Rules", run: () => setRules(true), disabled: !settings, needs: "keep_company" },
      ]}
      tape={
        <Paper>
          <h2>
            Returns
            <br />
            <span>how the company speaks of them</span>
          </h2>
          <div className="words">
            A reason says why goods come back; the report of returns counts by it. A disposition says what becomes of
            them, and with it which entry is written. What was used once stays; it can be taken off the lists.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {settings && (
        <>
          <Facts
            facts={[
              ["A return may arrive for", plural(settings.days, "day", "days")],
              ["Without a document", proofs[settings.proof]],
              ["At most", limits[settings.limit]],
            ]}
          />
          <Lines label="Reasons">
            <thead>
              <tr>
                <th style={{ width: "18%" }}>Reason</th>
                <th>Name</th>
                <th>Offered</th>
                <th aria-label="Change" />
              </tr>
            </thead>
            <tbody>
              {settings.reasons.map((one) => (
                <tr key={one.code}>
                  <td>
                    <b>{one.code}</b>
                  </td>
                  <td>{one.name}</td>
                  <td>{one.active ? "yes" : "no"}</td>
                  <td className="right">{change(() => setReason(one))}</td>
                </tr>
              ))}
            </tbody>
          </Lines>
          <Lines label="Dispositions">
            <thead>
              <tr>
                <th style={{ width: "18%" }}>Disposition</th>
                <th>Name</th>
                <th>The goods are</th>
                <th>Offered</th>
                <th aria-label="Change" />
              </tr>
            </thead>
            <tbody>
              {settings.dispositions.map((one) => (
                <tr key={one.code}>
                  <td>
                    <b>{one.code}</b>
                  </td>
                  <td>{one.name}</td>
                  <td>{outcomes[one.outcome]}</td>
                  <td>{one.active ? "yes" : "no"}</td>
                  <td className="right">{change(() => setDisposition(one))}</td>
                </tr>
              ))}
            </tbody>
          </Lines>
        </>
      )}
      {reason && (
        <FormAsk
          title={reason.code ? `Reason ${reason.code}` : "A new reason"}
          yes="Save"
          close={() => setReason(undefined)}
          fields={[
            ...(reason.code ? [] : [{ name: "code", label: "Code", hint: "Capital letters, such as COLOR" }]),
            { name: "name", label: "Name", value: reason.name ?? "" },
            {
              name: "active",
              label: "Offered when a return is authorized",
              kind: "tick",
              value: reason.active === false ? "" : "on",
            },
          ]}
          run={async (values, key) => {
            const code = reason.code ?? values.code ?? "";
            await got(
              api.PUT("/api/return-settings/reasons", {
                params: { header: keyed(key) },
                body: { code, name: values.name ?? "", active: values.active === "on" },
              }),
            );
            await saved(`The reason ${code} is saved.`);
          }}
        />
      )}
      {disposition && (
        <FormAsk
          title={disposition.code ? `Disposition ${disposition.code}` : "A new disposition"}
          yes="Save"
          close={() => setDisposition(undefined)}
          fields={[
            ...(disposition.code
              ? []
              : [
                  { name: "code", label: "Code", hint: "Capital letters, such as SECOND" },
                  {
                    name: "outcome",
                    label: "The goods are",
                    value: "restock",
                    choices: Object.entries(outcomes) as [string, string][],
                  },
                ]),
            { name: "name", label: "Name", value: disposition.name ?? "" },
            {
              name: "active",
              label: "Offered at inspection",
              kind: "tick",
              value: disposition.active === false ? "" : "on",
            },
          ]}
          run={async (values, key) => {
            const code = disposition.code ?? values.code ?? "";
            await got(
              api.PUT("/api/return-settings/dispositions", {
                params: { header: keyed(key) },
                body: {
                  code,
                  name: values.name ?? "",
                  outcome: disposition.outcome ?? ((values.outcome || "restock") as Disposition["outcome"]),
                  active: values.active === "on",
                },
              }),
            );
            await saved(`The disposition ${code} is saved.`);
          }}
        >
          What it leads to stays once it is there: the entries of what was inspected say it.
        </FormAsk>
      )}
      {rules && settings && (
        <FormAsk
          title="What is asked of returns?"
          yes="Save"
          close={() => setRules(false)}
          fields={[
            { name: "days", label: "May arrive for days", value: String(settings.days), right: true },
            {
              name: "proof",
              label: "Without a document",
              value: settings.proof,
              choices: Object.entries(proofs),
              hint: "goods that no invoice and no shipment shows",
            },
            {
              name: "limit",
              label: "At most",
              value: settings.limit,
              choices: Object.entries(limits),
              hint: "more than one line billed goes to the customer’s other lines, newest first",
            },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/return-settings/rules", {
                params: { header: keyed(key) },
                body: {
                  days: Number(values.days),
                  proof: values.proof as ReturnSettings["proof"],
                  limit: values.limit as ReturnSettings["limit"],
                },
              }),
            );
            await saved("What is asked of returns is saved.");
          }}
        >
          It counts for returns authorized from now on; each can be given another day.
        </FormAsk>
      )}
    </Worktop>
  );
}
