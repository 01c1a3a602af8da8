import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, got, keyed, newKey } from "../api/client";
import { useEverythingChanged } from "./bits";
import { FormAsk } from "./FormAsk";
import { useAttempt } from "./saving";

/** Views of a list that one kept: filters under a name. */
export function SavedViews({ room }: { room: string }) {
  const [params, setParams] = useSearchParams();
  const [asking, setAsking] = useState(false);
  const changed = useEverythingChanged();
  const attempt = useAttempt();
  const views = useQuery({
    queryKey: ["views", room],
    queryFn: () => got(api.GET("/api/views", { params: { query: { room } } })),
  });
  const query = params.toString();
  const now = views.data?.find((view) => view.query === query);
  const drop = async () => {
    if (now) {
      await attempt(() =>
        got(api.DELETE("/api/views/{id}", { params: { path: { id: now.id ?? 0 }, header: keyed(newKey()) } })),
      );
    }
  };
  return (
    <>
      <select
        aria-label="Saved views"
        value={now ? String(now.id) : ""}
        onChange={(event) => {
          const { value } = event.target;
          if (value === "keep") {
            setAsking(true);
          } else if (value === "drop") {
            void drop();
          } else {
            setParams(new URLSearchParams(views.data?.find((view) => String(view.id) === value)?.query ?? ""));
          }
        }}
      >
        <option value="">{query ? "this view" : "everything"}</option>
        {views.data?.map((view) => (
          <option key={view.id} value={view.id}>
            {view.name}
          </option>
        ))}
        {query && !now && <option value="keep">Save this view…</option>}
        {now && <option value="drop">Delete “{now.name}”</option>}
      </select>
      {asking && (
        <FormAsk
          title="Save this view"
          yes="Save"
          close={() => setAsking(false)}
          fields={[{ name: "name", label: "Name", hint: "as it stands in the list of views" }]}
          run={async (values, key) => {
            await got(
              api.PUT("/api/views", {
                params: { header: keyed(key) },
                body: { room, name: values.name ?? "", query },
              }),
            );
            await changed();
          }}
        />
      )}
    </>
  );
}
