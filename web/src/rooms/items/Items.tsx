import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { ItemRow } from "../../api/types";
import { number, plural, price } from "../../format";
import {
  Chips,
  ExportLink,
  FilterField,
  Marked,
  RoomLinks,
  StateChips,
  useBase,
  useFilter,
  Wrong,
} from "../../parts/bits";
import { STRETCH, useList } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Worktop } from "../../shell/Worktop";

/** Links between the pages about items. */
export const itemLinks: [to: string, label: string][] = [
  ["/items", "Items"],
  ["/items/prices", "Prices"],
];

/** What we sell, and what there is of it. */
export function ItemsRoom() {
  const base = useBase();
  const navigate = useNavigate();
  const [search] = useFilter("q");
  const [which] = useFilter("all");
  const list = useList({
    key: ["items", search, which],
    load: (offset: number) =>
      got(
        api.GET("/api/items", {
          params: { query: { q: search || undefined, sold: which !== "true", limit: STRETCH, offset } },
        }),
      ),
    rowsOf: (page) => page.items,
    place: "/items",
  });
  const { first, current, open } = list;
  const goods = (row: ItemRow, quantity: string) => (row.kind === "goods" && quantity !== "0" ? number(quantity) : "");
  const columns: Column<ItemRow>[] = [
    { key: "code", sort: (row) => row.code, head: "Item", width: "74px", cell: (row) => <b>{row.code}</b> },
    {
      key: "name",
      sort: (row) => row.name,
      head: "Name",
      width: "minmax(0, 1fr)",
      cell: (row) => (row.active ? row.name : <Marked className="dim">{row.name} · not sold any more</Marked>),
    },
    {
      key: "class",
      sort: (row) => row.class,
      head: "Class",
      width: "104px",
      cell: (row) => <Marked className="dim">{row.class}</Marked>,
    },
    { key: "unit", sort: (row) => row.unit, head: "Unit", width: "60px", cell: (row) => row.unit },
    {
      key: "hand",
      sort: (row) => Number(row.on_hand),
      head: "On hand",
      width: "76px",
      right: true,
      cell: (row) => goods(row, row.on_hand),
    },
    {
      key: "free",
      sort: (row) => Number(row.available),
      head: "Available",
      width: "82px",
      right: true,
      cell: (row) => goods(row, row.available),
    },
    {
      key: "back",
      sort: (row) => Number(row.back_ordered),
      head: "Back-ordered",
      width: "100px",
      right: true,
      cell: (row) => (row.back_ordered === "0" ? "" : <Marked className="heed">▲ {number(row.back_ordered)}</Marked>),
    },
    {
      key: "price",
      sort: (row) => Number(row.list_price),
      head: `List ${base}`,
      width: "86px",
      right: true,
      cell: (row) => price(row.list_price),
    },
  ];
  return (
    <Worktop
      title="Items"
      sum={first && plural(first.count, "item", "items")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.code}` : "Open",
          run: open,
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        { key: "n", label: "New item", run: () => navigate("/items/new"), needs: "keep_items" },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.name}
              <br />
              <span>
                {current.code}, {current.kind}
              </span>
            </h2>
            {current.kind === "goods" &&
              (
                [
                  ["on hand", current.on_hand],
                  ["reserved for orders", current.committed],
                  ["available", current.available],
                  ["orders wait for", current.back_ordered],
                  ["expected", current.expected],
                ] as const
              ).map(([label, quantity]) => (
                <div className="l" key={label}>
                  <span>{label}</span>
                  <span>
                    {number(quantity)} {current.unit}
                  </span>
                </div>
              ))}
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={itemLinks} />
        <span className="gap" />
        <FilterField label="Code or words" />
        <StateChips
          name="all"
          choices={[
            ["", "Sold"],
            ["true", "All"],
          ]}
        />
        <ExportLink list="items" />
      </Chips>
      {list.error && <Wrong error={list.error} />}
      {first && (
        <Rows
          label="Items"
          {...list.rows}
          columns={columns}
          empty="No item fits. Clear the filter, or press n to add one."
        />
      )}
    </Worktop>
  );
}
