"use client";

import { useEffect, useState } from "react";
import { formatBytes } from "@/core/units/bytes";
import { callApi, refusalOf } from "@/ui/parts/api";
import type { TreeEntry } from "@/ui/restore/file-tree";
import type { InsideProps } from "@/ui/restore/inside-props";
import { DUMP, GLOBALS, SCHEMA } from "./names";

interface Table {
  readonly schema: string;
  readonly name: string;
  readonly rows: number;
  readonly estimated: boolean;
  readonly bytes: number;
}
interface Database {
  readonly server: string;
  readonly database: string;
  readonly encoding: string;
  readonly bytes: number;
  readonly extensions: readonly string[];
  readonly tables: readonly Table[];
}
interface Looked {
  readonly definition: string;
  readonly columns: readonly string[];
  readonly rows: readonly (readonly (string | null)[])[];
  readonly more: boolean;
}

const fileEntry = (name: string, file: string): TreeEntry => ({
  name,
  path: `/${file}`,
  type: "file",
  size: null,
  modified: "",
  target: null,
  items: null,
});
const titleOf = ({ schema, name }: Table): string => (schema === "public" ? name : `${schema}.${name}`);

/** A database at a recovery point: what can be restored, its tables, and one of them with its definition and first rows. */
export function DatabaseInside({ address, inBasket, toggle, aside, heading = true }: InsideProps) {
  const [database, setDatabase] = useState<Database | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const [filter, setFilter] = useState("");
  const [open, setOpen] = useState<Table | null>(null);
  useEffect(() => {
    let current = true;
    setOpen(null);
    callApi<{ database: Database }>("GET", `${address}/database`).then(
      (answer) => current && setDatabase(answer.database),
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address]);
  const files = [
    [`Database ${database?.database ?? ""}`, DUMP],
    ["Definitions (SQL)", SCHEMA],
    ["Roles of the server (SQL)", GLOBALS],
  ] as const;
  const shown = (database?.tables ?? []).filter((table) =>
    titleOf(table).toLowerCase().includes(filter.trim().toLowerCase()),
  );
  return (
    <>
      <div className="flex items-center gap-3 px-4 py-[10px]">
        {heading && <h2 className="part-title">What</h2>}
        <input
          className="input w-full"
          data-filter
          placeholder="Filter tables by name…"
          aria-label="Filter tables by name"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
        />
        {aside}
      </div>
      <fieldset className="border-line flex flex-wrap gap-x-5 gap-y-1 border-b px-4 pb-3">
        <legend className="sr-only">To restore or download</legend>
        {files.map(([label, file]) => (
          <label key={file} className="flex min-h-[26px] items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={inBasket(fileEntry(label, file))}
              onChange={() => toggle(fileEntry(file === DUMP ? (database?.database ?? file) : file, file))}
            />
            {file === DUMP ? <b>{label}</b> : label}
          </label>
        ))}
      </fieldset>
      {problem && (
        <p className="refused mx-4 mt-2" role="alert">
          {problem}
        </p>
      )}
      {!database && !problem && <p className="text-soft px-4 py-2">Reading…</p>}
      {database && (
        <div className="flex min-h-0 flex-1 flex-col">
          <div
            className={`relative min-h-0 overflow-y-auto px-4 ${open ? "basis-[42%]" : "flex-1"}`}
            tabIndex={0}
          >
            <p className="text-soft py-2 text-[13px]">
              PostgreSQL {database.server} · {database.encoding} · {formatBytes(database.bytes)} on the server
              {database.extensions.length > 0 && ` · extensions: ${database.extensions.join(", ")}`}
            </p>
            <table className="grid-table table-fixed">
              <caption className="sr-only">Tables</caption>
              <thead>
                <tr>
                  <th scope="col">Table</th>
                  <th scope="col" className="w-[110px] text-right">
                    Rows
                  </th>
                  <th scope="col" className="w-[100px] text-right">
                    Size
                  </th>
                </tr>
              </thead>
              <tbody>
                {shown.map((table) => (
                  <tr key={titleOf(table)} className={open === table ? "bg-selected" : ""}>
                    <td className="!py-[4px]">
                      <button
                        type="button"
                        className="block w-full truncate text-left font-mono text-[13px]"
                        title={`${table.schema}.${table.name}`}
                        onClick={() => setOpen(table)}
                        data-table={`${table.schema}.${table.name}`}
                      >
                        {titleOf(table)}
                      </button>
                    </td>
                    <td className="!py-[4px] text-right">
                      {table.estimated && "about "}
                      {table.rows.toLocaleString("en-GB")}
                    </td>
                    <td className="!py-[4px] text-right">{formatBytes(table.bytes)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {shown.length === 0 && (
              <p className="text-soft py-2">
                {database.tables.length ? "No table has this in its name." : "This database has no tables."}
              </p>
            )}
          </div>
          {open && (
            <LookAtTable key={titleOf(open)} address={address} table={open} close={() => setOpen(null)} />
          )}
        </div>
      )}
    </>
  );
}

/** The definition and first rows of a table. */
function LookAtTable({ address, table, close }: { address: string; table: Table; close: () => void }) {
  const [looked, setLooked] = useState<Looked | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const [part, setPart] = useState<"rows" | "definition">("rows");
  const query = `schema=${encodeURIComponent(table.schema)}&name=${encodeURIComponent(table.name)}`;
  useEffect(() => {
    let current = true;
    callApi<{ table: Looked }>("GET", `${address}/database/table?${query}`).then(
      (answer) => current && setLooked(answer.table),
      (error) => current && setProblem(refusalOf(error)),
    );
    return () => {
      current = false;
    };
  }, [address, query]);
  return (
    <section className="border-line flex min-h-0 flex-1 flex-col border-t" aria-label="Table">
      <h3 className="flex items-center gap-3 px-4 pt-2 font-semibold">
        <span className="min-w-0 flex-1 truncate font-mono text-[13px]">{titleOf(table)}</span>
        {(["rows", "definition"] as const).map((one) => (
          <button
            key={one}
            type="button"
            className={`text-[13px] ${part === one ? "" : "text-soft font-normal underline"}`}
            aria-pressed={part === one}
            onClick={() => setPart(one)}
          >
            {one === "rows" ? "First rows" : "Definition"}
          </button>
        ))}
        <button type="button" className="text-soft text-[13px] font-normal underline" onClick={close}>
          Close
        </button>
      </h3>
      {problem && (
        <p className="refused mx-4" role="alert">
          {problem}
        </p>
      )}
      {!looked && !problem && <p className="text-soft px-4">Reading the dump…</p>}
      {looked && part === "definition" && (
        <pre className="min-h-0 flex-1 overflow-auto px-4 pb-3 text-[12.5px]" tabIndex={0}>
          {looked.definition}
        </pre>
      )}
      {looked && part === "rows" && (
        <div className="min-h-0 flex-1 overflow-auto px-4 pb-3" tabIndex={0}>
          {looked.rows.length === 0 ? (
            <p className="text-soft">The recovery point has no rows of this table.</p>
          ) : (
            <table className="grid-table w-max text-[12.5px]">
              <caption className="sr-only">First rows of {titleOf(table)}</caption>
              <thead>
                <tr>
                  {looked.columns.map((column) => (
                    <th key={column} scope="col" className="font-mono">
                      {column}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {looked.rows.map((row, at) => (
                  // rows have no other name
                  // biome-ignore lint/suspicious/noArrayIndexKey: they are shown in the order of the dump
                  <tr key={at}>
                    {row.map((value, column) => (
                      <td key={looked.columns[column]} className="max-w-[260px] truncate !py-[3px]">
                        {value ?? <span className="text-soft">null</span>}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {looked.more && (
            <p className="text-soft py-2">Only the first {looked.rows.length} rows are shown.</p>
          )}
        </div>
      )}
    </section>
  );
}
