import Autocomplete from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { CallOffView } from "../../api/types";
import { date, number, plural, price, shortDate, typedDecimal } from "../../format";
import {
  Chips,
  Lines,
  Marked,
  RoomLinks,
  Scroll,
  useEverythingChanged,
  useFilter,
  useToday,
  Wrong,
} from "../../parts/bits";
import { Field, FormGrid, faultAt, orNull } from "../../parts/form";
import { useForget, useKeptState } from "../../parts/kept";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { RecordLines } from "../../parts/together";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { orderLinks } from "./links";

/** Agreed totals that several orders take from. */
export function CallOffsRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const [opened] = useFilter("open");
  const calls = useQuery({
    queryKey: ["call-offs", "all"],
    queryFn: () => got(api.GET("/api/call-offs", { params: { query: {} } })),
  });
  const [chosen, setChosen] = useState<CallOffView>();
  const rows = calls.data ?? [];
  const current = rows.find((row) => String(row.id) === opened) ?? chosen;
  const columns: Column<CallOffView>[] = [
    { key: "number", sort: (row) => row.number, head: "Blanket order", width: "80px", cell: (row) => row.number },
    {
      key: "customer",
      sort: (row) => row.customer_name,
      head: "Customer",
      width: "minmax(0, 1fr)",
      cell: (row) => row.customer_name,
    },
    {
      key: "what",
      head: "What is left",
      width: "minmax(0, 1.4fr)",
      cell: (row) => (
        <Marked className="dim">
          {row.lines.map((line) => `${number(line.left)} of ${number(line.agreed)} ${line.code}`).join(", ")}
        </Marked>
      ),
    },
    { key: "last", sort: (row) => row.last, head: "Until", width: "110px", cell: (row) => shortDate(row.last, today) },
    {
      key: "state",
      head: "State",
      width: "86px",
      cell: (row) => (row.runs ? "runs" : <Marked className="dim">○ ended</Marked>),
    },
  ];
  return (
    <Worktop
      title="Blanket orders"
      sum={calls.data && plural(rows.length, "agreement", "agreements")}
      actions={[
        {
          key: "o",
          label: current ? `Order from ${current.number}` : "Order from it",
          run: () => current && navigate(`/orders/new?customer=${current.customer}&call_off=${current.id}`),
          primary: true,
          disabled: !current?.runs,
          needs: "keep_order",
        },
        { key: "n", label: "New blanket order", run: () => navigate("/orders/blanket/new"), needs: "keep_order" },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.customer_name}
              <br />
              <span>
                {current.number}
                {current.customer_order_number && ` · ${current.customer_order_number}`}
              </span>
            </h2>
            {current.lines.map((line) => (
              <div key={line.id}>
                <div className="l">
                  <span>{line.code}</span>
                  <span>
                    {number(line.left)} {line.unit} left
                  </span>
                </div>
                <div className="detail l">
                  <span>
                    {number(line.taken)} of {number(line.agreed)} taken
                  </span>
                  <span>at {price(line.price)}</span>
                </div>
              </div>
            ))}
            {current.orders.length > 0 && <h3>Orders that took from it</h3>}
            {current.orders.map((order) => (
              <div className="l quiet" key={order.id}>
                <span>
                  <Link to={`/orders/${order.id}`}>{order.number}</Link> {order.state}
                </span>
                <span>{date(order.order_date)}</span>
              </div>
            ))}
            <RecordLines kind="call_off" id={current.id} />
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
      </Chips>
      {calls.error && <Wrong error={calls.error} />}
      {calls.data && (
        <Rows
          label="Blanket orders"
          rows={rows}
          idOf={(row) => String(row.id)}
          columns={columns}
          onCurrent={setChosen}
          onOpen={(row) => navigate(`/orders/new?customer=${row.customer}&call_off=${row.id}`)}
          empty="Nothing is agreed for calling off. Press n to enter an agreement."
        />
      )}
    </Worktop>
  );
}

interface Typed {
  item: string;
  agreed: string;
  price: string;
}

/** A new call-off order: whose, for how long, how much of what at which price. */
export function NewCallOffRoom() {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const today = useToday();
  const { say } = useNotices();
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const forget = useForget("blanket-order");
  const [customer, setCustomer] = useKeptState("blanket-order", "customer", 0);
  const [theirs, setTheirs] = useKeptState("blanket-order", "customer-po", "");
  const [first, setFirst] = useKeptState("blanket-order", "first", "");
  const [last, setLast] = useKeptState("blanket-order", "last", "");
  const [lines, setLines] = useKeptState<Typed[]>("blanket-order", "lines", [{ item: "", agreed: "", price: "" }]);
  const [faults, setFaults] = useState<Problem>();
  const key = useRef(newKey());
  const running = useRef(false);
  const set = (at: number, part: Partial<Typed>) =>
    setLines(lines.map((line, place) => (place === at ? { ...line, ...part } : line)));
  const save = async () => {
    if (running.current) {
      return;
    }
    running.current = true;
    try {
      await got(
        api.POST("/api/call-offs", {
          params: { header: keyed(key.current) },
          body: {
            customer,
            customer_order_number: orNull(theirs),
            first: first || today,
            last: last || today,
            lines: lines
              .filter((line) => line.item.trim() !== "")
              .map((line) => ({ item: line.item, agreed: typedDecimal(line.agreed), price: typedDecimal(line.price) })),
          },
        }),
      );
      forget();
      say({ kind: "done", text: "The blanket order is saved. Orders can be released from it." });
      await changed();
      navigate("/orders/blanket");
    } catch (error) {
      key.current = newKey();
      setFaults(error instanceof Problem ? error : new Problem({ title: String(error) }));
    } finally {
      running.current = false;
    }
  };
  return (
    <Worktop
      title="New blanket order"
      sum="an agreed total that several orders take from"
      back="/orders/blanket"
      actions={[
        { key: "p", label: "Save", run: save, primary: true, disabled: customer === 0, needs: "keep_order" },
        {
          key: "l",
          label: "Another line",
          run: () => setLines([...lines, { item: "", agreed: "", price: "" }]),
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <Paper>
          <div className="words quiet">
            Quantities and prices are those of one stock unit. An order that takes from it has the agreed price: breaks
            and promotions are not taken off it.
          </div>
        </Paper>
      }
    >
      <Scroll>
        <FormGrid>
          <div style={{ gridColumn: "span 5" }}>
            <Autocomplete
              options={customers.data ?? []}
              getOptionLabel={(option) => `${option.name} · ${option.number}`}
              onChange={(_, option) => setCustomer(option?.id ?? 0)}
              autoHighlight
              openOnFocus
              renderInput={(input) => (
                <TextField {...input} label="Customer" autoFocus error={!!faultAt(faults, "customer")} />
              )}
            />
          </div>
          <Field label="Customer PO" name="customer_order_number" value={theirs} onChange={setTheirs} faults={faults} />
          <Field
            label="From"
            name="first"
            type="date"
            span={2}
            value={first || today}
            onChange={setFirst}
            faults={faults}
          />
          <Field label="Until" name="last" type="date" span={2} value={last} onChange={setLast} faults={faults} />
        </FormGrid>
        {faults && !/^(first|last|lines\.|customer)/.test(faults.field ?? "") && (
          <p role="alert">
            <Wrong error={faults} />
          </p>
        )}
        <Lines label="What is agreed">
          <thead>
            <tr>
              <th style={{ width: "40%" }}>Item</th>
              <th>How much in all</th>
              <th>Price of one</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((line, at) => (
              <tr key={at}>
                <td>
                  <Field
                    label="Code"
                    name={`lines.${at}.item`}
                    value={line.item}
                    onChange={(item) => set(at, { item })}
                    faults={faults}
                  />
                </td>
                <td>
                  <Field
                    label="Quantity"
                    name={`lines.${at}.agreed`}
                    value={line.agreed}
                    onChange={(agreed) => set(at, { agreed })}
                    faults={faults}
                    right
                  />
                </td>
                <td>
                  <Field
                    label="Price"
                    name={`lines.${at}.price`}
                    value={line.price}
                    onChange={(value) => set(at, { price: value })}
                    faults={faults}
                    right
                    onEnter={() => setLines([...lines, { item: "", agreed: "", price: "" }])}
                  />
                </td>
              </tr>
            ))}
          </tbody>
        </Lines>
      </Scroll>
    </Worktop>
  );
}
