"use client";

import { ChevronDown, ChevronRight } from "lucide-react";
import { DateTime } from "luxon";
import { type ReactNode, useCallback, useEffect, useState } from "react";
import { formatBytes, parseBytes } from "@/core/units/bytes";
import { ApiError, callApi } from "../parts/api";
import { clockText } from "../parts/moment";

export interface TreeEntry {
  readonly name: string;
  readonly path: string;
  readonly type: "file" | "folder" | "link";
  readonly size: number | null;
  readonly modified: string;
  readonly target: string | null;
  readonly items: number | null;
  /** Of a search over all points: the newest that has it. */
  readonly pointId?: string;
  readonly moment?: string;
}

interface Listing {
  readonly entries: readonly TreeEntry[];
  readonly total: number;
  readonly next: string | null;
}

const PAGE = 300;

/** The tree of a recovery point, or of a folder of it: browsed folder by folder, searched by name. */
export function FileTree({
  address,
  everywhere,
  root = "/",
  below = false,
  zone,
  startPath,
  inBasket,
  toggle,
  look,
  looked,
  heading = true,
  aside,
}: {
  /** Of the point in the API: below it are `/entries` and `/search`. */
  address: string;
  /** Of the search over all points in the API; null: there is none. */
  everywhere: string | null;
  root?: string;
  /** Searches below the root alone; where it is left out, the address sees nothing else. */
  below?: boolean;
  zone: string;
  startPath: string;
  inBasket: (entry: TreeEntry) => boolean;
  toggle: (entry: TreeEntry) => void;
  look: (entry: TreeEntry) => void;
  looked: string | null;
  /** Off where the step above says it. */
  heading?: boolean;
  /** Beside the search. */
  aside?: ReactNode;
}) {
  const [words, setWords] = useState("");
  const [more, setMore] = useState(false);
  const [limits, setLimits] = useState({ size: "", from: "", to: "" });
  const [asked, setAsked] = useState("");
  const [all, setAll] = useState(false);
  const [found, setFound] = useState<{ entries: readonly TreeEntry[]; looked: number; more: boolean } | null>(
    null,
  );
  const [listings, setListings] = useState<Readonly<Record<string, Listing>>>({});
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const [problem, setProblem] = useState<string | null>(null);
  /** What is searched for, as the API asks for it; null where a field says nothing that is understood. */
  const wanted = (): string | null => {
    const query = new URLSearchParams();
    if (words.trim()) query.set("name", words.trim());
    if (more && limits.size.trim()) {
      const bytes = parseBytes(limits.size);
      if (bytes === null) return null;
      query.set("sizeFrom", String(bytes));
    }
    const day = (text: string, plus: number) =>
      DateTime.fromISO(text, { zone }).plus({ days: plus }).toUTC().toISO()!;
    if (more && limits.from) query.set("changedFrom", day(limits.from, 0));
    if (more && limits.to) query.set("changedTo", day(limits.to, 1));
    return query.toString();
  };
  const load = useCallback(
    async (path: string, after: string | null = null) => {
      try {
        const page = await callApi<Listing>(
          "GET",
          `${address}/entries?path=${encodeURIComponent(path)}&limit=${PAGE}${after ? `&cursor=${encodeURIComponent(after)}` : ""}`,
        );
        setListings((before) => ({
          ...before,
          [path]: after ? { ...page, entries: [...(before[path]?.entries ?? []), ...page.entries] } : page,
        }));
        setProblem(null);
        return page;
      } catch (error) {
        if (!(error instanceof ApiError)) throw error;
        setProblem(error.problem.detail);
        return null;
      }
    },
    [address],
  );
  useEffect(() => {
    let current = true;
    // folders with a single folder in them open by themselves, down to where there is something to choose
    const descend = async (path: string) => {
      const page = await load(path);
      const only = page?.entries.length === 1 && page.entries[0]?.type === "folder" ? page.entries[0] : null;
      const wanted =
        only ??
        page?.entries.find(
          (entry) =>
            entry.type === "folder" && (startPath === entry.path || startPath.startsWith(`${entry.path}/`)),
        );
      if (!wanted || !current) return;
      setOpen((before) => new Set([...before, wanted.path]));
      await descend(wanted.path);
    };
    void descend(root);
    return () => {
      current = false;
    };
  }, [load, startPath, root]);
  useEffect(() => {
    if (!asked) {
      setFound(null);
      return;
    }
    let current = true;
    setFound(null);
    callApi<{ entries: TreeEntry[]; looked: number; more: boolean }>(
      "GET",
      `${all && everywhere ? everywhere : address}/search?${asked}${below ? `&below=${encodeURIComponent(root)}` : ""}`,
    ).then(
      (answer) => current && setFound(answer),
      (error) => error instanceof ApiError && setProblem(error.problem.detail),
    );
    return () => {
      current = false;
    };
  }, [asked, address, all, everywhere, below, root]);
  const flip = (entry: TreeEntry) => {
    const next = new Set(open);
    if (!next.delete(entry.path)) {
      next.add(entry.path);
      if (!listings[entry.path]) void load(entry.path);
    }
    setOpen(next);
  };
  const row = (entry: TreeEntry, depth: number, where: string | null) => (
    <tr key={`${entry.pointId ?? ""} ${entry.path}`} className={looked === entry.path ? "bg-selected" : ""}>
      <td className="!py-[4px]" style={{ paddingLeft: depth * 18 }}>
        <span className="flex min-w-0 items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            aria-label={`Add to basket: ${entry.name}`}
            checked={inBasket(entry)}
            onChange={() => toggle(entry)}
          />
          {entry.type === "folder" && !where ? (
            <button
              type="button"
              className="flex min-w-0 items-center gap-1 text-left"
              aria-expanded={open.has(entry.path)}
              onClick={() => flip(entry)}
              data-folder={entry.path}
            >
              {open.has(entry.path) ? (
                <ChevronDown size={14} aria-hidden="true" />
              ) : (
                <ChevronRight size={14} aria-hidden="true" />
              )}
              <span className="truncate">{entry.name}</span>
            </button>
          ) : (
            <button
              type="button"
              className="min-w-0 truncate pl-[18px] text-left"
              onClick={() => look(entry)}
              data-entry={entry.path}
              title={where ?? entry.name}
            >
              {entry.name}
              {entry.target !== null && <span className="text-soft"> → {entry.target}</span>}
              {where && <span className="text-soft font-mono text-[12px]"> {where}</span>}
              {entry.moment && (
                <span className="text-soft"> · last seen {clockText(new Date(entry.moment), zone)}</span>
              )}
            </button>
          )}
        </span>
      </td>
      <td className="num !py-[4px]">{entry.size === null ? "" : formatBytes(entry.size)}</td>
      <td className="text-soft !py-[4px] whitespace-nowrap max-[560px]:hidden">
        {entry.type === "folder"
          ? `${(entry.items ?? 0).toLocaleString("en-GB")} ${entry.items === 1 ? "item" : "items"}`
          : clockText(new Date(entry.modified), zone)}
      </td>
    </tr>
  );
  const rows = (path: string, depth: number): ReactNode[] => {
    const listing = listings[path];
    if (!listing) {
      return [
        <tr key={`${path} loading`}>
          <td colSpan={3} className="text-soft" style={{ paddingLeft: depth * 18 + 24 }}>
            Reading…
          </td>
        </tr>,
      ];
    }
    const made = listing.entries.flatMap((entry) => [
      row(entry, depth, null),
      ...(entry.type === "folder" && open.has(entry.path) ? rows(entry.path, depth + 1) : []),
    ]);
    if (listing.next) {
      made.push(
        <tr key={`${path} more`}>
          <td colSpan={3} style={{ paddingLeft: depth * 18 + 24 }}>
            <button
              type="button"
              className="text-primary underline"
              onClick={() => void load(path, listing.next)}
            >
              {`${listing.entries.length.toLocaleString("en-GB")} of ${listing.total.toLocaleString("en-GB")}; show more`}
            </button>
          </td>
        </tr>,
      );
    }
    return made;
  };
  return (
    <>
      <form
        className="flex items-center gap-3 px-4 py-[10px]"
        onSubmit={(event) => {
          event.preventDefault();
          const query = wanted();
          setProblem(query === null ? "Enter a size such as 20 MB." : null);
          if (query !== null) setAsked(query);
        }}
      >
        {heading && <h2 className="part-title">What</h2>}
        <input
          className="input w-full"
          data-filter
          placeholder="Search by name at this moment…"
          aria-label="Search by name at this moment"
          value={words}
          onChange={(event) => {
            setWords(event.target.value);
            if (!event.target.value) setAsked("");
          }}
        />
        <button
          type="button"
          className="text-soft text-[12.5px] whitespace-nowrap underline"
          aria-expanded={more}
          onClick={() => {
            if (more) setAsked("");
            setMore(!more);
          }}
        >
          size, date
        </button>
        <button type="submit" className="btn btn-plain">
          Search
        </button>
        {aside}
      </form>
      {more && (
        <div className="flex flex-wrap items-center gap-x-3 gap-y-2 px-4 pb-[8px]">
          <label className="flex items-center gap-2">
            size from
            <input
              className="input h-[30px] w-[88px]"
              placeholder="20 MB"
              aria-label="Size from"
              value={limits.size}
              onChange={(event) => setLimits({ ...limits, size: event.target.value })}
            />
          </label>
          <label className="flex items-center gap-2">
            changed from
            <input
              type="date"
              className="input h-[30px] w-[138px]"
              aria-label="Changed from"
              value={limits.from}
              onChange={(event) => setLimits({ ...limits, from: event.target.value })}
            />
          </label>
          <label className="flex items-center gap-2">
            to
            <input
              type="date"
              className="input h-[30px] w-[138px]"
              aria-label="Changed to"
              value={limits.to}
              onChange={(event) => setLimits({ ...limits, to: event.target.value })}
            />
          </label>
        </div>
      )}
      {everywhere && (words || more) && (
        <label className="text-soft flex items-center gap-2 px-4 pb-[8px]">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={all}
            onChange={(event) => setAll(event.target.checked)}
          />
          Search all recovery points, including deleted files
        </label>
      )}
      <div className="min-h-0 flex-1 overflow-y-auto px-4 pb-3" tabIndex={0}>
        {problem && (
          <p className="refused mb-2" role="alert">
            {problem}
          </p>
        )}
        <table className="grid-table table-fixed">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col" className="num w-[86px]">
                Size
              </th>
              <th scope="col" className="w-[140px] max-[560px]:hidden">
                Changed
              </th>
            </tr>
          </thead>
          <tbody>
            {found
              ? found.entries.map((entry) =>
                  row(entry, 0, entry.path.slice(0, entry.path.lastIndexOf("/")) || "/"),
                )
              : rows(root, 0)}
          </tbody>
        </table>
        {found && (
          <p className="text-soft py-2">
            {found.entries.length === 0
              ? `Nothing ${all ? "at any moment" : "at this moment"} ${more ? "is like that" : `is called “${words.trim()}”`}${all || !everywhere ? "" : "; search all recovery points"}.`
              : `${found.entries.length} found${found.more ? ", and more: enter more of the name" : ` among ${found.looked.toLocaleString("en-GB")}`}.`}
          </p>
        )}
      </div>
    </>
  );
}
