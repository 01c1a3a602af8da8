import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { rememberSequence } from "../places";
import { useFilter } from "./bits";
import { usePicks } from "./picks";

/** How many rows are asked for at a time. */
export const STRETCH = 200;

/** The most rows that are ordered on the screen: more are to be filtered first. */
export const MOST_ORDERED = 5_000;

interface Options<Page, Row> {
  /** What the list is and its filters: another key, another list. */
  key: unknown[];
  load: (offset: number) => Promise<Page>;
  rowsOf: (page: Page) => Row[];
  /** Where its rows open: `/orders`. */
  place: string;
}

const idOf = (row: { id: number }) => String(row.id);

/** A long list: asked for stretch by stretch as the end comes near, picked, opened, walked through. */
export function useList<Page extends { count: number }, Row extends { id: number }>(options: Options<Page, Row>) {
  const { key, load, rowsOf, place } = options;
  const navigate = useNavigate();
  const [current, setCurrent] = useState<Row>();
  const list = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) => load(pageParam),
    initialPageParam: 0,
    getNextPageParam: (_, pages) => {
      const shown = pages.reduce((sum, page) => sum + rowsOf(page).length, 0);
      return shown < (pages[0]?.count ?? 0) ? shown : undefined;
    },
    placeholderData: keepPreviousData,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: how rows are read from a page never changes.
  const rows = useMemo(() => list.data?.pages.flatMap(rowsOf) ?? [], [list.data]);
  const { picks, onPick, onAll, picked } = usePicks(rows, idOf);
  const onOpen = (row: Row, shown: Row[] = rows) => {
    rememberSequence(shown.map((one) => `${place}/${one.id}`));
    navigate(`${place}/${row.id}`);
  };
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) {
      fetchNextPage();
    }
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  // What is ordered is ordered as a whole: all that fits is asked for.
  const [order] = useFilter("sort");
  const count = list.data?.pages[0]?.count ?? 0;
  const whole = order !== "" && count <= MOST_ORDERED;
  useEffect(() => {
    if (whole) {
      more();
    }
  }, [whole, more]);
  return {
    /** The first stretch, with the totals of all. */
    first: list.data?.pages[0],
    current,
    picked,
    error: list.error,
    open: () => current && onOpen(current),
    /** What `Rows` takes. */
    rows: { rows, idOf, picks, onPick, onAll, onOpen, onCurrent: setCurrent, more, count },
  };
}
