import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { ItemRow, LineForm, OrderForm, OrderPreview, OrderView, QuoteView } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { Scroll, useBase, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { Field, FormGrid, orNull, useGoods } from "../../parts/form";
import { BlockerLines, ChangeLines, Paper, TapeLines, Tear } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { emptyLine, emptyOrder, keepOrder, keptOrder, toSend, typedField } from "./form";
import { OrderHead, saysItself } from "./Head";
import { LineDetails } from "./LineDetails";
import { focusCell, LineGrid } from "./LineGrid";

/** A new quote. */
export function NewQuoteRoom() {
  return <NewOrderRoom quote />;
}

/** A new order, or with `quote` a new quote; from a customer or a call-off it knows whose. */
export function NewOrderRoom({ quote = false }: { quote?: boolean }) {
  const [params] = useSearchParams();
  const key = quote ? "quote" : "order";
  const started = useMemo((): OrderForm => {
    const customer = Number(params.get("customer")) || 0;
    const callOff = Number(params.get("call_off")) || null;
    const kept = keptOrder(key);
    if (kept && (!customer || kept.customer === customer)) {
      return kept;
    }
    return { ...emptyOrder(), customer, call_off: callOff };
  }, [params, key]);
  return <Entry key={key} started={started} quote={quote} keep={key} />;
}

/** An order that is changed: a draft, or an open one that is amended. */
export function ChangeOrderRoom() {
  const { id = "" } = useParams();
  const order = useQuery({
    queryKey: ["order", id],
    queryFn: () => got(api.GET("/api/orders/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!order.data) {
    return (
      <Worktop title="Order" actions={[]} back="/orders">
        {order.error && <Wrong error={order.error} />}
      </Worktop>
    );
  }
  return <Entry key={`order${id}`} started={withoutPackaging(order.data)} quote={false} order={order.data} />;
}

/** Packaging goes along by itself; it is not typed. */
function withoutPackaging(order: OrderView): OrderForm {
  const packaging = new Set(order.lines.filter((line) => line.kind === "packaging").map((line) => line.id));
  return { ...order.form, lines: order.form.lines.filter((line) => !line.id || !packaging.has(line.id)) };
}

/** A quote that is written anew. */
export function ChangeQuoteRoom() {
  const { id = "" } = useParams();
  const quote = useQuery({
    queryKey: ["quote", id],
    queryFn: () => got(api.GET("/api/quotes/{id}", { params: { path: { id: Number(id) } } })),
  });
  if (!quote.data) {
    return (
      <Worktop title="Quote" actions={[]} back="/orders/quotes">
        {quote.error && <Wrong error={quote.error} />}
      </Worktop>
    );
  }
  return <Entry key={`quote${id}`} started={quote.data.form} quote written={quote.data} />;
}

interface Props {
  started: OrderForm;
  quote: boolean;
  /** Where what is typed is kept until it is entered. */
  keep?: string;
  order?: OrderView;
  written?: QuoteView;
}

/** Fields of a quote that say themselves what is wrong with them. */
const ofQuote = ["valid_until", "asks_percent"];

/** The order as it is typed: lines in the middle, price, tax and what stands in the way on the tape. */
function Entry({ started, quote, keep, order, written }: Props) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const base = useBase();
  const today = useToday();
  const goods = useGoods();
  const [form, setForm] = useState<OrderForm>(started);
  const [asks, setAsks] = useState<QuoteView["asked"]["what"]>(written?.asked.what ?? "nothing");
  const [asksPercent, setAsksPercent] = useState(written?.asks_percent ?? "");
  const [validUntil, setValidUntil] = useState(written?.valid_until ?? "");
  const [active, setActive] = useState(0);
  const [typing, setTyping] = useState<number>();
  const [faults, setFaults] = useState<Problem>();
  const key = useRef(newKey());
  const running = useRef(false);
  const units = useRef(new Map<string, string[]>());
  const [, drawn] = useState(0);
  const change = (part: Partial<OrderForm>) => setForm((before) => ({ ...before, ...part }));
  useEffect(() => {
    if (keep && form !== started) {
      keepOrder(keep, form);
    }
  }, [keep, form, started]);
  const { form: body } = useMemo(() => toSend(form), [form]);
  // A line whose item is half typed is not asked about: the rest keeps its prices meanwhile.
  const { form: seen, places } = useMemo(() => toSend(form, typing), [form, typing]);
  const whose = (body.customer ?? 0) !== 0 || (quote && !!body.contact);
  const ready = whose && body.lines.length > 0;
  const asked = { form: seen, order: order?.id ?? null, quote };
  const query = useQuery({
    queryKey: ["order-preview", asked],
    queryFn: () => got(api.POST("/api/orders/preview", { body: asked })),
    enabled: ready && seen.lines.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const preview: OrderPreview | undefined = ready && !query.error ? query.data : undefined;
  const problem = ready && query.error instanceof Problem ? query.error : undefined;
  const shownFaults = faults ?? problem;
  const lineFault =
    shownFaults?.field && /^lines\.\d/.test(shownFaults.field)
      ? { field: shownFaults.field, sentence: shownFaults.message }
      : undefined;
  const prices = useQuery({ queryKey: ["prices"], queryFn: () => got(api.GET("/api/prices")), staleTime: 60_000 });
  const offers = (prices.data?.promotions ?? []).filter((one) => one.runs);
  const promotions = offers.map((one) => [one.code, `${one.code} · ${one.name}`] as const);
  const unitsOf = (code: string) => units.current.get(code.trim().toUpperCase()) ?? [];
  const remember = (item: ItemRow) => {
    units.current.set(item.code.toUpperCase(), [item.unit]);
    got(api.GET("/api/items/{id}", { params: { path: { id: item.id } } }))
      .then((found) => {
        units.current.set(item.code.toUpperCase(), [item.unit, ...(found.form.units ?? []).map((one) => one.unit)]);
        drawn((count) => count + 1);
      })
      .catch(() => undefined);
  };
  const setLines = (lines: LineForm[]) => {
    setFaults(undefined);
    change({ lines });
  };
  const currency = preview?.currency ?? order?.currency ?? written?.currency ?? base;
  const total = preview ? moneyWithCurrency(preview.total, currency) : "";
  const save = async (sell = false) => {
    if (running.current || !ready) {
      return;
    }
    running.current = true;
    try {
      if (quote) {
        const share = asks === "nothing" ? null : orNull(asksPercent);
        const quoted = { order: body, valid_until: orNull(validUntil), asks, asks_percent: share };
        const id = written
          ? await got(
              api.PUT("/api/quotes/{id}", {
                params: { path: { id: written.id }, header: keyed(key.current) },
                body: { ...quoted, version: written.version },
              }),
            )
          : await got(api.POST("/api/quotes", { params: { header: keyed(key.current) }, body: quoted }));
        say({ kind: "done", text: `The quote is written · ${total}.` });
        leave(`/quotes/${id}`);
      } else if (order) {
        const outcome = await got(
          api.PUT("/api/orders/{id}", {
            params: { path: { id: order.id }, header: keyed(key.current) },
            body: { version: order.version, form: body },
          }),
        );
        say(
          outcome.waits == null
            ? { kind: "done", text: `${order.number} is saved · ${total}.` }
            : {
                kind: "done",
                text: `The change of ${order.number} is pending approval. The order stands as it was until then.`,
                links: [{ text: "Look at the request", to: `/approvals/${outcome.waits}` }],
              },
        );
        leave(`/orders/${order.id}`);
      } else {
        const id = await got(api.POST("/api/orders", { params: { header: keyed(key.current) }, body }));
        if (!sell) {
          const words = "Confirm it, and its stock is reserved.";
          say({ kind: "done", text: `The order is saved as a draft · ${total}. ${words}` });
        }
        leave(`/orders/${id}${sell ? "?sell" : ""}`);
      }
    } catch (error) {
      const found = error instanceof Problem ? error : new Problem({ title: String(error) });
      if (found.code !== "unreachable") {
        key.current = newKey();
      }
      setFaults(found);
      const field = found.blockers[0]?.field ?? found.field ?? "";
      const at = /^lines\.(\d+)\.(item|quantity)/.exec(typedField(field, places));
      if (at) {
        focusCell(Number(at[1]), at[2] ?? "quantity");
      }
    } finally {
      running.current = false;
    }
  };
  const leave = async (to: string) => {
    if (keep) {
      keepOrder(keep, undefined);
    }
    await changed();
    navigate(to, { replace: true });
  };
  const line = form.lines[active];
  const sent = places.indexOf(active);
  const title = written
    ? `Change ${written.number}`
    : order
      ? `${order.state === "draft" ? "Change" : "Amend"} ${order.number}`
      : quote
        ? "New quote"
        : "New order";
  const elsewhere =
    shownFaults && !lineFault && !saysItself(shownFaults.field ?? "") && !ofQuote.includes(shownFaults.field ?? "")
      ? shownFaults
      : undefined;
  return (
    <Worktop
      title={title}
      sum={preview ? preview.customer_name : "Whose order, and what?"}
      back={order ? `/orders/${order.id}` : written ? `/quotes/${written.id}` : quote ? "/orders/quotes" : "/orders"}
      actions={[
        {
          key: "p",
          label: `${quote ? "Save quote" : order ? "Save order" : "Save draft"}${total ? ` · ${total}` : ""}`,
          run: () => save(),
          primary: true,
          disabled: !ready || (!!problem && !preview),
          needs: "keep_order",
        },
        {
          key: "l",
          label: "Next line",
          run: () => {
            setLines([...form.lines.filter((one) => one.item !== ""), emptyLine()]);
            focusCell(form.lines.filter((one) => one.item !== "").length, "item");
          },
        },
        ...(order
          ? [
              {
                key: "r",
                label: "Reprice",
                run: () => change({ reprice: true }),
                disabled: form.reprice === true,
              },
            ]
          : [
              ...(quote
                ? []
                : [
                    {
                      key: "i",
                      label: "Sell over the counter",
                      run: () => save(true),
                      disabled: !ready || (!!problem && !preview),
                      needs: "ship_and_bill" as const,
                    },
                  ]),
              {
                key: "x",
                label: "Clear all",
                quiet: true,
                run: () => {
                  if (keep) {
                    keepOrder(keep, undefined);
                  }
                  setForm(emptyOrder());
                  setFaults(undefined);
                },
              },
            ]),
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <Paper>
          {preview ? (
            <>
              <TapeLines tape={preview.tape} />
              <Tear />
              <BlockerLines blockers={preview.blockers} />
              <ChangeLines changes={preview.changes} base={base} />
            </>
          ) : (
            <div className="words quiet">
              {ready
                ? "The prices come once every line can be read."
                : "Choose a customer and type an item: the prices come by themselves."}
            </div>
          )}
        </Paper>
      }
    >
      <Scroll>
        <OrderHead
          form={form}
          change={(part) => {
            setFaults(undefined);
            change(part);
          }}
          goods={goods}
          faults={shownFaults}
          quote={quote}
          fixed={!!order}
          today={today}
          toLines={() => focusCell(0, "item")}
        />
        {quote && (
          <FormGrid>
            <Field
              label="Valid until"
              name="valid_until"
              type="date"
              span={3}
              value={validUntil}
              onChange={setValidUntil}
              faults={shownFaults}
            />
            <Field
              label="Asks for, before it is confirmed"
              name="asks"
              span={4}
              value={asks}
              onChange={(value) => setAsks(value as typeof asks)}
              choices={[
                ["nothing", "nothing but a name"],
                ["card", "a card authorization"],
                ["deposit", "a deposit"],
              ]}
              faults={shownFaults}
            />
            {asks !== "nothing" && (
              <Field
                label="Share of the total, %"
                name="asks_percent"
                span={3}
                right
                value={asksPercent}
                onChange={setAsksPercent}
                faults={shownFaults}
              />
            )}
          </FormGrid>
        )}
        {elsewhere && (
          <p role="alert" style={{ margin: "0 0 8px" }}>
            <Wrong error={elsewhere} />
          </p>
        )}
        <LineGrid
          lines={form.lines}
          setLines={setLines}
          preview={preview}
          places={places}
          wrong={lineFault}
          active={active}
          setActive={(at) => {
            setActive(at);
            setTyping(undefined);
          }}
          typing={setTyping}
          unitsOf={unitsOf}
          remember={remember}
          currency={currency}
          leave={() => {
            if (document.activeElement instanceof HTMLElement) {
              document.activeElement.blur();
            }
          }}
        />
        {line?.item && (
          <LineDetails
            at={active}
            line={line}
            priced={sent >= 0 ? preview?.lines[sent] : undefined}
            goods={goods}
            promotions={promotions}
            change={(part) => setLines(form.lines.map((one, at) => (at === active ? { ...one, ...part } : one)))}
          />
        )}
      </Scroll>
    </Worktop>
  );
}
