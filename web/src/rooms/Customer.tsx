import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey } from "../api/client";
import type { CustomerView } from "../api/types";
import { date, money, number } from "../format";
import { Facts, Late, Lines, Marked, Scroll, useBase, useEverythingChanged, useFieldFocus, Wrong } from "../parts/bits";
import { FormAsk } from "../parts/FormAsk";
import { Paper } from "../parts/TapeRoll";
import {
  ApprovalStrip,
  OpenMark,
  RecordLines,
  staleWords,
  useApprovals,
  useOpenElsewhere,
  useOpenHere,
} from "../parts/together";
import { placeOf } from "../places";
import { useNotices } from "../shell/notices";
import { useMay } from "../shell/session";
import { Worktop } from "../shell/Worktop";
import { ContainersAsk, useContainers } from "./customers/Containers";
import { MakeLinkAsk, PageLinkLines } from "./customers/PageLinks";

export function CustomerRoom() {
  const { id = "" } = useParams();
  const customer = useQuery({
    queryKey: ["customer", id],
    queryFn: () => got(api.GET("/api/customers/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!customer.data) {
    return (
      <Worktop title="Customer" actions={[]} back="/">
        {customer.error && <Wrong error={customer.error} />}
      </Worktop>
    );
  }
  return <Opened key={id} customer={customer.data} />;
}

function Opened({ customer }: { customer: CustomerView }) {
  const base = useBase();
  useOpenHere("customer", customer.id);
  const openAt = useOpenElsewhere("customer")(customer.id);
  const navigate = useNavigate();
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [stopping, setStopping] = useState(false);
  const [taking, setTaking] = useState(false);
  const [linking, setLinking] = useState(false);
  const containers = useContainers(customer.id);
  const approvals = useApprovals("customer", customer.id);
  const ages = [
    ["not due", customer.ageing.not_due],
    ["1–30 days late", customer.ageing.days_1_30],
    ["31–60 days late", customer.ageing.days_31_60],
    ["over 60 days late", customer.ageing.over_60],
  ] as const;
  return (
    <Worktop
      title={customer.name}
      sum={
        <>
          customer {customer.number}
          <OpenMark names={openAt} />
        </>
      }
      back="/customers"
      actions={[
        {
          key: "n",
          label: "New receipt",
          run: () => navigate(`/receipts/new?customer=${customer.id}`),
          primary: true,
          needs: "post_money",
        },
        {
          key: "b",
          label: "Bill what has shipped",
          run: () => navigate(`/billing?customer=${customer.id}`),
          disabled: customer.unbilled === 0,
        },
        {
          key: "o",
          label: "New order",
          run: () => navigate(`/orders/new?customer=${customer.id}`),
          needs: "keep_order",
        },
        {
          key: "e",
          label: "Terms, ship-tos, contacts",
          run: () => navigate(`/customers/${customer.id}/file`),
          quiet: true,
        },
        { key: "w", label: "Customer page…", run: () => setLinking(true), needs: "keep_page_links" },
        ...(containers.length > 0
          ? [
              {
                key: "d",
                label: "Return containers",
                run: () => setTaking(true),
                quiet: true,
                needs: "take_containers" as const,
              },
            ]
          : []),
        customer.stop_reason
          ? {
              key: "s",
              label: may("decide_approval") ? "Lift the hold" : "Ask to lift the hold",
              run: () => setStopping(true),
              needs: "lift_stop",
            }
          : { key: "s", label: "Put on hold", run: () => setStopping(true), needs: "put_on_stop" },
      ]}
      tape={
        <Paper>
          <h2>
            {customer.name}
            <br />
            <span>customer account</span>
          </h2>
          {ages.map(([label, amount]) => (
            <div className="l quiet" key={label}>
              <span>{label}</span>
              <span>{money(amount, base)}</span>
            </div>
          ))}
          <div className="l due">
            <span>Owes</span>
            <span>{money(customer.owes, base)}</span>
          </div>
          <h3>Beside it</h3>
          <div className="l quiet">
            <span>unapplied money</span>
            <span>{money(customer.unapplied, base)}</span>
          </div>
          <div className="l quiet">
            <span>shipped, not billed, net</span>
            <span>{money(customer.unbilled, base)}</span>
          </div>
          {customer.credit_limit != null && (
            <div className="l quiet">
              <span>credit limit</span>
              <span>{money(customer.credit_limit, base)}</span>
            </div>
          )}
          {containers.map((one) => (
            <div className="l quiet" key={one.code}>
              <span>
                {number(one.there)} × {one.code} of ours there
              </span>
              <span>{money(one.owed_back, base)}</span>
            </div>
          ))}
          <RecordLines kind="customer" id={customer.id} />
        </Paper>
      }
    >
      {customer.stop_reason && (
        <p style={{ margin: "0 0 8px" }}>
          <Marked className="stop">◆ On hold: {customer.stop_reason}.</Marked> What has shipped can still be billed.
        </p>
      )}
      <ApprovalStrip approvals={approvals} />
      <Facts
        facts={[
          ["Address", customer.address],
          ["Terms", customer.terms_words],
          ["Currency", customer.currency],
          ["Customer PO", customer.needs_order_number ? "required on every invoice" : "not required"],
          ["Tax id", <TaxId key="t" customer={customer} />],
          [
            "Details",
            <Link key="f" to={`/customers/${customer.id}/file`}>
              terms, ship-tos, contacts, prices
            </Link>,
          ],
          ...(containers.length > 0
            ? ([
                [
                  "Containers of ours",
                  <button key="c" type="button" className="quietly" onClick={() => setTaking(true)}>
                    {containers.map((one) => `${number(one.there)} × ${one.code}`).join(", ")}
                  </button>,
                ],
              ] as [string, ReactNode][])
            : []),
        ]}
      />
      <Scroll>
        <Lines label="Open invoices">
          <thead>
            <tr>
              <th>Open invoice</th>
              <th>Date</th>
              <th>Due</th>
              <th className="right">Total {customer.currency}</th>
              <th className="right">Balance due</th>
            </tr>
          </thead>
          <tbody>
            {customer.open_items.length === 0 && (
              <tr>
                <td colSpan={5}>Nothing is open.</td>
              </tr>
            )}
            {customer.open_items.map((item) => (
              <tr key={item.item}>
                <td>
                  <Link to={placeOf(item.document)}>{item.number}</Link>{" "}
                  {item.branch && <span className="dim">of {item.branch}</span>}
                  {item.disputed > 0 && (
                    <Marked className="heed"> ▲ {money(item.disputed, item.currency)} in dispute</Marked>
                  )}
                </td>
                <td className="dim">{date(item.document_date)}</td>
                <td className="dim">
                  {date(item.due_date)} <Late days={item.days_late} />
                </td>
                <td className="right dim">{money(item.total, item.currency)}</td>
                <td className="right">{money(item.open, item.currency)}</td>
              </tr>
            ))}
          </tbody>
        </Lines>
        <PageLinkLines customer={customer.id} />
        <Lines label="Account">
          <thead>
            <tr>
              <th>Date</th>
              <th>What</th>
              <th className="right">Amount {base}</th>
              <th className="right">Balance after</th>
            </tr>
          </thead>
          <tbody>
            {customer.history.map((event) => (
              <tr key={`${event.document.kind}${event.document.id}${event.date}${event.balance}`}>
                <td className="dim">{date(event.date)}</td>
                <td>
                  <Link to={placeOf(event.document)}>{event.document.number}</Link> {event.text}
                </td>
                <td className="right">{money(event.amount, base)}</td>
                <td className="right">{money(event.balance, base)}</td>
              </tr>
            ))}
          </tbody>
        </Lines>
      </Scroll>
      {linking && <MakeLinkAsk customer={customer.id} close={() => setLinking(false)} />}
      {taking && <ContainersAsk customer={customer} close={() => setTaking(false)} />}
      {stopping && (
        <FormAsk
          title={customer.stop_reason ? `Lift the hold on ${customer.name}` : `Put ${customer.name} on hold`}
          yes={customer.stop_reason ? "Lift the hold" : "Put on hold"}
          fields={[{ name: "reason", label: "Why", kind: "words" }]}
          close={() => setStopping(false)}
          run={async (values, key) => {
            const call = {
              params: { path: { id: customer.id }, header: keyed(key) },
              body: { version: customer.version, reason: values.reason ?? "" },
            };
            if (customer.stop_reason) {
              const outcome = await got(api.DELETE("/api/customers/{id}/stop", call));
              say(
                outcome.waits == null
                  ? { kind: "done", text: `The hold on ${customer.name} is lifted.` }
                  : {
                      kind: "done",
                      text: "A supervisor has to approve this. It is asked for; the hold stays until then.",
                      links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
                    },
              );
            } else {
              await got(api.PUT("/api/customers/{id}/stop", call));
              say({ kind: "done", text: `${customer.name} is on hold. What has shipped can still be billed.` });
            }
            await changed();
          }}
        >
          {customer.stop_reason
            ? `On hold: ${customer.stop_reason}.`
            : "Orders are not confirmed and goods do not leave until the hold is lifted. What has shipped is still billed."}
        </FormAsk>
      )}
    </Worktop>
  );
}

function TaxId({ customer }: { customer: CustomerView }) {
  const may = useMay();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [typed, setTyped] = useState(customer.tax_id ?? "");
  const [wrong, setWrong] = useState<string>();
  useFieldFocus();
  const save = async () => {
    try {
      await got(
        api.PUT("/api/customers/{id}/tax-id", {
          params: { path: { id: customer.id }, header: keyed(newKey()) },
          body: { version: customer.version, tax_id: typed.trim() || null },
        }),
      );
      setWrong(undefined);
      say({
        kind: "done",
        text: `The tax id of ${customer.name} is saved.`,
        links: customer.unbilled > 0 ? [{ text: "Bill what has shipped", to: `/billing?customer=${customer.id}` }] : [],
      });
      await changed();
    } catch (error) {
      setWrong(await staleWords(error, "customer", customer.id, customer.version));
    }
  };
  return (
    <div data-field="customer.tax_id">
      <TextField
        fullWidth
        slotProps={{ htmlInput: { "aria-label": "Tax id" } }}
        disabled={!may("keep_customer")}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && save()}
        error={!!wrong}
        helperText={wrong ?? (typed.trim() !== (customer.tax_id ?? "") ? "Press Enter to save" : undefined)}
      />
    </div>
  );
}
