import type { MergeView } from "../../api/types";

/** What others did to a draft, each with what it was and what it is. */
export function SinceLines({ since }: { since: MergeView["since"] }) {
  return since.map((row) => (
    <li key={row.sequence}>
      {row.doer.name} {row.deed.words}
      {row.deed.changes.map((change) => (
        <div key={change.field}>
          {change.field}: {change.from ?? "–"} → {change.to ?? "–"}
        </div>
      ))}
    </li>
  ));
}
