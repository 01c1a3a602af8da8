import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { ReturnableRow } from "../../api/types";
import { number, typedDecimal } from "../../format";
import { Scroll, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { faultsOf, isStopped } from "../../parts/faults";
import { PreviewTape } from "../../parts/TapeRoll";
import { placeOf } from "../../places";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { ItemChoice } from "../invoice/OtherWay";

const Form = styled("div")({
  display: "grid",
  gridTemplateColumns: "minmax(0, 1.7fr) 110px 170px",
  gap: "18px 14px",
  margin: "10px 0 14px",
  alignItems: "start",
});

/** A wrong item went: what really went comes back, what was billed goes, in one step. */
export function WrongItemRoom() {
  const { id = "" } = useParams();
  const found = useQuery({
    queryKey: ["returnable", "of", id],
    queryFn: () => got(api.GET("/api/returnable", { params: { query: { invoice: Number(id), limit: 200 } } })),
  });
  if (!found.data) {
    return (
      <Worktop title="Wrong item sent" actions={[]} back={`/invoices/${id}`}>
        {found.error && <Wrong error={found.error} />}
      </Worktop>
    );
  }
  const rows = found.data.lines.filter((row) => !row.obstacle && row.left !== "0");
  if (rows.length === 0) {
    return (
      <Worktop title="Wrong item sent" actions={[]} back={`/invoices/${id}`}>
        <p>Nothing of this invoice can be fixed any more: its goods are credited, or on a return.</p>
      </Worktop>
    );
  }
  return <Opened key={id} id={Number(id)} rows={rows} />;
}

function Opened({ id, rows }: { id: number; rows: ReturnableRow[] }) {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const today = useToday();
  const [position, setPosition] = useState(rows[0]?.position ?? 0);
  const [quantity, setQuantity] = useState("");
  const [item, setItem] = useState("");
  const [sent, setSent] = useState("");
  const [note, setNote] = useState("");
  const [day, setDay] = useState("");
  const [asking, setAsking] = useState(false);
  const line = rows.find((row) => row.position === position);
  const assumed = line ? number(line.left) : "";
  const wish = {
    position,
    quantity: typedDecimal(quantity || assumed),
    item: item.trim(),
    sent_quantity: typedDecimal(sent) || null,
    reason: "WRONG",
    date: day || null,
  };
  const body = useSettled(JSON.stringify(wish));
  const ready = wish.item !== "";
  const preview = useQuery({
    queryKey: ["wrong-item", id, body],
    queryFn: () =>
      got(
        api.POST("/api/invoices/{id}/wrong-item/preview", {
          params: { path: { id }, header: keyed(newKey()) },
          body: JSON.parse(body),
        }),
      ),
    enabled: ready,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const problem = ready && preview.error instanceof Problem ? preview.error : null;
  const shown = ready && !problem ? preview.data : undefined;
  const errors = faultsOf(shown?.blockers, problem, "invoice");
  const stopped = !shown || JSON.stringify(wish) !== body || preview.isFetching || isStopped(shown.blockers);
  const elsewhere = Object.entries(errors).find(([f]) => !/^(quantity|item|sent_quantity|date)$/.test(f));
  const said = item.trim().toUpperCase();
  return (
    <Worktop
      title={`Wrong item, ${line?.document.number ?? ""}`}
      sum="what really went comes back, what was billed goes"
      back={`/invoices/${id}`}
      actions={[
        {
          key: "p",
          label: "Fix the delivery",
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "handle_return",
        },
      ]}
      rest={
        <span>
          from a field <kbd>Ctrl Enter</kbd>
        </span>
      }
      tape={
        <PreviewTape
          preview={shown?.tape ? { ...shown, tape: shown.tape, entry: shown.entry ?? null, changes: [] } : undefined}
          until="Say what really went: the entry appears here. Nothing is billed for it."
        />
      }
    >
      {elsewhere && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={new Error(elsewhere[1])} />
        </p>
      )}
      <Scroll>
        <Form>
          <TextField
            select
            label="Billed, and did not go"
            value={position}
            onChange={(event) => {
              setPosition(Number(event.target.value));
              setQuantity("");
            }}
            slotProps={{ select: { native: true }, inputLabel: { shrink: true } }}
          >
            {rows.map((row) => (
              <option key={row.position} value={row.position}>
                {row.code} · {row.description}, {number(row.left)} {row.unit}
              </option>
            ))}
          </TextField>
          <TextField
            label="Quantity"
            value={quantity}
            placeholder={assumed}
            onChange={(event) => setQuantity(event.target.value)}
            error={!!errors.quantity}
            helperText={errors.quantity ?? line?.unit}
            slotProps={{ htmlInput: { inputMode: "decimal" }, inputLabel: { shrink: true } }}
          />
          <DateField
            label="Date"
            typed={day}
            assumed={today}
            onType={setDay}
            error={errors.date}
            from="the business date"
          />
          <ItemChoice
            value={item}
            choose={setItem}
            goods
            onlyGoods
            wrong={!!errors.item}
            label="Item that really went"
            caption={["Really went, and comes back", errors.item ?? "its code, or words of its name"]}
          />
          <TextField
            label="Went"
            value={sent}
            placeholder="as many"
            onChange={(event) => setSent(event.target.value)}
            error={!!errors.sent_quantity}
            helperText={errors.sent_quantity ?? "in stock units"}
            slotProps={{ htmlInput: { inputMode: "decimal" }, inputLabel: { shrink: true } }}
          />
          <TextField label="Note" value={note} onChange={(event) => setNote(event.target.value)} />
        </Form>
        {shown && !stopped && (
          <p>
            {said} waits for inspection, {line?.code} leaves at what it cost. The customer is billed for nothing more.
          </p>
        )}
      </Scroll>
      {asking && shown && line && (
        <Ask
          title="Fix this delivery?"
          yes="Fix the delivery"
          close={() => setAsking(false)}
          run={async (key) => {
            const kept = await got(
              api.POST("/api/invoices/{id}/wrong-item", {
                params: { path: { id }, header: keyed(key) },
                body: { ...JSON.parse(body), note: note || null, seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `Fixed with ${kept.number}: inspect ${said} as soon as it is here.` });
            await changed();
            navigate(placeOf(kept), { replace: true });
          }}
        >
          {line.code} goes to the customer now, and {said} comes back to the inspection place.
        </Ask>
      )}
    </Worktop>
  );
}
