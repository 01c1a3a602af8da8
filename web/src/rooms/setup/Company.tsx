import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, keyed } from "../../api/client";
import type { SetupView } from "../../api/types";
import { date, decimal, exponentOf, money, moneyWithCurrency, plural, typedDecimal } from "../../format";
import { Chips, Facts, Lines, Marked, RoomLinks, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

const computed = { per_document: "once a document, by code", per_line: "line by line" } as const;

const advanceTax = { at_receipt: "as the money comes in", at_invoice: "with the invoice" } as const;
const depositUse = {
  first: "in full on the first invoices",
  in_proportion: "in proportion to what is billed",
} as const;
const taxDates = { delivery: "the day its goods left", document: "the document date" } as const;

/** The company's settings. */
export function CompanyRoom() {
  const setup = useQuery({ queryKey: ["setup"], queryFn: () => got(api.GET("/api/setup")) });
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState(false);
  const data = setup.data;
  return (
    <Worktop
      title="Company"
      sum={data?.company}
      actions={[
        {
          key: "c",
          label: "Change the settings",
          run: () => setAsking(true),
          primary: true,
          disabled: !data,
          needs: "keep_company",
        },
      ]}
      tape={
        <Paper>
          <h2>
            What these settings do
            <br />
            <span>from the next document on</span>
          </h2>
          <div className="words">
            Tax once a document rounds one sum for each code: what structured invoices ask for. Line by line rounds each
            line, as is usual where sales tax is used.
          </div>
          <h3>Business date</h3>
          <div className="words">
            What dates default to. Books that stand still on a day are for practice; a company at work follows the
            calendar.
          </div>
          <h3>Base currency</h3>
          <div className="words">The ledger is in this currency. It cannot change once something is posted.</div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {setup.error && <Wrong error={setup.error} />}
      {data && (
        <Facts
          facts={[
            ["Company", data.company],
            ["Base currency", data.base_currency],
            ["Tax is computed", computed[data.tax_computed]],
            ["Tax date of a line", taxDates[data.tax_date]],
            ["Tax on deposits is due", advanceTax[data.advance_tax]],
            ["Deposits are used", depositUse[data.deposit_use]],
            ["Goods billed in advance", data.hold_until_prepaid ? "wait until it is paid" : "ship all the same"],
            ["Differences count as paid up to", moneyWithCurrency(data.write_off_tolerance, data.base_currency)],
            ["A date before the last invoice", data.dates_in_order ? "stops the posting" : "warns"],
            ["Business date", data.fixed_date ? `stands still on ${date(data.fixed_date)}` : "follows the calendar"],
          ]}
        />
      )}
      {data && <Rest setup={data} />}
      {asking && data && (
        <FormAsk
          title="The company's settings"
          yes="Save"
          close={() => setAsking(false)}
          fields={[
            { name: "company", label: "Company", value: data.company },
            {
              name: "tax_computed",
              label: "Tax is computed",
              value: data.tax_computed,
              choices: [
                ["per_document", computed.per_document],
                ["per_line", computed.per_line],
              ],
            },
            {
              name: "tax_date",
              label: "Tax date of a line",
              value: data.tax_date,
              choices: [
                ["delivery", taxDates.delivery],
                ["document", taxDates.document],
              ],
            },
            {
              name: "advance_tax",
              label: "Tax on deposits is due",
              value: data.advance_tax,
              choices: [
                ["at_receipt", advanceTax.at_receipt],
                ["at_invoice", advanceTax.at_invoice],
              ],
              hint: "Holds for deposits taken from now on",
            },
            {
              name: "deposit_use",
              label: "Deposits are used",
              value: data.deposit_use,
              choices: [
                ["first", depositUse.first],
                ["in_proportion", depositUse.in_proportion],
              ],
            },
            {
              name: "hold_until_prepaid",
              label: "Goods wait until what was billed in advance of their order is paid",
              kind: "tick",
              value: data.hold_until_prepaid ? "on" : "",
            },
            {
              name: "write_off_tolerance",
              label: `Differences count as paid up to, ${data.base_currency}`,
              value: decimal(data.write_off_tolerance, exponentOf(data.base_currency)),
              hint: "An amount too small is written off, one too large is kept as income",
            },
            {
              name: "dates_in_order",
              label: "A document date before that of the last invoice stops its posting",
              kind: "tick",
              value: data.dates_in_order ? "on" : "",
            },
            {
              name: "fixed_date",
              label: "Stand still on",
              kind: "date",
              value: data.fixed_date ?? "",
              hint: "empty: follow the calendar; never back",
            },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/setup/company", {
                params: { header: keyed(key) },
                body: {
                  version: data.version,
                  company: values.company ?? "",
                  tax_computed: values.tax_computed === "per_line" ? "per_line" : "per_document",
                  tax_date: values.tax_date === "document" ? "document" : "delivery",
                  advance_tax: values.advance_tax === "at_receipt" ? "at_receipt" : "at_invoice",
                  deposit_use: values.deposit_use === "in_proportion" ? "in_proportion" : "first",
                  hold_until_prepaid: values.hold_until_prepaid === "on",
                  write_off_tolerance: typedDecimal(values.write_off_tolerance ?? ""),
                  dates_in_order: values.dates_in_order === "on",
                  fixed_date: values.fixed_date || null,
                },
              }),
            );
            say({ kind: "done", text: "The settings are saved. They hold from the next document on." });
            await changed();
          }}
        />
      )}
    </Worktop>
  );
}

/** The rest of the set-up at a glance. */
function Rest({ setup }: { setup: SetupView }) {
  const may = useMay();
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => got(api.GET("/api/people")),
    enabled: may("see_people"),
  });
  const limit = setup.limits.find((one) => one.role === "clerk" && one.kind === "price_change");
  const open = setup.periods.filter((period) => period.open);
  const invoices = setup.numbers.find((range) => range.kind === "invoice");
  const active = people.data?.filter((person) => person.active) ?? [];
  const rows: [to: string, name: string, what: string][] = [
    [
      "/setup/people",
      "People",
      people.data
        ? `${plural(active.length, "person signs in", "people sign in")}, ${plural(active.filter((one) => one.role === "lead").length, "supervisor", "supervisors")} among them`
        : "",
    ],
    [
      "/setup/limits",
      "Limits and rights",
      limit?.amount == null
        ? "a clerk changes prices without limit"
        : `a clerk changes prices up to ${money(limit.amount, setup.base_currency)} ${setup.base_currency} a line`,
    ],
    ["/setup/numbers", "Numbers", invoices ? `the next invoice is ${invoices.prefix}${invoices.next}` : ""],
    [
      "/setup/periods",
      "Periods",
      open[0] ? `${plural(open.length, "month", "months")} open, from ${date(open[0].first)}` : "no month is open",
    ],
    ["/setup/record", "Record", "who did what, from which value to which"],
  ];
  return (
    <Lines label="The rest of the set-up">
      <thead>
        <tr>
          <th style={{ width: "30%" }}>The rest of the set-up</th>
          <th>As it stands</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([to, name, what]) => (
          <tr key={to}>
            <td>
              <Link to={to}>{name}</Link>
            </td>
            <td>
              <Marked className="dim">{what}</Marked>
            </td>
          </tr>
        ))}
      </tbody>
    </Lines>
  );
}
