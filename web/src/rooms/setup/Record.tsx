import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { api, got } from "../../api/client";
import type { RecordRow } from "../../api/types";
import { moment, plural } from "../../format";
import { Chips, FilterField, Marked, RoomLinks, useFilter, Wrong } from "../../parts/bits";
import { DateFilter } from "../../parts/DateFilter";
import { STRETCH } from "../../parts/list";
import { type Column, Rows } from "../../parts/Rows";
import { Paper } from "../../parts/TapeRoll";
import { Changes, doerOf } from "../../parts/together";
import { placeOf } from "../../places";
import { useMay } from "../../shell/session";
import { Worktop } from "../../shell/Worktop";
import { setupLinks } from "./links";

/** History, and when. */
export function RecordRoom() {
  const navigate = useNavigate();
  const may = useMay()("see_record");
  const [search] = useFilter("q");
  const [person, setPerson] = useFilter("person");
  const [from, setFrom] = useFilter("from");
  const [to, setTo] = useFilter("to");
  const [current, setCurrent] = useState<RecordRow>();
  const people = useQuery({ queryKey: ["people"], queryFn: () => got(api.GET("/api/people")), enabled: may });
  const record = useInfiniteQuery({
    queryKey: ["record", search, person, from, to],
    queryFn: ({ pageParam }) =>
      got(
        api.GET("/api/record", {
          params: {
            query: {
              q: search || undefined,
              person: person ? Number(person) : undefined,
              from: from || undefined,
              to: to || undefined,
              limit: STRETCH,
              offset: pageParam,
            },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (_, pages) => {
      const shown = pages.reduce((sum, page) => sum + page.rows.length, 0);
      return shown < (pages[0]?.count ?? 0) ? shown : undefined;
    },
    placeholderData: keepPreviousData,
    enabled: may,
  });
  const rows = useMemo(() => record.data?.pages.flatMap((page) => page.rows) ?? [], [record.data]);
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = record;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) {
      fetchNextPage();
    }
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const open = (row: RecordRow | undefined) => row?.deed.document && navigate(placeOf(row.deed.document));
  const columns: Column<RecordRow>[] = [
    { key: "at", head: "When", width: "148px", cell: (row) => <Marked className="dim">{moment(row.at)}</Marked> },
    { key: "who", head: "Who", width: "128px", cell: (row) => row.doer.name },
    { key: "what", head: "What", width: "minmax(0, 1fr)", cell: (row) => <b>{row.deed.words}</b> },
    { key: "document", head: "Document", width: "112px", cell: (row) => row.deed.document?.number ?? "" },
    {
      key: "changes",
      head: "Values",
      width: "62px",
      right: true,
      cell: (row) => (row.deed.changes.length === 0 ? "" : row.deed.changes.length),
    },
  ];
  const count = record.data?.pages[0]?.count;
  return (
    <Worktop
      title="Record"
      sum={count !== undefined && plural(count, "thing done", "things done")}
      actions={[
        {
          key: "Enter",
          label: current?.deed.document ? `Open ${current.deed.document.number}` : "Open",
          run: () => open(current),
          primary: true,
          disabled: !current?.deed.document,
          shownOnly: true,
        },
      ]}
      tape={
        current && (
          <Paper>
            <h2>
              {current.deed.words}
              <br />
              <span>
                row {current.sequence} · {moment(current.at)}
              </span>
            </h2>
            <div className="l">
              <span>Who</span>
              <span>{doerOf(current)}</span>
            </div>
            <div className="l">
              <span>From</span>
              <span>{current.doer.from}</span>
            </div>
            {current.deed.document && (
              <div className="l">
                <span>What</span>
                <span>{current.deed.document.number}</span>
              </div>
            )}
            {current.deed.changes.length > 0 && <h3>Values</h3>}
            <Changes row={current} />
            <div className="words quiet" style={{ marginTop: 10 }}>
              Each row is sealed on the one before it. A row that was changed or taken out shows when the books are
              verified.
            </div>
          </Paper>
        )
      }
    >
      <Chips>
        <RoomLinks links={setupLinks} />
      </Chips>
      {!may && (
        <p>
          The whole audit log is for supervisors, auditors, and administrators. Each document shows its own on the tape.
        </p>
      )}
      {may && (
        <Chips>
          <FilterField label="Words or document" />
          <label>
            Who{" "}
            <select value={person} onChange={(event) => setPerson(event.target.value)}>
              <option value="">everyone</option>
              {people.data?.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </select>
          </label>
          <DateFilter label="From" value={from} set={setFrom} />
          <DateFilter label="To" value={to} set={setTo} />
        </Chips>
      )}
      {record.error && <Wrong error={record.error} />}
      {record.data && (
        <Rows
          label="Record"
          rows={rows}
          idOf={(row) => String(row.sequence)}
          columns={columns}
          onCurrent={setCurrent}
          onOpen={open}
          more={more}
          empty="Nothing fits. Clear the filter."
          rowHeight={34}
        />
      )}
    </Worktop>
  );
}
