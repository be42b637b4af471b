import { createWriteStream, mkdirSync, readFileSync } from "node:fs";
import { Readable } from "node:stream";
import { pipeline } from "node:stream/promises";
import { Command } from "commander";
import { CODES, CodedError } from "@/core/codes";
import type { SpaceId } from "@/core/ids";
import { groupsToKey } from "@/core/keysheet/keysheet";
import { formatBytes, parseBytes } from "@/core/units/bytes";
import { verifyTrail } from "@/db/access/trail";
import { restoreFiles } from "@/kinds/files/writer";
import { makeServices } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { readDescription } from "@/server/depots/depot-test";
import { DEPOT_FILE, lastPart, packName, packsOf } from "@/store/packs/layout";
import { openPack } from "@/store/packs/pack";
import type { Place } from "@/store/places/place";
import { fileBytes, findEntry, findFolder, folderEntries } from "@/store/read/browse";
import { openSpaces } from "@/store/read/opened-points";
import { StoreReader } from "@/store/read/reader";
import { deriveStoreKeys, type StoreKeys } from "@/store/seal/keys";
import { FORMAT_VERSION } from "@/store/seal/sealing";
import type { PointContent } from "@/store/tree/point";
import { byteString, idKey, showBytes } from "@/store/tree/tree";
import { adopt } from "./adopt";
import { type NamedPlace, namedPlace, type PlaceOptions, withDepot } from "./depot-place";
import { changeMasterKey } from "./master-key";
import { resetSignIn } from "./reset-sign-in";

/** The operator's commands. `keep open` needs a depot and a key: no database, no console. */
const program = new Command("keep").description(
  "Deep Keep's commands for the operator. Exit codes: 0 done, 1 failed, 3 done, but something could not be read.",
);

interface Found {
  readonly spaceId: SpaceId;
  readonly id: string;
  readonly content: PointContent;
}

function readDataKey(options: { key?: string; keyFile?: string }): Buffer {
  const text =
    options.key ?? (options.keyFile ? readFileSync(options.keyFile, "utf8") : process.env.DEEPKEEP_KEY);
  if (!text)
    throw new CodedError("request.invalid", "give the key: --key-file FILE, --key GROUPS, or DEEPKEEP_KEY");
  const read = groupsToKey(text);
  if (!read.ok) throw new CodedError("request.invalid", `this is not a key: ${read.reason}`);
  return Buffer.from(read.key);
}
const readKey = (options: { key?: string; keyFile?: string }): StoreKeys =>
  deriveStoreKeys(readDataKey(options));

/** Something could not be read; the rest was. */
const SOME_MISSING = 3;

/** Points that the key opens, newest first. Throws when the folder is no depot or the key opens nothing in it. */
async function findPoints({ place, path }: NamedPlace, keys: StoreKeys): Promise<Found[]> {
  const described = await readDescription(place);
  if (!described) throw new CodedError("depot.not-a-depot", `there is no ${DEPOT_FILE} at ${path}`);
  if (described.version > FORMAT_VERSION) throw new CodedError("depot.newer", `format ${described.version}`);
  const { spaces, foreign } = await openSpaces(place, keys);
  const found = spaces.flatMap(({ spaceId, points, damaged }) => {
    for (const { id, why } of damaged) {
      console.error(`Recovery point ${id} is damaged: ${why}.`);
      process.exitCode = SOME_MISSING;
    }
    return points.map(({ id, content }) => ({ spaceId, id: id.toString("hex"), content }));
  });
  if (found.length === 0)
    throw foreign
      ? new CodedError("store.wrong-key", "the key opens no recovery point of this depot")
      : new CodedError("not-found", "this depot holds no recovery point");
  return found.sort((a, b) => b.content.moment - a.content.moment);
}

/** A reader of a space whose index is made from the packs' own directories. */
async function readerOf(place: Place, spaceId: SpaceId, keys: StoreKeys): Promise<StoreReader> {
  const index = new Map<string, string>();
  const bytesOf = async (packId: string) => {
    const name = packName(spaceId, packId);
    const size = await place.size(name);
    return { size, read: (offset: number, length: number) => place.read(name, offset, length) };
  };
  for await (const name of place.list(packsOf(spaceId))) {
    const packId = lastPart(name);
    try {
      const pack = await openPack(keys, Buffer.from(packId, "hex"), await bytesOf(packId));
      for (const block of pack.blocks) for (const id of block.ids) index.set(idKey(id), packId);
    } catch (error) {
      console.error(`Pack ${packId} is damaged and was skipped: ${(error as Error).message}.`);
      process.exitCode = SOME_MISSING;
    }
  }
  return new StoreReader(keys, {
    locate: async (ids) => ids.map((id) => index.get(idKey(id)) ?? null),
    open: bytesOf,
  });
}

const open = program
  .command("open")
  .description("look into a depot and take files out of it, with the key alone");
const common = (command: Command) =>
  withDepot(command)
    .option("--key-file <file>", "file with the groups of the key sheet")
    .option("--key <groups>", "the groups themselves");
interface CommonOptions extends PlaceOptions {
  key?: string;
  keyFile?: string;
  point?: string;
  source?: string;
}

/**
 * The newest point that has a path: of the points that `--point` and `--source` leave. Throws `not-found` where none has it.
 */
async function choose(options: CommonOptions, path: string) {
  const keys = readKey(options);
  const named = namedPlace(options);
  const points = (await findPoints(named, keys)).filter(
    ({ id, content }) =>
      (!options.point || id.startsWith(options.point.toLowerCase())) &&
      (!options.source || content.sourceName.toLowerCase().startsWith(options.source.toLowerCase())),
  );
  if (points.length === 0)
    throw new CodedError(
      "not-found",
      "no recovery point matches --point and --source; list them with: keep open points",
    );
  const readers = new Map<string, StoreReader>();
  for (const point of points) {
    const reader = readers.get(point.spaceId) ?? (await readerOf(named.place, point.spaceId, keys));
    readers.set(point.spaceId, reader);
    const there =
      path === "/" ||
      (await findEntry(reader, point.content.root, byteString(path)).catch((error) => {
        // a damaged tree says nothing about older ones
        if (!(error instanceof CodedError)) throw error;
        console.error(`Recovery point ${point.id} cannot be searched: ${error.message}.`);
        process.exitCode = SOME_MISSING;
        return null;
      }));
    if (there) return { point, reader };
  }
  throw new CodedError(
    "not-found",
    `${path} is in none of ${points.length} recovery points; list a folder with: keep open list --source NAME`,
  );
}

common(open.command("points").description("list the recovery points that the key opens")).action(
  async (options: CommonOptions) => {
    for (const { id, content } of await findPoints(namedPlace(options), readKey(options))) {
      console.log(
        `${id}  ${new Date(content.moment).toISOString()}  ${content.sourceName}  ${content.counts.files} files  ${formatBytes(content.counts.bytes)}`,
      );
    }
  },
);

common(open.command("list").description("list a folder of a recovery point"))
  .option("--point <id>", "the point, or the first digits of its id (default: the newest that has the path)")
  .option("--source <name>", "points of this source, or of those whose name begins so")
  .argument("[path]", "the folder", "/")
  .action(async (path: string, options: CommonOptions) => {
    const { point, reader } = await choose(options, path);
    const node = await findFolder(reader, point.content.root, byteString(path));
    if (!node) throw new CodedError("not-found", path);
    for await (const entry of folderEntries(reader, node)) {
      const kind = { file: "-", folder: "d", link: "l" }[entry.type];
      console.log(
        `${kind} ${entry.mode.toString(8).padStart(4, "0")} ${String(entry.size ?? "").padStart(14)}  ${new Date(Number(entry.mtime / 1_000_000n)).toISOString()}  ${showBytes(entry.name)}`,
      );
    }
  });

common(
  open
    .command("extract")
    .description("take a file or folder out, to a folder or (one file) to a file or standard output"),
)
  .option("--point <id>", "the point, or the first digits of its id (default: the newest that has the path)")
  .option("--source <name>", "points of this source, or of those whose name begins so")
  .requiredOption("--to <target>", "folder to restore into, or - for standard output (one file)")
  .argument("<path>", "what to take out")
  .action(async (path: string, options: CommonOptions & { to: string }) => {
    const { point, reader } = await choose(options, path);
    if (options.to === "-") {
      const entry = await findEntry(reader, point.content.root, byteString(path));
      if (entry?.type !== "file")
        throw new CodedError("not-found", `${path} is no file of this recovery point`);
      await pipeline(
        Readable.from(fileBytes(reader, entry), { objectMode: false }),
        createWriteStream("", { fd: 1, autoClose: false }),
      );
      return;
    }
    mkdirSync(options.to, { recursive: true });
    const figures = await restoreFiles(
      [
        {
          root: point.content.root,
          momentLabel: new Date(point.content.moment)
            .toISOString()
            .slice(0, 16)
            .replace("T", " ")
            .replace(":", "."),
          path: byteString(path),
        },
      ],
      {
        store: reader,
        machineRoot: options.to,
        folder: "/",
        clash: "keep-both",
        note: (code, at, message) => {
          console.error(`${code} ${at}: ${message}`);
          if (code !== "file.special") process.exitCode = SOME_MISSING;
        },
        progress: { items: 0, bytes: 0 },
        signal: new AbortController().signal,
      },
    );
    console.log(
      `${figures.files} files, ${figures.folders} folders, ${figures.links} links; ${formatBytes(figures.bytes)} in ${options.to}, from ${point.content.sourceName}, ${new Date(point.content.moment).toISOString()}`,
    );
    if (process.exitCode === SOME_MISSING) console.error("Not everything could be restored; see above.");
  });

common(
  program
    .command("adopt")
    .description(
      "rebuild the catalogue of a console from a depot and a client's key; the console is DEEPKEEP_HOME's",
    ),
)
  .option("--name <name>", "what the depot is called")
  .option("--quota <size>", "quota of the client in it", "1 TiB")
  .action(async (options: CommonOptions & { name?: string; quota: string }) => {
    const quotaBytes = parseBytes(options.quota);
    if (!quotaBytes) throw new CodedError("request.invalid", `${options.quota} is no size; write 500 GiB`);
    const services = makeServices(readSettings());
    const started = performance.now();
    try {
      const made = await adopt(services, readDataKey(options), {
        place: namedPlace(options),
        name: options.name,
        quotaBytes,
        say: (line) => console.log(line),
      });
      console.log(
        `${made.client}: ${made.sources} sources, ${made.points} recovery points, ${made.packs} packs with ${made.chunks} chunks; damaged and skipped: ${made.damaged} points, ${made.passedOver} packs; ${((performance.now() - started) / 1000).toFixed(1)} s`,
      );
      if (made.damaged + made.passedOver > 0) process.exitCode = SOME_MISSING;
    } finally {
      await services.db.end();
    }
  });

program
  .command("trail")
  .command("verify")
  .description("check the chain of the trail")
  .action(async () => {
    const services = makeServices(readSettings());
    try {
      const bad = await services.db.withScope({ role: "system" }, verifyTrail);
      if (bad !== null) throw new Error(`The trail was tampered with: row ${bad} does not fit the chain.`);
      console.log("The trail is whole.");
    } finally {
      await services.db.end();
    }
  });

program
  .command("sign-in")
  .description(
    "make a person's sign-in anew: no second factor, no session, and an invitation to a new password",
  )
  .argument("<email>", "the person's address")
  .option("--console <address>", "where the console answers", "http://127.0.0.1:4380")
  .action(async (email: string, options: { console: string }) => {
    const services = makeServices(readSettings());
    try {
      const { url, expiresAt } = await resetSignIn(services, email, options.console.replace(/\/$/, ""));
      console.log(`${url}\nworks once, until ${expiresAt.toISOString().slice(0, 10)}`);
    } finally {
      await services.db.end();
    }
  });

program
  .command("master-key")
  .command("change")
  .description("seal every secret of the database with a new master key; the console must not be running")
  .action(async () => {
    const home = process.env.DEEPKEEP_HOME;
    if (!home) throw new Error("DEEPKEEP_HOME is not set: it names the data folder of the console");
    const count = await changeMasterKey(home);
    console.log(`${count} secrets are sealed with the new key. Keep a copy of it away from the database's.`);
  });

program
  .command("codes")
  .description("print all codes as the page of the docs")
  .action(() => {
    console.log(
      "# All codes\n\nMade from `src/core/codes.ts` by `bin/keep codes`; what a run's log, an outcome or a problem of the API can say.\n",
    );
    console.log("| code | what it says | cause | what to do | trying again helps |\n|---|---|---|---|---|");
    for (const [code, text] of Object.entries(CODES)) {
      console.log(
        `| \`${code}\` | ${text.title} | ${text.cause} | ${text.remedy} | ${text.retry ? "yes" : "no"} |`,
      );
    }
  });

program.parseAsync().catch((error: Error) => {
  console.error(error.message);
  process.exit(1);
});
