import { randomBytes } from "node:crypto";
import { constants } from "node:fs";
import { access, readdir, rmdir, stat, statfs } from "node:fs/promises";
import { dirname, isAbsolute, join } from "node:path";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import type { DepotId } from "@/core/ids";
import { DEPOT_FILE } from "@/store/packs/layout";
import { LocalFolder } from "@/store/places/local-folder";
import type { Place } from "@/store/places/place";
import { FORMAT_VERSION } from "@/store/seal/sealing";
import { type Steps, trySteps } from "@/store/steps";

export interface DepotTest extends Steps {
  readonly warnings: readonly string[];
  /** The server took a write over an object that was there. */
  readonly overwrites: boolean;
  /** The disk behind it, bytes; null where there is none to ask. */
  readonly size: number | null;
  readonly free: number | null;
}

type Step = readonly [name: string, work: () => Promise<string | null>];

/**
 * Tries a local folder or a mounted share as a depot step by step; stops at the first step that fails. Leaves nothing
 * behind.
 */
export async function testFolder(
  kind: "folder" | "share",
  path: string,
  depotId: DepotId | null,
): Promise<DepotTest> {
  const warnings: string[] = [];
  let size: number | null = null;
  let free: number | null = null;
  const find: Step = [
    "Find the folder",
    async () => {
      if (!isAbsolute(path))
        throw new CodedError("request.invalid", "a folder is an absolute path: it begins with a slash");
      const found = await stat(path).catch((error: NodeJS.ErrnoException) => {
        throw new CodedError(
          "depot.not-reached",
          error.code === "ENOENT" ? `${path} does not exist` : `${path}: ${error.message}`,
        );
      });
      if (!found.isDirectory()) throw new CodedError("depot.not-a-depot", `${path} is not a folder`);
      const disk = await statfs(path);
      size = disk.blocks * disk.bsize;
      free = disk.bavail * disk.bsize;
      if (kind === "share" && found.dev === (await stat(dirname(path))).dev)
        throw new CodedError("depot.not-reached", `nothing is mounted at ${path}`);
      if (found.dev === (await stat("/")).dev) {
        warnings.push(
          "This folder is on the system volume. If it fills up, the machine stops. Use a separate disk.",
        );
      }
      return null;
    },
  ];
  const mayWrite: Step = [
    "Check write permission",
    async () => {
      await access(path, constants.R_OK | constants.W_OK | constants.X_OK).catch(() => {
        throw new CodedError("depot.not-reached", `the console's account may not write in ${path}`);
      });
      return null;
    },
  ];
  const place = new LocalFolder(path);
  const steps = await trySteps(
    [find, recognise(place, depotId), mayWrite, ...probe(place), ...(depotId === null ? [alone(path)] : [])],
    "depot.not-reached",
  );
  // the probe's folder, empty again; one that holds something is not ours
  if (depotId === null) await rmdir(join(path, "probes")).catch(() => {});
  return { ...steps, warnings, overwrites: false, size, free };
}

/** Tries a bucket as a depot: signing in shows in the first step that asks for something. */
export async function testBucket(place: Place, depotId: DepotId | null): Promise<DepotTest> {
  const warnings: string[] = [];
  let overwrites = false;
  const conditional: ProbeStep = (name) => [
    "Check that overwriting is refused",
    async () => {
      const kept = await place.put(name, [Buffer.from("another probe")]).then(
        () => false,
        (error) => {
          if (error instanceof CodedError && error.code === "request.conflict") return true;
          throw error;
        },
      );
      if (kept) return null;
      overwrites = true;
      warnings.push(NO_CONDITIONS);
      return "not supported by this server";
    },
  ];
  const lock: Step = [
    "Check object lock",
    async () => {
      const { state, said } = await place.lockSupport!();
      if (state === "available") return "available";
      if (state === "missing") warnings.push(NO_LOCK);
      return `${state === "missing" ? "not available" : "not known"}: ${said}`;
    },
  ];
  const steps = await trySteps(
    [recognise(place, depotId), ...probe(place, conditional), ...(place.lockSupport ? [lock] : [])],
    "depot.not-reached",
  );
  return { ...steps, warnings, overwrites, size: null, free: null };
}

const NO_CONDITIONS =
  "This server ignores the condition that an object must be new: two writers could overwrite one another’s object. Machines may send to it only through the console.";
const NO_LOCK =
  "Object lock is off for this bucket, so no client can be granted a lock in it. If you want locks, turn on object lock for the bucket.";

/** What may lie in a folder that becomes a depot: what file systems put there, and what a broken attempt left. */
const NOBODYS = new Set(["lost+found", "System Volume Information", "$RECYCLE.BIN", "probes"]);

/** A depot does not move in where other things lie: more likely that is the wrong folder. */
const alone = (path: string): Step => [
  "Check that the folder is empty",
  async () => {
    const other = (await readdir(path)).find((name) => !name.startsWith(".") && !NOBODYS.has(name));
    if (other === undefined) return null;
    throw new CodedError(
      "depot.not-empty",
      `“${other}” for one, in ${path}; make a folder of its own for the depot, inside it if you like`,
    );
  },
];

const descriptionSchema = z.object({ version: z.number(), id: z.string() });

/** What a place says it is; null for one that is no depot yet. Throws `depot.not-a-depot` for a description nobody can read. */
export async function readDescription(place: Place): Promise<z.infer<typeof descriptionSchema> | null> {
  const bytes = await place.read(DEPOT_FILE, 0, 64 * 1024).catch((error) => {
    if (error instanceof CodedError && error.code === "not-found") return null;
    throw error;
  });
  if (bytes === null) return null;
  try {
    return descriptionSchema.parse(JSON.parse(bytes.toString("utf8")));
  } catch (error) {
    throw new CodedError("depot.not-a-depot", `${DEPOT_FILE} cannot be read`, { cause: error });
  }
}

/** Whether a place is this depot, or (without an id) none yet. */
const recognise = (place: Place, depotId: DepotId | null): Step => [
  "Identify the depot",
  async () => {
    const described = await readDescription(place);
    if (!described) {
      if (depotId)
        throw new CodedError("depot.not-a-depot", `${DEPOT_FILE} is missing: is the right disk mounted?`);
      return "a new depot";
    }
    if (described.version > FORMAT_VERSION)
      throw new CodedError("depot.newer", `format ${described.version}`);
    if (described.id !== depotId)
      throw depotId
        ? new CodedError("depot.not-a-depot", "another one lies there")
        : new CodedError("depot.not-empty", "a depot");
    return "this depot";
  },
];

/** Writes, reads back, lists and deletes a small object; what a failed step leaves is removed. */
type ProbeStep = (name: string) => Step;
function probe(place: Place, ...further: ProbeStep[]): Step[] {
  const content = randomBytes(64 * 1024);
  const name = `probes/probe-${randomBytes(8).toString("hex")}`;
  const orRemove = (work: () => Promise<string | null>) => () =>
    work().catch(async (error) => {
      await place.remove(name).catch(() => {});
      throw error;
    });
  return [
    [
      "Write a probe",
      orRemove(async () => {
        await place.put(name, [content]);
        return "64 KiB";
      }),
    ],
    [
      "Read the probe",
      orRemove(async () => {
        const read = await place.read(name, 0, content.length);
        if (!read.equals(content))
          throw new CodedError("store.damaged", "the data read differs from the data written");
        return null;
      }),
    ],
    ...further.map((make): Step => {
      const [step, work] = make(name);
      return [step, orRemove(work)];
    }),
    [
      "List the probe",
      orRemove(async () => {
        for await (const found of place.list("probes/")) if (found === name) return null;
        throw new CodedError("depot.not-reached", "the probe is not in the list");
      }),
    ],
    [
      "Delete the probe",
      async () => {
        await place.remove(name);
        return null;
      },
    ],
  ];
}

/** Makes a tested place a depot: writes what it is. */
export async function describeDepot(place: Place, id: string, now: Date): Promise<void> {
  const description = { format: "deep-keep-depot", version: FORMAT_VERSION, id, created: now.toISOString() };
  await place.put(DEPOT_FILE, [Buffer.from(`${JSON.stringify(description, null, 2)}\n`)]);
}
