// Lists that the service filters, sorts and pages: what is drawn is what was asked for, page by page, never the whole fleet.
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useState, type ReactNode } from "react";
import { Button } from "./ui";

/** One page of a list, as the service answers. */
export type Page<T> = { items: T[]; next?: string; total?: number };

/** Asks for a list page by page; the pages that are shown are asked for again every so many milliseconds. */
export function useList<P extends Page<unknown>>(key: unknown[], load: (cursor?: string) => Promise<P>, every: number) {
  const query = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) => load(pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    refetchInterval: every,
    placeholderData: keepPreviousData,
  });
  const pages = query.data?.pages ?? [];
  return { query, first: pages[0] as P | undefined, rows: pages.flatMap((p) => p.items) as P["items"][number][] };
}

/** A list that only grows, such as a journal: pages that are full are kept, and only the last one is asked for again. */
export function useGrowing<T>(
  key: unknown[],
  load: (cursor?: string) => Promise<{ items: T[]; next?: string }>,
  every: number | false,
) {
  const [kept, keep] = useState<{ rows: T[]; cursor?: string }>({ rows: [] });
  const query = useQuery({ queryKey: [...key, kept.cursor], queryFn: () => load(kept.cursor), refetchInterval: every });
  const page = query.data;
  useEffect(() => {
    const next = page?.next;
    if (next) keep((k) => (k.cursor === next ? k : { rows: [...k.rows, ...page.items], cursor: next }));
  }, [page]);
  return { query, rows: [...kept.rows, ...(page?.items ?? [])] };
}

/** What is typed into a search field, and what is asked for: that follows when there is time. */
export function useFind() {
  const [text, setText] = useState("");
  return { text, setText, find: useDeferredValue(text.trim()) || undefined };
}

export function Find({
  label,
  hint,
  text,
  onChange,
}: {
  label: string;
  hint: string;
  text: string;
  onChange: (text: string) => void;
}) {
  return (
    <input
      type="search"
      aria-label={label}
      placeholder={hint}
      value={text}
      onChange={(e) => onChange(e.target.value)}
      className="ml-auto w-72 rounded-sm border border-slate-400 bg-white px-2 py-1.5 dark:border-slate-600 dark:bg-deck"
    />
  );
}

/** Asks for the next page, where there is one. */
export function More({
  query,
}: {
  query: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
}) {
  if (!query.hasNextPage) return null;
  return (
    <Button className="mt-3" disabled={query.isFetchingNextPage} onClick={() => query.fetchNextPage()}>
      Show more
    </Button>
  );
}

/** How a list is sorted. */
export type Sort<K extends string> = { by: K; descending: boolean };

/** A column: its head, what stands in its cells, and by what the service sorts it. */
export type Column<T, K extends string = never> = {
  head: string;
  /** The head is read out but not shown. */
  bare?: boolean;
  sort?: K;
  className?: string;
  cell: (row: T) => ReactNode;
};

export function Table<T, K extends string = never>({
  columns,
  rows,
  id,
  sort,
  onSort,
  chosen,
  empty,
}: {
  columns: Column<T, K>[];
  rows: T[];
  id: (row: T) => string | number;
  sort?: Sort<K>;
  onSort?: (sort: Sort<K>) => void;
  /** Whether a row is the one that is shown elsewhere on the page. */
  chosen?: (row: T) => boolean;
  empty: ReactNode;
}) {
  return (
    <>
      <table className="w-full">
        <thead>
          <tr>
            {columns.map((c) => (
              <th
                key={c.head}
                aria-sort={sort && c.sort === sort.by ? (sort.descending ? "descending" : "ascending") : undefined}
              >
                {c.sort && onSort ? (
                  <button
                    type="button"
                    className="font-semibold"
                    onClick={() => onSort({ by: c.sort!, descending: sort?.by === c.sort && !sort?.descending })}
                  >
                    {c.head}
                    <span aria-hidden>{sort?.by === c.sort ? (sort?.descending ? " \u25be" : " \u25b4") : ""}</span>
                  </button>
                ) : (
                  <span className={c.bare ? "sr-only" : undefined}>{c.head}</span>
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr
              key={id(row)}
              className={`border-t border-line align-top hover:bg-slate-50 dark:border-nightline dark:hover:bg-slate-800 ${chosen?.(row) ? "bg-slate-100 dark:bg-slate-800" : ""}`}
            >
              {columns.map((c) => (
                <td key={c.head} className={c.className}>
                  {c.cell(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <p className="p-4">{empty}</p>}
    </>
  );
}
