import type { GoodsSettings, Marks } from "../../api/types";
import { type Faults, Field } from "../../parts/form";

interface Props {
  goods: GoodsSettings | undefined;
  place: "order" | "line";
  marks: Marks;
  change: (marks: Marks) => void;
  prefix?: string;
  faults?: Faults;
}

/** The company's custom fields and reporting codes, on an order or a line. */
export function MarkFields({ goods, place, marks, change, prefix = "", faults }: Props) {
  const set = (part: "fields" | "codes", key: string, value: string) =>
    change({ ...marks, [part]: { ...marks[part], [key]: value } });
  return (
    <>
      {(goods?.marks.lists ?? []).map((list) => (
        <Field
          key={list.key}
          label={list.name}
          name={`${prefix}codes.${list.key}`}
          value={marks.codes?.[list.key] ?? ""}
          onChange={(value) => set("codes", list.key, value)}
          faults={faults}
          choices={[
            ["", place === "line" ? "as the order" : "none"],
            ...list.codes
              .filter((code) => code.active)
              .map((code) => [code.code, `${code.code} · ${code.name}`] as const),
          ]}
        />
      ))}
      {(goods?.marks.fields ?? [])
        .filter((field) => field.place === place && field.active)
        .map((field) => (
          <Field
            key={field.key}
            label={field.required ? `${field.label}, required` : field.label}
            name={`${prefix}fields.${field.key}`}
            value={marks.fields?.[field.key] ?? ""}
            onChange={(value) => set("fields", field.key, value)}
            faults={faults}
            {...(field.kind === "date" && { type: "date" as const })}
            right={field.kind === "number"}
            choices={
              field.kind === "choice"
                ? [["", "none"], ...field.choices.map((choice) => [choice, choice] as const)]
                : field.kind === "yes_no"
                  ? [
                      ["", "not said"],
                      ["yes", "yes"],
                      ["no", "no"],
                    ]
                  : undefined
            }
          />
        ))}
    </>
  );
}
