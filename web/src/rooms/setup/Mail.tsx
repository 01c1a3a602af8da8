import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, keyed } from "../../api/client";
import type { MailSetup } from "../../api/types";
import { Chips, Facts, Lines, RoomLinks, useEverythingChanged, Wrong } from "../../parts/bits";
import { FormAsk } from "../../parts/FormAsk";
import { Paper } from "../../parts/TapeRoll";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

const services = {
  takes: "takes every message",
  refuses: "refuses every recipient",
  silent: "does not answer",
} as const;

const kinds: Record<string, string> = {
  invoice: "With an invoice",
  credit_memo: "With a credit memo",
  return: "With the slip of a return",
};

/** The texts of messages, and the stand-in mail service. */
export function MailRoom() {
  const setup = useQuery({ queryKey: ["mail-setup"], queryFn: () => got(api.GET("/api/mail-setup")) });
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay();
  const [service, setService] = useState(false);
  const [template, setTemplate] = useState<MailSetup["templates"][number]>();
  const data = setup.data;
  return (
    <Worktop
      title="Mail"
      actions={[
        {
          key: "c",
          label: "Change how mail goes",
          run: () => setService(true),
          primary: true,
          disabled: !data,
          needs: "keep_templates",
        },
      ]}
      tape={
        <Paper>
          <h2>
            Places in a text
            <br />
            <span>filled in for each document</span>
          </h2>
          {data?.places.map(([name, what]) => (
            <div className="value" key={name}>
              <span>{`{${name}}`}</span>
              <span>{what}</span>
            </div>
          ))}
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {setup.error && <Wrong error={setup.error} />}
      {data && (
        <>
          <Facts
            facts={[
              ["Mail goes from", data.from || "billing@gladtill.example"],
              ["The stand-in mail service", services[data.service]],
            ]}
          />
          <Lines label="Texts of messages">
            <thead>
              <tr>
                <th style={{ width: "22%" }}>Message</th>
                <th>Subject and text</th>
                <th aria-label="Change" />
              </tr>
            </thead>
            <tbody>
              {data.templates.map((one) => (
                <tr key={one.kind}>
                  <td>
                    <b>{kinds[one.kind] ?? one.kind}</b>
                  </td>
                  <td style={{ whiteSpace: "pre-line" }}>
                    <b>{one.subject}</b>
                    {`\n${one.body}`}
                  </td>
                  <td className="right">
                    {may("keep_templates") && (
                      <button type="button" className="quietly" onClick={() => setTemplate(one)}>
                        Change
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        </>
      )}
      {service && data && (
        <FormAsk
          title="How mail goes"
          yes="Save"
          close={() => setService(false)}
          fields={[
            { name: "from", label: "Mail goes from", value: data.from },
            {
              name: "service",
              label: "The stand-in mail service",
              value: data.service,
              choices: Object.entries(services) as [string, string][],
            },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/mail-setup", {
                params: { header: keyed(key) },
                body: { from: values.from ?? "", service: (values.service || "takes") as MailSetup["service"] },
              }),
            );
            say({ kind: "done", text: "Kept. It holds from the next message on." });
            await changed();
          }}
        >
          No email leaves this machine: a stand-in takes it and keeps it in a mailbox that can be read. It can be made
          to fail, to see what happens then.
        </FormAsk>
      )}
      {template && (
        <FormAsk
          title={kinds[template.kind] ?? template.kind}
          yes="Save text"
          close={() => setTemplate(undefined)}
          fields={[
            { name: "subject", label: "Subject", value: template.subject },
            { name: "body", label: "Text", kind: "words", value: template.body },
          ]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/mail-setup/templates", {
                params: { header: keyed(key) },
                body: { ...template, subject: values.subject ?? "", body: values.body ?? "" },
              }),
            );
            say({ kind: "done", text: "The text is saved. Messages that wait and were not changed take it too." });
            await changed();
          }}
        >
          Shift+Enter makes a new line. The places it can fill stand on the tape.
        </FormAsk>
      )}
    </Worktop>
  );
}
