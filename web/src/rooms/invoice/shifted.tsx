import type { InvoiceView, MergeView, Tape } from "../../api/types";
import { money } from "../../format";
import { Ask } from "../../shell/Ask";
import { SinceLines } from "./since";

/** A figure of the tape that is not what it was; nothing where the line came or went. */
export interface Shift {
  label: string;
  before: number | undefined;
  after: number | undefined;
}

const amounts = (tape: Tape): Map<string, number> => {
  const found = new Map<string, number>();
  for (const line of tape.lines) {
    if (line.amount != null) {
      // The same label may stand there more than once.
      let label = line.label;
      while (found.has(label)) {
        label = `${label} again`;
      }
      found.set(label, line.amount);
    }
  }
  return found;
};

/** What differs between two tapes, in the order of the later one; what is gone comes last. */
export function shifts(before: Tape, after: Tape): Shift[] {
  const was = amounts(before);
  const is = amounts(after);
  const labels = [...new Set([...is.keys(), ...was.keys()])];
  return labels
    .map((label) => ({ label, before: was.get(label), after: is.get(label) }))
    .filter((one) => one.before !== one.after);
}

/** What happened to a draft between looking at it and posting it. */
export interface Shifted {
  since: MergeView["since"];
  figures: Shift[];
  currency: string;
}

export function shiftedBetween(before: InvoiceView, after: InvoiceView, since: MergeView["since"]): Shifted {
  return { since, figures: shifts(before.tape, after.tape), currency: after.tape.currency };
}

/** Nothing was posted: what changed since it was looked at. The draft as it is now is behind it, and can be posted. */
export function ShiftedAsk({ shifted, name, close }: { shifted: Shifted; name: string; close: () => void }) {
  const figure = (amount: number | undefined) => (amount === undefined ? "–" : money(amount, shifted.currency));
  return (
    <Ask
      title={`The draft for ${name} is not what you looked at`}
      yes="Look at it as it is now"
      close={close}
      run={async () => undefined}
    >
      <div>Nothing was posted. Since you looked:</div>
      <ul style={{ margin: "8px 0", paddingLeft: 18 }}>
        <SinceLines since={shifted.since} />
        {shifted.figures.map((one) => (
          <li key={one.label}>
            {one.label}: {figure(one.before)} → {figure(one.after)}
          </li>
        ))}
        {shifted.since.length + shifted.figures.length === 0 && <li>A date or what was billed before it.</li>}
      </ul>
    </Ask>
  );
}
