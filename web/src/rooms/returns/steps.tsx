import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { ReturnView } from "../../api/types";
import { date, number, typedDecimal } from "../../format";
import { useBase, useEverythingChanged } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { BlockerLines, EntryLines, Paper, WhatItDoes } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { stepWords } from "./words";

/** What can be done with a return beside receiving, inspecting and crediting. */
export type ReturnStep = "extend" | "close" | "replace" | "undo";

interface Props {
  view: ReturnView;
  close: () => void;
}

export function ReturnAsk({ step, ...props }: Props & { step: ReturnStep }) {
  switch (step) {
    case "extend":
      return <ExtendAsk {...props} />;
    case "close":
      return <CloseAsk {...props} />;
    case "replace":
      return <ReplaceAsk {...props} />;
    default:
      return <UndoAsk {...props} />;
  }
}

function ExtendAsk({ view, close }: Props) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  return (
    <FormAsk
      title={`Extend ${view.number}?`}
      yes="Extend"
      close={close}
      fields={[{ name: "expires_on", label: "May arrive until", kind: "date", value: view.expires_on }]}
      run={async (values, key) => {
        await got(
          api.PUT("/api/returns/{id}/expiry", {
            params: { path: { id: view.id }, header: keyed(key) },
            body: { version: view.version, expires_on: values.expires_on ?? "" },
          }),
        );
        say({ kind: "done", text: `${view.number} may arrive until ${date(values.expires_on ?? "")}.` });
        await changed();
      }}
    >
      The goods may arrive until that day. Print the slip anew for the customer.
    </FormAsk>
  );
}

function CloseAsk({ view, close }: Props) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const came = view.lines.some((line) => line.progress.received !== "0");
  return (
    <FormAsk
      title={`Close ${view.number}?`}
      yes="Close the return"
      no="Back"
      close={close}
      fields={[{ name: "reason", label: "Why", kind: "words" }]}
      run={async (values, key) => {
        await got(
          api.POST("/api/returns/{id}/close", {
            params: { path: { id: view.id }, header: keyed(key) },
            body: { version: view.version, reason: values.reason ?? "" },
          }),
        );
        say({ kind: "done", text: `${view.number} is closed.` });
        await changed();
      }}
    >
      {came
        ? "Nothing more arrives on it. What came stays, and is inspected and credited as before."
        : "Nothing arrives on it any more: the goods stay with the customer."}
    </FormAsk>
  );
}

function ReplaceAsk({ view, close }: Props) {
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const lines = view.lines.filter((line) => line.to_settle !== "0");
  const [chosen, setChosen] = useState(String(lines[0]?.id ?? ""));
  const line = lines.find((one) => String(one.id) === chosen);
  const whole = line ? number(line.to_settle) : "";
  const [quantity, setQuantity] = useState(whole);
  const [day, setDay] = useState("");
  const body = { line: Number(chosen), quantity: typedDecimal(quantity), date: day || null };
  const path = { id: view.id };
  const preview = useQuery({
    queryKey: ["return-replace", view.id, view.version, body],
    queryFn: () => got(api.POST("/api/returns/{id}/replace/preview", { params: { path }, body })),
    enabled: !!line,
    gcTime: 0,
    retry: false,
  });
  return (
    <FormAsk
      title={`Send a replacement for ${view.number}?`}
      yes="Send the replacement"
      close={close}
      fields={[
        {
          name: "quantity",
          label: line ? `Quantity of ${line.code}, ${line.unit}` : "Quantity",
          value: whole,
          right: true,
          changed: setQuantity,
        },
        ...(lines.length > 1
          ? [
              {
                name: "line",
                label: "Of",
                value: chosen,
                choices: lines.map((one): [string, string] => [
                  String(one.id),
                  `${one.code} · ${number(one.to_settle)} ${one.unit} to settle`,
                ]),
                changed: setChosen,
              },
            ]
          : []),
        {
          name: "date",
          label: "Leaves on",
          kind: "date",
          hint: "Leave empty to use the business date",
          changed: setDay,
        },
        { name: "note", label: "Note", hint: "Carrier, tracking number" },
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/returns/{id}/replace", {
            params: { path, header: keyed(key) },
            body: {
              ...body,
              note: values.note || null,
              version: view.version,
              seen: preview.data?.fingerprint ?? "",
            },
          }),
        );
        say({ kind: "done", text: `A replacement for ${view.number} leaves stock. Nothing is billed.` });
        await changed();
      }}
    >
      The same item leaves stock at no charge; what came back needs no credit then.
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data?.tape && (
        <WhatItDoes
          does={{ ...preview.data, tape: preview.data.tape }}
          entries={preview.data.entry ? [preview.data.entry] : []}
          height={170}
        />
      )}
    </FormAsk>
  );
}

function UndoAsk({ view, close }: Props) {
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const standing = view.steps.filter((step) => !step.reversed_on);
  // The last one, unless another is chosen.
  const [chosen, setChosen] = useState(String(standing.at(-1)?.id ?? ""));
  const [day, setDay] = useState("");
  const path = { id: view.id, step: Number(chosen) };
  const preview = useQuery({
    queryKey: ["return-undo", view.id, view.version, chosen, day],
    queryFn: () =>
      got(
        api.POST("/api/returns/{id}/steps/{step}/reverse/preview", {
          params: { path },
          // The reason is asked for below; what it does to the books is the same for any.
          body: { date: day || null, reason: "to be said" },
        }),
      ),
    enabled: chosen !== "",
    gcTime: 0,
    retry: false,
  });
  const what = (step: ReturnView["steps"][number]) =>
    `${stepWords[step.kind]} ${date(step.date)}: ${step.lines.map((line) => `${number(line.stock)} ${line.code}`).join(", ")}`;
  return (
    <FormAsk
      title={`Reverse a step of ${view.number}?`}
      yes="Reverse the step"
      close={close}
      fields={[
        { name: "reason", label: "Why", kind: "words" },
        {
          name: "step",
          label: "Which",
          value: chosen,
          choices: standing.map((step): [string, string] => [String(step.id), what(step)]),
          changed: setChosen,
        },
        { name: "date", label: "Date", kind: "date", hint: "Leave empty to use the business date", changed: setDay },
      ]}
      run={async (values, key) => {
        await got(
          api.POST("/api/returns/{id}/steps/{step}/reverse", {
            params: { path, header: keyed(key) },
            body: {
              date: day || null,
              reason: values.reason ?? "",
              version: view.version,
              seen: preview.data?.fingerprint ?? "",
            },
          }),
        );
        say({ kind: "done", text: `A step of ${view.number} is reversed: the goods are where they were.` });
        await changed();
      }}
    >
      For what was entered in error. The goods go back to where they were, and the entry is turned round.
      {preview.error && <p className="wrong">{preview.error.message}</p>}
      {preview.data && (preview.data.entry || preview.data.blockers.length > 0) && (
        <Paper style={{ marginTop: 8, maxHeight: 170, overflowY: "auto" }}>
          <BlockerLines blockers={preview.data.blockers} />
          {preview.data.entry && <EntryLines entry={preview.data.entry} base={base} title={preview.data.entry.text} />}
        </Paper>
      )}
    </FormAsk>
  );
}
