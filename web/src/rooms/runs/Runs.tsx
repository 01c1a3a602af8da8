import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { Recipe, RunRow } from "../../api/types";
import { money, plural, shortDate } from "../../format";
import { Chips, Lines, Marked, RoomLinks, useBase, useEverythingChanged, useToday, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { rememberSequence } from "../../places";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { billingLinks } from "../Unbilled";

const days = ["", "Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays"];

/** What a recipe takes, in words. */
export function recipeWords(recipe: Recipe): string {
  const { form } = recipe;
  const who = (recipe.customer_names?.length ?? 0) > 0 ? recipe.customer_names?.join(", ") : "all customers";
  const how = {
    habit: "as each wants it",
    customer: "one invoice a customer",
    order: "one an order",
    shipment: "one a shipment",
  }[form.combine ?? "habit"];
  const which = [
    form.filter?.over_days ? `over ${form.filter.over_days - 1} days old` : "",
    form.filter?.currency ? `in ${form.filter.currency}` : "",
    form.filter?.search ? `with “${form.filter.search}”` : "",
  ].filter(Boolean);
  return [who, ...which, how].join(" · ");
}

/** Billing runs, and the recipes they are made from. */
export function RunsRoom() {
  const base = useBase();
  const today = useToday();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const may = useMay();
  const [current, setCurrent] = useState<RunRow>();
  const runs = useQuery({ queryKey: ["runs"], queryFn: () => got(api.GET("/api/runs", { params: { query: {} } })) });
  const recipes = useQuery({ queryKey: ["recipes"], queryFn: () => got(api.GET("/api/recipes")) });
  const open = (row: RunRow) => {
    rememberSequence((runs.data ?? []).map((one) => `/runs/${one.id}`));
    navigate(`/runs/${row.id}`);
  };
  const attempt = async (what: () => Promise<void>) => {
    try {
      await what();
    } catch (error) {
      say({ kind: "stop", text: error instanceof Problem ? error.message : String(error) });
    }
    await changed();
  };
  const repeat = (recipe: Recipe) =>
    attempt(async () => {
      const run = await got(
        api.POST("/api/recipes/{id}/run", { params: { path: { id: recipe.id ?? 0 }, header: keyed(newKey()) } }),
      );
      navigate(`/runs/${run}`);
    });
  const forget = (recipe: Recipe) =>
    attempt(async () => {
      await got(api.DELETE("/api/recipes/{id}", { params: { path: { id: recipe.id ?? 0 }, header: keyed(newKey()) } }));
      say({ kind: "done", text: `The recipe ${recipe.name} is gone. Its runs stay.` });
    });
  const due = recipes.data?.find((recipe) => recipe.due);
  const columns: Column<RunRow>[] = [
    { key: "name", head: "Run", width: "minmax(0, 1fr)", cell: (row) => row.name },
    { key: "made", head: "Made", width: "150px", cell: (row) => `${shortDate(row.made_on, today)} · ${row.person}` },
    {
      key: "state",
      head: "State",
      width: "150px",
      cell: (row) =>
        row.state === "posted" ? (
          <Marked className="done">posted</Marked>
        ) : row.state === "posting" ? (
          <Marked className="heed">▲ being posted</Marked>
        ) : (
          <Marked className="heed">▲ {plural(row.drafts, "draft", "drafts")}</Marked>
        ),
    },
    { key: "posted", head: "Posted", width: "80px", right: true, cell: (row) => row.posted || "" },
    {
      key: "base",
      head: `Total ${base}`,
      width: "112px",
      right: true,
      cell: (row) => (row.posted > 0 ? money(row.posted_base, base) : ""),
    },
  ];
  return (
    <Worktop
      title="Billing runs"
      sum={runs.data && plural(runs.data.length, "run", "runs")}
      actions={[
        {
          key: "Enter",
          label: current ? `Open ${current.name}` : "Open",
          run: () => current && open(current),
          primary: true,
          disabled: !current,
          shownOnly: true,
        },
        {
          key: "r",
          label: due ? `Make “${due.name}”` : "Make today's recipe",
          run: () => due && repeat(due),
          disabled: !due,
          needs: "run_billing",
        },
        { key: "u", label: "Unbilled", run: () => navigate("/billing") },
      ]}
      tape={
        <Paper>
          <h2>
            Runs begin in Unbilled
            <br />
            <span>from what is filtered or picked there</span>
          </h2>
          <div className="words">
            <kbd>r</kbd> in Unbilled makes a run of what is picked, or of everything shown. It lists its invoices as
            they will be; nothing is posted before you say so, and a run that is dropped leaves everything as it was.
          </div>
          <h3>Recipes</h3>
          <div className="words">
            A run can be kept as a recipe and made again: every Friday, these customers. Keep one from the run's own
            page.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
      </Chips>
      {(runs.error ?? recipes.error) && <Wrong error={(runs.error ?? recipes.error) as Error} />}
      {recipes.data && recipes.data.length > 0 && (
        <Lines label="Recipes">
          <thead>
            <tr>
              <th>Recipe</th>
              <th>Takes</th>
              <th>Meant for</th>
              <th aria-label="What to do with it" />
            </tr>
          </thead>
          <tbody>
            {recipes.data.map((recipe) => (
              <tr key={recipe.id}>
                <td>
                  <b>{recipe.name}</b>
                </td>
                <td>{recipeWords(recipe)}</td>
                <td>
                  {recipe.weekday ? days[recipe.weekday] : "any day"}
                  {recipe.due && <Marked className="heed"> ▲ today</Marked>}
                </td>
                <td className="right">
                  {may("run_billing") && (
                    <button type="button" className="quietly" onClick={() => repeat(recipe)}>
                      Make the run
                    </button>
                  )}{" "}
                  {may("keep_recipe") && (
                    <button
                      type="button"
                      className="quietly"
                      onClick={() => forget(recipe)}
                      aria-label={`Drop the recipe ${recipe.name}`}
                    >
                      ✕
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Lines>
      )}
      {runs.data && (
        <Rows
          label="Billing runs"
          rows={runs.data}
          idOf={(row) => String(row.id)}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          empty="No run yet. In Unbilled, r makes one of what is shown or picked."
        />
      )}
    </Worktop>
  );
}
