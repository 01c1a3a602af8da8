import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { ExpectedReturns } from "../../api/types";
import { date, money, percent, typedDecimal } from "../../format";
import {
  Chips,
  Facts,
  Lines,
  RoomLinks,
  Scroll,
  useBase,
  useEverythingChanged,
  useSettled,
  useToday,
  Wrong,
} from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { FormAsk } from "../../parts/FormAsk";
import { faultsOf, isStopped } from "../../parts/faults";
import { PreviewTape, WhatItDoes } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { returnLinks } from "./Returns";

const Form = styled("div")({ display: "grid", gridTemplateColumns: "220px 170px", gap: 14, margin: "14px 0 16px" });

/** What of what was billed is expected back: entered as the difference to the estimate that stands. */
export function ExpectedRoom() {
  const found = useQuery({
    queryKey: ["expected-returns"],
    queryFn: () => got(api.GET("/api/expected-returns")),
  });
  if (!found.data) {
    return (
      <Worktop title="Expected returns" actions={[]} back="/returns">
        {found.error && <Wrong error={found.error} />}
      </Worktop>
    );
  }
  return <Opened data={found.data} />;
}

function Opened({ data }: { data: ExpectedReturns }) {
  const base = useBase();
  const today = useToday();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [share, setShare] = useState("");
  const [day, setDay] = useState("");
  const [asking, setAsking] = useState(false);
  const [back, setBack] = useState(false);
  const body = { share: typedDecimal(share.replace("%", "")), date: day || null };
  const settled = useSettled(JSON.stringify(body));
  const ready = body.share !== "";
  const preview = useQuery({
    queryKey: ["expected-returns", "preview", settled],
    queryFn: () => got(api.POST("/api/expected-returns/preview", { body: JSON.parse(settled) })),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const shown = ready && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "share");
  const stopped = !shown || settled !== JSON.stringify(body) || preview.isFetching || isStopped(shown.blockers);
  const elsewhere = Object.entries(errors).find(([field]) => field !== "share" && field !== "date");
  return (
    <Worktop
      title="Expected returns"
      sum={`${money(data.standing.net, base)} ${base} stand as a refund liability`}
      back="/returns"
      actions={[
        {
          key: "p",
          label: "Enter the estimate",
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "post_estimate",
        },
        { key: "b", label: "Enter what is back, not credited", run: () => setBack(true), needs: "post_estimate" },
      ]}
      tape={
        <PreviewTape
          preview={shown ? { ...shown, entry: shown.entry ?? null } : undefined}
          until="Type the share you expect back: what it comes to, and the entry, appear here."
        />
      }
    >
      <Chips>
        <RoomLinks links={returnLinks} />
      </Chips>
      <Facts
        facts={[
          ["Billed within", `${data.days} days`],
          [`Not credited, net ${base}`, money(data.billed.net, base)],
          [`At cost ${base}`, money(data.billed.cost, base)],
          ["Came back last year", percent(data.came_back)],
        ]}
      />
      {elsewhere && (
        <p role="alert" style={{ margin: "8px 0" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Form>
        <TextField
          label="Share expected back, %"
          value={share}
          onChange={(event) => setShare(event.target.value)}
          error={!!errors.share}
          helperText={errors.share ?? "of the goods billed; 0 gives up what stands"}
          slotProps={{ htmlInput: { inputMode: "decimal" } }}
        />
        <DateField
          label="Date"
          typed={day}
          assumed={today}
          onType={setDay}
          error={errors.date}
          from="the business date"
        />
      </Form>
      {data.estimates.length === 0 ? (
        <p>
          No estimate was entered yet. What customers are expected to send back is kept out of revenue and out of cost
          until it is known.
        </p>
      ) : (
        <Scroll>
          <Lines label="Estimates">
            <thead>
              <tr>
                <th>Estimate</th>
                <th>Of</th>
                <th>Billed since</th>
                <th className="right">Share</th>
                <th className="right">Net {base}</th>
                <th className="right">At cost {base}</th>
                <th>Entry</th>
              </tr>
            </thead>
            <tbody>
              {data.estimates.map((one) => (
                <tr key={one.id}>
                  <td>
                    <b>{one.number}</b>
                  </td>
                  <td>{date(one.date)}</td>
                  <td>{date(one.from)}</td>
                  <td className="right">{percent(one.share)}</td>
                  <td className="right">{money(one.estimate.net, base)}</td>
                  <td className="right">{money(one.estimate.cost, base)}</td>
                  <td>
                    <Link to={placeOf(one.entry)}>{one.entry.number}</Link>
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        </Scroll>
      )}
      {data.accruals.length > 0 && (
        <>
          <h2 style={{ fontSize: 17, margin: "18px 0 8px" }}>Back, not credited</h2>
          <Scroll>
            <Lines label="Back, not credited">
              <thead>
                <tr>
                  <th>Number</th>
                  <th>Of</th>
                  <th>Reversed on</th>
                  <th className="right">Net {base}</th>
                  <th>Entry</th>
                </tr>
              </thead>
              <tbody>
                {data.accruals.map((one) => (
                  <tr key={one.number}>
                    <td>
                      <b>{one.number}</b>
                    </td>
                    <td>{date(one.date)}</td>
                    <td>{date(one.reversed_on)}</td>
                    <td className="right">{money(one.net, base)}</td>
                    <td>
                      <Link to={placeOf(one.entry)}>{one.entry.number}</Link>
                    </td>
                  </tr>
                ))}
              </tbody>
            </Lines>
          </Scroll>
        </>
      )}
      {back && <EnterBack close={() => setBack(false)} />}
      {asking && shown && (
        <Ask
          title="Enter this estimate?"
          yes="Enter it"
          close={() => setAsking(false)}
          run={async (key) => {
            const entered = await got(
              api.POST("/api/expected-returns", {
                params: { header: keyed(key) },
                body: { ...JSON.parse(settled), seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `${entered.number} is entered: ${money(shown.estimate.net, base)} ${base}.` });
            await changed();
            setShare("");
            setAsking(false);
          }}
        >
          The difference to what stands is posted. The next estimate changes it again.
        </Ask>
      )}
    </Worktop>
  );
}

/** Goods that are back and not credited are owed to customers at the end of a month: what it comes to, and its entry. */
function EnterBack({ close }: { close: () => void }) {
  const base = useBase();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [day, setDay] = useState("");
  const asked = useSettled(day);
  const preview = useQuery({
    queryKey: ["expected-returns", "back", asked],
    queryFn: () => got(api.POST("/api/expected-returns/back/preview", { body: { date: asked || null } })),
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const shown = preview.error ? undefined : preview.data;
  return (
    <FormAsk
      title="Goods that are back and not credited"
      yes="Enter it"
      close={close}
      fields={[
        {
          name: "date",
          label: "Last day of a month, if not of the one that ended last",
          kind: "date",
          changed: setDay,
        },
      ]}
      run={async (_, key) => {
        if (!shown || asked !== day) {
          throw preview.error instanceof Problem
            ? preview.error
            : new Problem({ title: "One moment, then try again." });
        }
        const entered = await got(
          api.POST("/api/expected-returns/back", {
            params: { header: keyed(key) },
            body: { date: asked || null, seen: shown.fingerprint },
          }),
        );
        say({
          kind: "done",
          text: `${entered.number} is entered: ${money(shown.net, base)} ${base}, reversed on ${date(shown.reversed_on)}.`,
        });
        await changed();
      }}
    >
      {shown && (
        <>
          <p style={{ margin: "0 0 8px" }}>
            {shown.net > 0
              ? `${money(shown.net, base)} ${base} will be credited for them. It is owed from that day and reversed on ${date(shown.reversed_on)}, when the credit memos follow.`
              : "Customers have sent back nothing that is not settled."}
          </p>
          <WhatItDoes
            does={{ tape: shown.tape, blockers: shown.blockers, changes: [] }}
            entries={shown.entry ? [shown.entry] : []}
          />
        </>
      )}
    </FormAsk>
  );
}
