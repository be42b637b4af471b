import { mkdirSync, rmSync, utimesSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { XMLParser } from "fast-xml-parser";
import { LIBRARY_ACCESS } from "@/kinds/library/connect";
import { libraryWhat } from "@/kinds/library/what";
import { type PreviousTree, storeSource } from "@/sources/store-source";
import { LibraryServer } from "@/standins/library/server";
import { idKey } from "@/store/tree/tree";
import { StoreWriter } from "@/store/write/writer";
import { sideBySide } from "./beside";
import { BenchmarkDepot, type Figure, figure, inFolder, say } from "./ground";

const FILES = Number(process.env.DEEPKEEP_BENCH_LIBRARY_FILES ?? 20_000);
const IN_A_FOLDER = 100;
const USER = "bench";
const SECRET = "sesame";
/** A change of long ago, milliseconds since 1970. */
const LONG_AGO = 1_750_000_000_000;

/** An unchanged run of a library beside a plain walk of its folders by PROPFIND. */
export const benchLibrary = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const root = join(folder, "library");
    fill(root);
    const server = new LibraryServer({ folder: root });
    const address = `${await server.listen(0)}/dav/`;
    try {
      const connection = {
        address,
        secret: SECRET,
        settings: { auth: "password" as const, user: USER, teams: "", people: "", region: "bench" },
      };
      const run = async (depot: BenchmarkDepot, previous: PreviousTree | null) => {
        const started = performance.now();
        const { reader, folders } = await LIBRARY_ACCESS.open(connection, "/", libraryWhat.parse({}), {
          sourceId: "00000000-0000-4000-8000-000000000000",
          previous: null,
        });
        const writer = new StoreWriter(depot.keys, depot);
        const nodes = new Map<string, Uint8Array>();
        const { root: tree } = await storeSource({
          reader,
          writer,
          keys: depot.keys,
          folders,
          selector: { takesFolder: () => true, takesFile: () => true },
          previous,
          keepNode: (id, bytes) => bytes && nodes.set(idKey(id), bytes),
          note: (_code, path, message) => {
            throw new Error(`${path}: ${message}`);
          },
          progress: { items: 0, bytes: 0 },
          signal: new AbortController().signal,
        });
        const stored = await writer.close();
        return {
          seconds: (performance.now() - started) / 1000,
          tree: { root: tree, bytes: (id: Uint8Array) => nodes.get(idKey(id)) ?? previous!.bytes(id) },
          newBytes: stored.newBytes,
        };
      };
      const at = join(folder, "depot");
      const depot = new BenchmarkDepot(at);
      const first = await run(depot, null);
      say(`  first run of ${FILES.toLocaleString("en-GB")} files: ${first.seconds.toFixed(1)} s`);
      const beside = await sideBySide(
        "a library",
        async () => {
          const { seconds, newBytes } = await run(depot, first.tree);
          if (newBytes > 0) throw new Error(`an unchanged run stored ${newBytes} bytes`);
          return seconds;
        },
        () => walk(address),
      );
      rmSync(at, { recursive: true });
      return [
        figure("a library, unchanged run", "s", beside.ours, "a plain PROPFIND walk", beside.theirs, 1.2),
      ];
    } finally {
      await server.close();
    }
  });

function fill(root: string): void {
  for (let i = 0; i < FILES; i += 1) {
    const folder = join(root, "files", `Folder ${Math.floor(i / IN_A_FOLDER)}`);
    if (i % IN_A_FOLDER === 0) mkdirSync(folder, { recursive: true });
    const file = join(folder, `Sheet ${i}.txt`);
    writeFileSync(file, `${i} the tide came in over the slipway\n`);
    utimesSync(file, LONG_AGO / 1000, LONG_AGO / 1000);
  }
  writeFileSync(
    join(root, "accounts.json"),
    JSON.stringify({ people: [{ name: USER, password: SECRET }], clients: [] }),
  );
}

/** Lists every folder, one after another, with a parser and nothing else; returns seconds. */
async function walk(address: string): Promise<number> {
  const started = performance.now();
  const headers = {
    authorization: `Basic ${Buffer.from(`${USER}:${SECRET}`).toString("base64")}`,
    depth: "1",
  };
  const parser = new XMLParser({ removeNSPrefix: true });
  const waiting = [address];
  let files = 0;
  for (let url = waiting.pop(); url; url = waiting.pop()) {
    const answer = await fetch(url, { method: "PROPFIND", headers });
    const { multistatus } = parser.parse(await answer.text()) as {
      multistatus: { response: { href: string; propstat: { prop: { resourcetype: unknown } } }[] };
    };
    for (const { href, propstat } of [multistatus.response].flat()) {
      const at: string = new URL(href, url).href;
      if (at === url) continue;
      if (typeof propstat.prop.resourcetype === "object") waiting.push(at);
      else files += 1;
    }
  }
  if (files !== FILES) throw new Error(`the walk found ${files} files`);
  return (performance.now() - started) / 1000;
}
