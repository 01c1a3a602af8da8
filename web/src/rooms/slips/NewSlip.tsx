import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed, Problem } from "../../api/client";
import type { InHandRow } from "../../api/types";
import { moneyWithCurrency } from "../../format";
import { useBase, useEverythingChanged, useSettled, useToday, Wrong } from "../../parts/bits";
import { DateField } from "../../parts/DateField";
import { Rows } from "../../parts/Rows";
import { PreviewTape } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { Worktop } from "../../shell/Worktop";
import { inHandColumns } from "./parts";
import { useInHand } from "./Slips";

const idOf = (row: InHandRow) => String(row.entry);

/** A new slip: all that lies in hand stands on it, but what is let go. */
export function NewSlipRoom() {
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const inHand = useInHand();
  const accounts = useQuery({ queryKey: ["bank-accounts"], queryFn: () => got(api.GET("/api/bank-accounts")) });
  const base = useBase();
  const [chosen, setChosen] = useState<ReadonlySet<string>>();
  const [bank, setBank] = useState("");
  const [when, setWhen] = useState("");
  const [asking, setAsking] = useState(false);
  const rows = useMemo(() => inHand.data ?? [], [inHand.data]);
  // One slip holds one currency: what is in the others is let go until it is picked.
  const without = useMemo(() => {
    const first = rows.some((row) => row.currency === base) ? base : rows[0]?.currency;
    return chosen ?? new Set(rows.filter((row) => row.currency !== first).map(idOf));
  }, [chosen, rows, base]);
  const currency = rows.find((row) => !without.has(idOf(row)))?.currency;
  const on = rows.filter((row) => !without.has(idOf(row)));
  const picks = useMemo(() => new Set(rows.map(idOf).filter((id) => !without.has(id))), [rows, without]);
  const onPick = (some: InHandRow[]) =>
    setChosen(() => {
      const after = new Set(without);
      for (const row of some) {
        const id = idOf(row);
        if (some.length === 1 && !after.has(id)) {
          after.add(id);
        } else {
          after.delete(id);
        }
      }
      return after;
    });
  const body = {
    entries: on.map((row) => row.entry),
    bank: bank || accounts.data?.[0]?.code || null,
    date: when || null,
  };
  const wish = useSettled(inHand.data && accounts.data ? JSON.stringify(body) : "");
  const preview = useQuery({
    queryKey: ["bank-slip-preview", wish],
    queryFn: () => got(api.POST("/api/bank-slips/preview", { body: JSON.parse(wish) as typeof body })),
    enabled: wish !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
    retry: false,
  });
  const shown = preview.error || preview.isFetching || wish !== JSON.stringify(body) ? undefined : preview.data;
  const stopped = !shown || shown.blockers.some((blocker) => blocker.effect === "stops");
  const total = shown ? moneyWithCurrency(shown.amount, shown.currency) : "";
  return (
    <Worktop
      title="New bank deposit slip"
      sum={currency ? `${on.length} of ${rows.length} in hand` : "Nothing selected"}
      back="/bank-slips"
      actions={[
        {
          key: "p",
          label: total ? `Prepare · ${total}` : "Prepare",
          run: () => setAsking(true),
          primary: true,
          disabled: stopped,
          needs: "post_money",
        },
      ]}
      tape={
        <PreviewTape
          preview={preview.error || !preview.data ? undefined : { ...preview.data, changes: [] }}
          until="What the slip comes to appears here as soon as something stands on it."
        />
      }
    >
      <div style={{ display: "flex", gap: 12, margin: "0 0 12px" }}>
        {(accounts.data?.length ?? 0) > 1 && (
          <TextField
            select
            label="To"
            value={bank || accounts.data?.[0]?.code || ""}
            onChange={(event) => setBank(event.target.value)}
            sx={{ minWidth: 180 }}
          >
            {accounts.data?.map((one) => (
              <MenuItem key={one.code} value={one.code}>
                {one.name}
              </MenuItem>
            ))}
          </TextField>
        )}
        <DateField label="Date" typed={when} assumed={today ?? ""} onType={setWhen} from="the business date" />
        <span className="dim" style={{ alignSelf: "center" }}>
          Space lets go of a line, and picks it again.
        </span>
      </div>
      {preview.error instanceof Problem && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={preview.error} />
        </p>
      )}
      {inHand.data && (
        <Rows
          label="In hand"
          rows={rows}
          idOf={idOf}
          columns={inHandColumns(today)}
          picks={picks}
          onPick={onPick}
          onAll={(all) =>
            setChosen(
              () => new Set(all ? rows.filter((row) => row.currency !== (currency ?? base)).map(idOf) : rows.map(idOf)),
            )
          }
          nameOf={(row) => row.document.number}
          empty="Nothing is in hand. Checks and cash that come in wait here."
        />
      )}
      {asking && shown && (
        <Ask
          title={`Prepare a slip over ${total}?`}
          yes={`Prepare · ${total}`}
          close={() => setAsking(false)}
          run={async (key) => {
            const made = await got(
              api.POST("/api/bank-slips", {
                params: { header: keyed(key) },
                body: { ...body, seen: shown.fingerprint },
              }),
            );
            say({ kind: "done", text: `${made.number} is prepared. Print it and take it to the bank.` });
            await changed();
            navigate(`/bank-slips/${made.id}`);
          }}
        >
          It gets its number and its paper. What stands on it stays in hand until the bank took it.
        </Ask>
      )}
    </Worktop>
  );
}
