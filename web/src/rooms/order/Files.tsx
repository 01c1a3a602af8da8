import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, got, keyed, newKey, Problem } from "../../api/client";
import type { ImportView } from "../../api/types";
import { moment, money, number, plural } from "../../format";
import { Chips, Facts, Lines, Marked, RoomLinks, Scroll, useEverythingChanged, Wrong } from "../../parts/bits";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Ask } from "../../shell/Ask";
import { useNotices } from "../../shell/notices";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { orderLinks } from "./links";

const columnsOf = {
  orders: {
    needed: "order, customer, item, quantity",
    maybe: "their_order, date, requested, promised, unit, price, discount, reason, warehouse, note, description",
  },
  shipments: {
    needed: "shipment, date, customer, item, quantity",
    maybe: "order, their_order, unit, price, carrier, consignment, description",
  },
} as const;

type Kind = keyof typeof columnsOf;

function FileState({ state }: { state: string }) {
  if (state === "taken_over") {
    return <Marked className="done">● imported</Marked>;
  }
  return state === "dropped" ? <Marked className="dim">○ deleted</Marked> : <Marked className="heed">▲ checked</Marked>;
}

/** Files of orders, and of shipments that left elsewhere. */
export function FilesRoom() {
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const may = useMay()("import");
  const files = useQuery({ queryKey: ["imports"], queryFn: () => got(api.GET("/api/imports")) });
  const [current, setCurrent] = useState<ImportView>();
  const [wrong, setWrong] = useState<Problem>();
  const [reading, setReading] = useState(false);
  const field = useRef<HTMLInputElement>(null);
  const kind = useRef<Kind>("shipments");
  const choose = (of: Kind) => {
    kind.current = of;
    field.current?.click();
  };
  const read = async (file: File | undefined) => {
    if (!file) {
      return;
    }
    setReading(true);
    setWrong(undefined);
    try {
      const id = await got(
        api.POST("/api/imports", {
          params: { header: keyed(newKey()), query: { kind: kind.current, name: file.name } },
          body: await file.text(),
          bodySerializer: (text) => text,
          headers: { "Content-Type": "text/csv" },
        }),
      );
      await changed();
      navigate(`/orders/files/${id}`);
    } catch (error) {
      setWrong(error instanceof Problem ? error : new Problem({ title: String(error) }));
    } finally {
      setReading(false);
    }
  };
  const open = (row: ImportView | undefined) => row && navigate(`/orders/files/${row.id}`);
  const columns: Column<ImportView>[] = [
    { key: "name", head: "File", width: "minmax(0, 1fr)", cell: (row) => <b>{row.name}</b> },
    { key: "kind", head: "Holds", width: "100px", cell: (row) => row.kind },
    { key: "lines", head: "Lines", width: "90px", right: true, cell: (row) => number(String(row.lines)) },
    { key: "documents", head: "Documents", width: "100px", right: true, cell: (row) => number(String(row.documents)) },
    { key: "who", head: "Read by", width: "130px", cell: (row) => row.person },
    { key: "when", head: "When", width: "160px", cell: (row) => moment(row.made_at) },
    { key: "state", head: "State", width: "110px", cell: (row) => <FileState state={row.state} /> },
  ];
  return (
    <Worktop
      title="Files"
      sum={reading ? "Reading the file…" : "orders and shipments from elsewhere"}
      actions={[
        {
          key: "s",
          label: "Read shipments",
          run: () => choose("shipments"),
          primary: true,
          disabled: reading,
          needs: "import",
        },
        { key: "n", label: "Read orders", run: () => choose("orders"), disabled: reading, needs: "import" },
        {
          key: "Enter",
          label: current ? `Open ${current.name}` : "Open",
          run: () => open(current),
          disabled: !current,
          shownOnly: true,
        },
      ]}
      tape={
        <Paper>
          {(["shipments", "orders"] as const).map((of) => (
            <div key={of}>
              <h3>A file of {of}</h3>
              <div className="words">
                CSV in UTF-8, its first line naming the columns: <b>{columnsOf[of].needed}</b>. There may be{" "}
                {columnsOf[of].maybe}.
              </div>
            </div>
          ))}
          <h3>What becomes of it</h3>
          <div className="words">
            It is checked line by line first. Then all of it is imported, or nothing. Shipments have left a warehouse
            others keep the stock of: no stock and no cost here, but they are there to be billed. Dates are written
            2026-03-18, decimals with a point.
          </div>
        </Paper>
      }
    >
      <Chips>
        <RoomLinks links={orderLinks} />
        <input
          ref={field}
          type="file"
          accept=".csv,text/csv"
          aria-label="File to read"
          style={{ width: 1, height: 1, padding: 0, border: 0, opacity: 0 }}
          tabIndex={-1}
          disabled={!may}
          onChange={(event) => {
            read(event.target.files?.[0]);
            event.target.value = "";
          }}
        />
      </Chips>
      {wrong && (
        <p role="alert" style={{ margin: "0 0 8px" }}>
          <Wrong error={wrong} />
        </p>
      )}
      {files.error && <Wrong error={files.error} />}
      {files.data && (
        <Rows
          label="Files"
          rows={files.data}
          idOf={(row) => String(row.id)}
          columns={columns}
          onCurrent={setCurrent}
          onOpen={open}
          empty="No file was read yet. Press s for one of shipments, n for one of orders."
        />
      )}
    </Worktop>
  );
}

/** A file with what it comes to, and what is wrong with it line by line. */
export function FileRoom() {
  const { id = "" } = useParams();
  const navigate = useNavigate();
  const changed = useEverythingChanged();
  const { say } = useNotices();
  const [asking, setAsking] = useState<"take" | "drop">();
  const [confirm, setConfirm] = useState(true);
  const [running, setRunning] = useState(false);
  const file = useQuery({
    queryKey: ["import", id],
    queryFn: () => got(api.GET("/api/imports/{id}", { params: { path: { id: Number(id) } } })),
  });
  const progress = useQuery({
    queryKey: ["import-progress", id],
    queryFn: () => got(api.GET("/api/imports/{id}/progress", { params: { path: { id: Number(id) } } })),
    refetchInterval: 700,
    enabled: running,
  });
  const view = file.data?.file;
  const check = file.data?.check;
  if (!view) {
    return (
      <Worktop title="File" actions={[]} back="/orders/files">
        {file.error && <Wrong error={file.error} />}
      </Worktop>
    );
  }
  const clean = check && check.problem_count === 0 && check.documents > 0;
  const what = plural(check?.documents ?? view.documents, view.kind.slice(0, -1), view.kind);
  return (
    <Worktop
      title={view.name}
      sum={`${plural(view.lines, "line", "lines")}, ${what}`}
      back="/orders/files"
      actions={[
        {
          key: "p",
          label: `Import ${what}`,
          run: () => setAsking("take"),
          primary: true,
          disabled: !clean || running,
          needs: "import",
        },
        {
          key: "x",
          label: "Delete file…",
          run: () => setAsking("drop"),
          disabled: view.state !== "checked",
          needs: "import",
        },
      ]}
      tape={
        <Paper>
          <h2>
            {view.name}
            <br />
            <span>
              {view.kind}, read by {view.person}
            </span>
          </h2>
          {running && progress.data && (
            <>
              <div className="l">
                <span>imported</span>
                <span>
                  {number(String(progress.data.done))} of {number(String(progress.data.total))}
                </span>
              </div>
              <progress
                aria-label="Lines imported"
                max={Math.max(progress.data.total, 1)}
                value={progress.data.done}
                style={{ width: "100%", accentColor: "var(--fill)" }}
              />
            </>
          )}
          {check && (
            <>
              <div className="l">
                <span>lines</span>
                <span>{number(String(check.lines))}</span>
              </div>
              <div className="l">
                <span>{view.kind}</span>
                <span>{number(String(check.documents))}</span>
              </div>
              {Object.entries(check.sums).map(([currency, sum]) => (
                <div className="l sum" key={currency}>
                  <span>Net {currency}</span>
                  <span>{money(sum, currency)}</span>
                </div>
              ))}
              <div className="words quiet">
                {check.problem_count > 0
                  ? `${plural(check.problem_count, "line", "lines")} to fix. Until then nothing is imported.`
                  : "Everything can be read. No entry: orders write none, and the goods left elsewhere."}
              </div>
            </>
          )}
        </Paper>
      }
    >
      <Facts
        facts={[
          ["State", <FileState key="s" state={view.state} />],
          ["Read", moment(view.made_at)],
        ]}
      />
      <Scroll>
        {check && check.problems.length > 0 && (
          <Lines label="What is wrong">
            <thead>
              <tr>
                <th>Line</th>
                <th>Column</th>
                <th>What is wrong</th>
              </tr>
            </thead>
            <tbody>
              {check.problems.map((problem, at) => (
                <tr key={at}>
                  <td>{problem.line}</td>
                  <td>{problem.column}</td>
                  <td>
                    <Marked className="stop">◆ {problem.sentence}</Marked>
                  </td>
                </tr>
              ))}
            </tbody>
          </Lines>
        )}
        {check && check.first.length > 0 && (
          <Lines label="What it makes">
            <thead>
              <tr>
                <th>In the file</th>
                <th>Customer</th>
                <th className="right">Lines</th>
                <th className="right">Net</th>
              </tr>
            </thead>
            <tbody>
              {check.first.map((one) => (
                <tr key={one.number}>
                  <td>{one.number}</td>
                  <td>{one.customer_name}</td>
                  <td className="right">{one.lines}</td>
                  <td className="right">
                    {one.currency} {money(one.net, one.currency)}
                  </td>
                </tr>
              ))}
              {check.documents > check.first.length && (
                <tr>
                  <td colSpan={4}>
                    <Marked className="dim">and {number(String(check.documents - check.first.length))} more</Marked>
                  </td>
                </tr>
              )}
            </tbody>
          </Lines>
        )}
      </Scroll>
      {asking === "take" && check && (
        <Ask
          title={`Import ${what}?`}
          yes={`Import ${what}`}
          busyWords="Taking over…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            setRunning(true);
            try {
              const done = await got(
                api.POST("/api/imports/{id}/take-over", {
                  params: { path: { id: view.id }, header: keyed(key) },
                  body: { confirm },
                }),
              );
              say({
                kind: "done",
                text: `${plural(done.documents, view.kind.slice(0, -1), view.kind)} with ${plural(done.lines, "line", "lines")}: ${done.first} to ${done.last}${
                  done.confirmed == null ? ", there to be billed" : `, ${done.confirmed} of them confirmed`
                }.`,
                links: [
                  view.kind === "orders"
                    ? { text: "Look at the orders", to: "/orders" }
                    : { text: "Bill them", to: "/billing" },
                ],
              });
              await changed();
            } finally {
              setRunning(false);
            }
          }}
        >
          All of it, or nothing.{" "}
          {Object.entries(check.sums)
            .map(([currency, sum]) => `${currency} ${money(sum, currency)} net`)
            .join(", ")}
          .
          {view.kind === "orders" && (
            <FormControlLabel
              sx={{ marginTop: 1 }}
              label="Confirm the orders that nothing blocks"
              control={<Checkbox checked={confirm} onChange={(event) => setConfirm(event.target.checked)} />}
            />
          )}
        </Ask>
      )}
      {asking === "drop" && (
        <Ask
          title={`Delete ${view.name}?`}
          yes="Delete file"
          busyWords="Deleting…"
          close={() => setAsking(undefined)}
          run={async (key) => {
            await got(api.DELETE("/api/imports/{id}", { params: { path: { id: view.id }, header: keyed(key) } }));
            say({ kind: "done", text: `${view.name} is deleted. Nothing of it was imported.` });
            await changed();
            navigate("/orders/files");
          }}
        >
          Nothing of it was imported; nothing changes.
        </Ask>
      )}
    </Worktop>
  );
}
