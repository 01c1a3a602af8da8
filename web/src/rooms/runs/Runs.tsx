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
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { billingLinks } from "../Unbilled";

const days = ["", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** What a recipe takes, in words. */
export function recipeWords(recipe: Recipe): string {
  const { form } = recipe;
  const who = (recipe.customer_names?.length ?? 0) > 0 ? recipe.customer_names?.join(", ") : "all customers";
  const how = {
    habit: "as each wants it",
    customer: "one invoice per customer",
    order: "one per order",
    shipment: "one per shipment",
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
  const [deleting, setDeleting] = useState<Recipe>();
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
          label: due ? `Make “${due.name}”` : "Make today's recurring run",
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
            <span>from what is filtered or selected there</span>
          </h2>
          <div className="words">
            <kbd>r</kbd> in Unbilled makes a run of what is selected, or of everything shown. It lists its invoices as
            they will be; nothing is posted before you say so, and a run that is deleted leaves everything as it was.
          </div>
          <h3>Recurring runs</h3>
          <div className="words">
            A run can be saved as a recurring run and made again: every Friday, these customers. Save one from the page
            of a run.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={billingLinks} />
      </Chips>
      {(runs.error ?? recipes.error) && <Wrong error={(runs.error ?? recipes.error) as Error} />}
      {recipes.data && recipes.data.length > 0 && (
        <Lines label="Recurring runs">
          <thead>
            <tr>
              <th>Recurring run</th>
              <th>Includes</th>
              <th>Every</th>
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
                      onClick={() => setDeleting(recipe)}
                      aria-label={`Delete recurring run ${recipe.name}`}
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
      {deleting && (
        <Ask
          title={`Delete recurring run ${deleting.name}?`}
          yes="Delete"
          close={() => setDeleting(undefined)}
          run={async (key) => {
            const path = { id: deleting.id ?? 0 };
            await got(api.DELETE("/api/recipes/{id}", { params: { path, header: keyed(key) } }));
            say({ kind: "done", text: `Recurring run ${deleting.name} is deleted. The runs it made stay.` });
            await changed();
          }}
        >
          The runs it made stay.
        </Ask>
      )}
      {runs.data && (
        <Rows
          label="Billing runs"
          rows={runs.data}
          idOf={(row) => String(row.id)}
          columns={columns}
          onOpen={open}
          onCurrent={setCurrent}
          empty="No run yet. In Unbilled, r makes one of what is shown or selected."
        />
      )}
    </Worktop>
  );
}
