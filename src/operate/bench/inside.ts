import { createHash } from "node:crypto";
import { join } from "node:path";
import { CodedError } from "@/core/codes";
import { compileSelection } from "@/core/selection/selection";
import {
  type Listed,
  type Listing,
  nowNanoseconds,
  type OpenFile,
  type SourceReader,
} from "@/sources/reader";
import { storeSource } from "@/sources/store-source";
import type { StoreKeys } from "@/store/seal/keys";
import type { ByteString } from "@/store/tree/tree";
import type { StoreWriter } from "@/store/write/writer";
import { OWNER, withConsole } from "./bench-console";
import { makeClientDepot } from "./client-depot";
import { type Figure, figure, inFolder, percentile, say } from "./ground";

/**
 * Looking inside a recovery point of a million files, over HTTP: folders as the tree of Restore opens them, a folder with
 * very many entries page by page, and a search through all of it.
 */
const FILES = Number(process.env.DEEPKEEP_BENCH_INSIDE_FILES ?? 1_000_000);
/** One folder holds a twentieth of all; the others are of a usual size. */
const LARGE = Math.floor(FILES / 20);
const IN_FOLDER = 95;
const FOLDERS = Math.ceil((FILES - LARGE) / IN_FOLDER);
const IN_SHELF = 100;
const LIMIT_MS = 200;
const TURNS = 60;

const number = (value: number, digits: number): string => String(value).padStart(digits, "0");
const shelf = (i: number): string => `shelf ${number(i, 4)}`;

/** An archive that is in no folder of this machine: what it lists and what its files hold follows from their names. */
class Archive implements SourceReader {
  look(path: ByteString): Listed {
    return this.entry(path.slice(path.lastIndexOf("/") + 1), "folder");
  }
  list(path: ByteString): Listing {
    return { at: nowNanoseconds(), items: this.itemsOf(path) };
  }
  private itemsOf(path: ByteString): Listed[] {
    const parts = path.split("/").slice(1);
    if (parts[0] !== "archive") throw new CodedError("folder.missing", path);
    if (parts.length === 1)
      return [
        this.entry("scans", "folder"),
        ...this.many(Math.ceil(FOLDERS / IN_SHELF), (i) => this.entry(shelf(i), "folder")),
      ];
    if (parts[1] === "scans") return this.many(LARGE, (i) => this.entry(`scan ${number(i, 7)}.tif`, "file"));
    const first = Number(parts[1]!.slice(6)) * IN_SHELF;
    if (parts.length === 2)
      return this.many(Math.min(IN_SHELF, FOLDERS - first), (i) =>
        this.entry(`box ${number(first + i, 6)}`, "folder"),
      );
    return this.many(IN_FOLDER, (i) => this.entry(`letter ${number(i, 3)}.txt`, "file"));
  }
  open(path: ByteString): OpenFile {
    const content = createHash("sha256").update(path).digest();
    return {
      size: content.length,
      extents: null,
      read: (into, at, length, position) =>
        content.copy(into, at, position, Math.min(content.length, position + length)),
      changed: () => false,
      xattrs: () => [],
      close: () => {},
    };
  }
  target(): ByteString {
    return "";
  }
  xattrs() {
    return [];
  }
  passesOver(): boolean {
    return false;
  }
  private many(count: number, make: (i: number) => Listed): Listed[] {
    return Array.from({ length: Math.max(0, count) }, (_, i) => make(i));
  }
  private entry(name: string, type: "file" | "folder"): Listed {
    const written = 1_790_000_000_000_000_000n + BigInt(name.length) * 1_000_000_000n;
    const size = type === "file" ? 32 : 0;
    const inode = 1n;
    return {
      name,
      type,
      mode: type === "file" ? 0o644 : 0o755,
      uid: 0,
      gid: 0,
      mtime: written,
      ctime: written,
      inode,
      size,
      allocated: size,
    };
  }
}

/** Stores the archive, as an agent would. */
const archived = async (writer: StoreWriter, keys: StoreKeys) =>
  storeSource({
    reader: new Archive(),
    writer,
    keys,
    folders: ["/archive"],
    selector: compileSelection({ folders: ["/archive"], include: [], exclude: [] }),
    previous: null,
    keepNode: () => {},
    note: (code, path) => {
      throw new Error(`${code} ${path}`);
    },
    progress: { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });

export const benchInside = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const depot = await makeClientDepot(join(folder, "depot"), "fast", archived);
    say(`${depot.counts.files.toLocaleString("en-GB")} files in a recovery point`);
    return withConsole(folder, {}, async (bench) => {
      await depot.adoptInto(bench.services);
      await bench.createOwner();
      const url = `${await bench.web()}/api/v1`;
      const signIn = await fetch(`${url}/sessions`, {
        method: "POST",
        headers: { "content-type": "application/json" },
        body: JSON.stringify(OWNER),
      });
      const cookie = signIn.headers
        .getSetCookie()
        .map((one) => one.split(";")[0])
        .join("; ");
      const asked = async (what: string, query: Record<string, string>) => {
        const began = performance.now();
        const answer = await fetch(
          `${url}/recovery-points/${depot.pointId.toString("hex")}/${what}?${new URLSearchParams(query)}`,
          { headers: { cookie } },
        );
        const body = (await answer.json()) as { entries: unknown[]; looked?: number };
        if (!answer.ok || body.entries.length === 0) throw new Error(JSON.stringify(body).slice(0, 300));
        return { ms: performance.now() - began, ...body };
      };
      const first = await asked("entries", { path: "/archive" });
      const step = Math.max(1, Math.floor(FOLDERS / TURNS));
      const usual: number[] = [];
      for (let i = 0; i < FOLDERS && usual.length < TURNS; i += step) {
        const path = `/archive/${shelf(Math.floor(i / IN_SHELF))}/box ${number(i, 6)}`;
        usual.push((await asked("entries", { path })).ms);
      }
      const large: number[] = [];
      for (let i = 0; i < TURNS; i += 1) {
        const name = `scan ${number(Math.floor((i * LARGE) / TURNS), 7)}.tif`;
        const after = Buffer.from(name).toString("base64url");
        large.push((await asked("entries", { path: "/archive/scans", after })).ms);
      }
      const search = await asked("search", { name: `box ${number(FOLDERS - 1, 6)}` });
      const again = await asked("search", { name: `box ${number(FOLDERS - 1, 6)}` });
      say(
        `the first listing of a web that has just started ${first.ms.toFixed(0)} ms; a folder of ${IN_FOLDER}: median ${percentile(usual, 0.5).toFixed(0)} ms; 500 of ${LARGE.toLocaleString("en-GB")}: median ${percentile(large, 0.5).toFixed(0)} ms; a search through ${search.looked?.toLocaleString("en-GB")} entries ${search.ms.toFixed(0)} ms, again ${again.ms.toFixed(0)} ms`,
      );
      return [
        figure("listing a folder, 95th percentile", "ms", percentile(usual, 0.95), "its limit", LIMIT_MS, 1),
        figure(
          "a page of a large folder, 95th percentile",
          "ms",
          percentile(large, 0.95),
          "its limit",
          LIMIT_MS,
          1,
        ),
      ];
    });
  });
