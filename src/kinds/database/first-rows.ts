import { CodedError } from "@/core/codes";
import { fileBytes } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import type { Entry } from "@/store/tree/tree";
import { newestPrograms } from "./programs";
import { type Ran, runProgram } from "./server";

export interface TableLook {
  /** Statements that create it. */
  readonly definition: string;
  readonly columns: readonly string[];
  /** First rows; null is NULL. Long values are cut. */
  readonly rows: readonly (readonly (string | null)[])[];
  /** There are more rows. */
  readonly more: boolean;
}

export const ROWS_SHOWN = 50;
const VALUE_SHOWN = 300;
const DEFINITION_SHOWN = 64 * 1024;
/** Rows may be as wide as a gigabyte: so many characters of the output are read. */
const OUTPUT_MOST = 8 * 1024 * 1024;
/** A table at the end of a large dump takes as long as reading what is before it. */
const LONGEST_MS = 60_000;

const ESCAPES: Readonly<Record<string, string>> = { b: "\b", f: "\f", n: "\n", r: "\r", t: "\t", v: "\v" };
/** A value of COPY's text format. */
export const copyValue = (text: string): string | null =>
  text === "\\N" ? null : text.replaceAll(/\\(.)/gs, (_, one: string) => ESCAPES[one] ?? one);

/** The first rows in the output of `pg_restore --data-only`. `more`: another row follows. */
export function rowsOf(
  lines: readonly string[],
  /** There is more output than was read: what is there is all that is shown. */
  cut = false,
): Pick<TableLook, "columns" | "rows" | "more"> | null {
  const begin = lines.findIndex((line) => /^COPY .* FROM stdin;$/.test(line));
  if (begin < 0) return null;
  const named = /\((.*)\) FROM stdin;$/.exec(lines[begin]!)?.[1] ?? "";
  const columns = [...named.matchAll(/"((?:[^"]|"")*)"|([^\s,]+)/g)].map(
    ([, quoted, plain]) => quoted?.replaceAll('""', '"') ?? plain!,
  );
  const rows: (string | null)[][] = [];
  for (const line of lines.slice(begin + 1)) {
    if (line === "\\.") return { columns, rows, more: false };
    if (rows.length === ROWS_SHOWN) return { columns, rows, more: true };
    rows.push(
      line.split("\t").map((text) => {
        const value = copyValue(text);
        return value !== null && value.length > VALUE_SHOWN ? `${value.slice(0, VALUE_SHOWN)}…` : value;
      }),
    );
  }
  // otherwise the end has not come yet
  return cut ? { columns, rows, more: true } : null;
}

/**
 * What a dump says of one table, without restoring it: pg_restore reads the dump from the store as far as it has to. Throws
 * `file.unreadable` where it takes too long or the dump cannot be read.
 */
export async function lookAtTable(
  store: ChunkReader,
  dump: Entry,
  schema: string,
  table: string,
  longestMs = LONGEST_MS,
): Promise<TableLook> {
  const { folder } = await newestPrograms();
  const ask = (...args: string[]) =>
    runProgram(`${folder}/pg_restore`, [...args, `--schema=${schema}`, `--table=${table}`, "--file=-"], {
      PATH: "/usr/bin:/bin",
      LC_ALL: "C",
    });
  const until = Date.now() + longestMs;
  const definition = await output(
    ask("--schema-only", "--no-owner", "--no-privileges"),
    store,
    dump,
    until,
    (text) => (text.length > DEFINITION_SHOWN ? text : null),
  );
  const rows = await output(ask("--data-only"), store, dump, until, (text) =>
    rowsOf(text.split("\n").slice(0, -1)) ? text : null,
  );
  return {
    definition: statementsOf(definition).slice(0, DEFINITION_SHOWN),
    ...(rowsOf(rows.split("\n").slice(0, -1), rows.length >= OUTPUT_MOST) ?? {
      columns: [],
      rows: [],
      more: false,
    }),
  };
}

/** Without comments and settings of the session. */
const statementsOf = (text: string): string =>
  text
    .split("\n")
    .filter((line) => !/^(--|\\(un)?restrict |SET |SELECT pg_catalog\.set_config)/.test(line))
    .join("\n")
    .replaceAll(/\n{3,}/g, "\n\n")
    .trim();

/** What a program says of a dump, until `enough` finds that it suffices, or to its end. */
async function output(
  { child, stdin, stdout, ended }: Ran,
  store: ChunkReader,
  dump: Entry,
  until: number,
  enough: (text: string) => string | null,
): Promise<string> {
  let text = "";
  let done = false;
  const finish = () => {
    done = true;
    child.kill("SIGKILL");
  };
  const timer = setTimeout(finish, Math.max(0, until - Date.now()));
  stdout.setEncoding("utf8");
  stdout.on("data", (part: string) => {
    text += part;
    if (text.length >= OUTPUT_MOST || enough(text) !== null) finish();
  });
  try {
    for await (const part of fileBytes(store, dump, 0, dump.size ?? 0)) {
      if (done || child.exitCode !== null) break;
      if (!stdin.write(part))
        await Promise.race([new Promise((resolve) => stdin.once("drain", resolve)), ended.catch(() => {})]);
    }
    stdin.end();
    await ended.catch((error: Error) => {
      if (text.length >= OUTPUT_MOST || enough(text) !== null) return;
      if (Date.now() >= until)
        throw new CodedError("file.unreadable", "reading the dump this far takes too long");
      throw new CodedError("file.unreadable", error.message);
    });
    return text;
  } finally {
    clearTimeout(timer);
    child.kill("SIGKILL");
  }
}
