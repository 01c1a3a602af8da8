import Autocomplete from "@mui/material/Autocomplete";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { CustomerRow } from "../../api/types";
import { typedDecimal } from "../../format";
import { Scroll, useEverythingChanged, useSettled, Wrong } from "../../parts/bits";
import { faultsOf, isStopped } from "../../parts/faults";
import { useKept } from "../../parts/kept";
import { PreviewTape } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { addedLines, type OtherLine, OtherWay } from "../invoice/OtherWay";
import { comesToWords, settledAtOnce, WhyAndDate } from "./parts";
import { useReturnSettings } from "./settings";
import { nothingKnown, type Unknown, WithoutDocument } from "./WithoutDocument";

const says = (line: Unknown) => line.item.trim() !== "";

/** Goods come back that no invoice shows, and others go out for them: one document, in one posting. */
export function ExchangeRoom() {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [params, setParams] = useSearchParams();
  const customerId = Number(params.get("customer")) || undefined;
  const settings = useReturnSettings();
  const reasons = settings?.reasons.filter((one) => one.active) ?? [];
  const dispositions = settledAtOnce(settings);
  const usual = reasons.at(-1)?.code ?? "";
  const customers = useQuery({
    queryKey: ["customers"],
    queryFn: () => got(api.GET("/api/customers", { params: { query: {} } })),
  });
  const chosen = customers.data?.find((one) => one.id === customerId) ?? null;
  const currency = chosen?.currency ?? "";
  const kept = useKept("exchange", { lines: [] as Unknown[], other: [] as OtherLine[], why: "", day: "" });
  const { lines: typed, other, why, day } = kept.typed;
  const [asking, setAsking] = useState(false);
  const [unsaid, setUnsaid] = useState(false);
  const lines = [...typed.filter((line) => Object.values(line).some((text) => text !== "")), nothingKnown];
  const back = lines.filter(says).map((line) => ({
    item: line.item.trim(),
    quantity: typedDecimal(line.quantity) || "1",
    price: typedDecimal(line.price),
    reason: line.reason || usual,
    disposition: line.disposition || null,
    ...(line.cost.trim() && { cost: typedDecimal(line.cost), cost_reason: line.costReason.trim() }),
  }));
  const added = addedLines(other);
  const body = JSON.stringify({ customer: customerId ?? 0, back, added, date: day || null });
  const settled = useSettled(body);
  const ready = !!customerId && back.length > 0 && back.every((line) => line.price !== "");
  const preview = useQuery({
    queryKey: ["exchange", settled],
    queryFn: () =>
      got(
        api.POST("/api/exchanges/preview", {
          params: { header: keyed(newKey()) },
          // What it does to the books is the same for any reason.
          body: { ...JSON.parse(settled), reason: "to be said" },
        }),
      ),
    enabled: ready && settings !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const shown = ready && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "customer");
  if (unsaid && why.trim() === "") {
    errors.reason = "Say why, in a few words: the customer reads it on the document.";
  }
  const stopped = !shown || settled !== body || preview.isFetching || isStopped(shown.blockers);
  const comesTo = comesToWords(shown?.total ?? 0, currency);
  const verb = added.length > 0 ? "Post the exchange" : "Return and credit";
  const elsewhere = Object.entries(errors).find(([field]) => !/^(back\.\d|added\.\d|date|reason)/.test(field));
  const change = (at: number, what: Partial<Unknown>) =>
    kept.type({ lines: lines.map((line, place) => (place === at ? { ...line, ...what } : line)) });
  return (
    <Worktop
      title="Exchange without an invoice"
      sum={[chosen?.name, stopped || !ready ? "in one posting" : comesTo].filter(Boolean).join(" · ")}
      back="/returns"
      actions={[
        {
          key: "p",
          label: stopped || !ready ? verb : `${verb} · ${comesTo}`,
          run: () => {
            setUnsaid(why.trim() === "");
            setAsking(why.trim() !== "");
          },
          primary: true,
          disabled: stopped,
          needs: "return_without_document",
        },
        {
          key: "c",
          label: "Customer account",
          run: () => navigate(`/customers/${customerId}`),
          disabled: !customerId,
          quiet: true,
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={shown?.tape ? { ...shown, tape: shown.tape } : undefined}
          until="Choose the customer, then what is back and at which price: what is credited, what goes out and the entry appear here."
        />
      }
    >
      <Autocomplete<CustomerRow>
        options={customers.data ?? []}
        getOptionLabel={(option) => `${option.number} ${option.name}`}
        value={chosen}
        isOptionEqualToValue={(option, value) => option.id === value.id}
        autoHighlight
        onChange={(_, option) => setParams(option ? { customer: String(option.id) } : {}, { replace: true })}
        sx={{ margin: "6px 0 8px" }}
        renderInput={(input) => <TextField {...input} label="Customer" autoFocus={!customerId} />}
      />
      <WhyAndDate why={why} day={day} type={kept.type} errors={errors} first={!!customerId} />
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Scroll>
        <WithoutDocument
          lines={lines}
          first={0}
          currency={currency}
          reasons={reasons}
          dispositions={dispositions}
          errors={errors}
          change={change}
          field="back"
          amounts={shown?.back ?? []}
          usual={usual}
        />
        <div style={{ height: 14 }} />
        <OtherWay
          typed={other}
          type={(other) => kept.type({ other })}
          amounts={shown?.added ?? []}
          errors={errors}
          currency={currency}
          goods
        />
        <p className="dim" style={{ margin: "10px 2px" }}>
          Where an invoice shows what comes back, open it and press e: its price, tax and cost count then.
        </p>
      </Scroll>
      {asking && shown && chosen && (
        <Ask
          title={added.length > 0 ? "Post this exchange?" : "Are these goods here?"}
          yes={`${verb} · ${comesTo}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const done = await got(
              api.POST("/api/exchanges", {
                params: { header: keyed(key) },
                body: { ...JSON.parse(body), reason: why, seen: shown.fingerprint },
              }),
            );
            say({
              kind: "done",
              text: `${done.document.number} is posted: ${comesTo}. What came back stands on ${done.returned.number}.`,
              links: [{ text: `Open ${done.returned.number}`, to: placeOf(done.returned) }],
            });
            kept.forget();
            await changed();
            navigate(placeOf(done.document), { replace: true });
          }}
        >
          {shown.total < 0
            ? "What is left to pay becomes an invoice."
            : "What is left to credit is kept for the customer: apply it, or refund it."}
        </Ask>
      )}
    </Worktop>
  );
}
