import { useCallback, useMemo, useState } from "react";
import { money, plural } from "../format";
import { Paper, Tear } from "./TapeRoll";

/** Picked rows of a list: Space selects and deselects, Shift with the arrows picks a range. */
export function usePicks<T>(rows: T[], idOf: (row: T) => string) {
  const [picks, setPicks] = useState<ReadonlySet<string>>(new Set());
  const onPick = useCallback(
    (some: T[]) => {
      setPicks((before) => {
        const after = new Set(before);
        for (const row of some) {
          const id = idOf(row);
          if (some.length === 1 && after.has(id)) {
            after.delete(id);
          } else {
            after.add(id);
          }
        }
        return after;
      });
    },
    [idOf],
  );
  const onAll = useCallback((on: boolean) => setPicks(new Set(on ? rows.map(idOf) : [])), [rows, idOf]);
  const picked = useMemo(() => rows.filter((row) => picks.has(idOf(row))), [rows, picks, idOf]);
  return { picks, onPick, onAll, picked };
}

interface SumProps {
  count: number;
  one: string;
  more: string;
  /** What to add up, by name: amounts with their currencies. */
  sums: [label: string, amounts: { minor: number; currency: string }[]][];
}

/** The sum of what is picked, at the top of the tape; each currency by itself. */
export function PickedSum({ count, one, more, sums }: SumProps) {
  if (count === 0) {
    return null;
  }
  return (
    <Paper data-testid="picked">
      <h2>
        {plural(count, one, more)} selected
        <br />
        <span>Space selects and deselects</span>
      </h2>
      {sums.flatMap(([label, amounts]) => {
        const byCurrency = new Map<string, bigint>();
        for (const { minor, currency } of amounts) {
          byCurrency.set(currency, (byCurrency.get(currency) ?? 0n) + BigInt(minor));
        }
        return [...byCurrency].map(([currency, sum]) => (
          <div className="l sum" key={label + currency}>
            <span>
              {label} {currency}
            </span>
            <span>{money(Number(sum), currency)}</span>
          </div>
        ));
      })}
      <Tear />
    </Paper>
  );
}
