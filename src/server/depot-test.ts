import { randomBytes } from "node:crypto";
import { constants } from "node:fs";
import { access, readFile, stat, statfs, writeFile } from "node:fs/promises";
import { isAbsolute, join } from "node:path";
import { type Code, CodedError } from "@/core/codes";
import { DEPOT_FILE } from "@/store/layout";
import { LocalFolder } from "@/store/places/local-folder";
import { FORMAT_VERSION } from "@/store/sealing";

/** One step of a depot's test, with how long it took in milliseconds. */
export interface TestStep {
  readonly step: string;
  readonly ok: boolean;
  readonly ms: number;
  readonly message: string | null;
}

export interface DepotTest {
  readonly ok: boolean;
  readonly code: Code | null;
  readonly steps: readonly TestStep[];
  readonly warnings: readonly string[];
  /** The disk behind it, bytes. */
  readonly size: number | null;
  readonly free: number | null;
}

/** Tries a local folder as a depot step by step; stops at the first step that fails. Leaves nothing behind. */
export async function testFolder(path: string, depotId: string | null): Promise<DepotTest> {
  const steps: TestStep[] = [];
  const warnings: string[] = [];
  let size: number | null = null;
  let free: number | null = null;
  let code: Code | null = null;
  const step = async (name: string, work: () => Promise<string | null>): Promise<boolean> => {
    const started = performance.now();
    try {
      const message = await work();
      steps.push({ step: name, ok: true, ms: performance.now() - started, message });
      return true;
    } catch (error) {
      steps.push({
        step: name,
        ok: false,
        ms: performance.now() - started,
        message: (error as Error).message,
      });
      code = error instanceof CodedError ? error.code : "depot.not-reached";
      return false;
    }
  };
  const probe = randomBytes(64 * 1024);
  const name = `probe-${randomBytes(8).toString("hex")}`;
  const place = new LocalFolder(path);
  const fine =
    (await step("Find the folder", async () => {
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
      if (found.dev === (await stat("/")).dev) {
        warnings.push(
          "This folder is on the system volume: when it fills, the machine stops. A disk of its own is safer.",
        );
      }
      return null;
    })) &&
    (await step("Recognise what is in it", async () => {
      const content = await readFile(join(path, DEPOT_FILE), "utf8").catch((error: NodeJS.ErrnoException) => {
        if (error.code === "ENOENT") return null;
        throw new CodedError("depot.not-reached", error.message);
      });
      if (content === null) {
        if (depotId)
          throw new CodedError("depot.not-a-depot", `${DEPOT_FILE} is missing: is the right disk mounted?`);
        return "a new depot";
      }
      const described = JSON.parse(content) as { id: string; version: number };
      if (described.version > FORMAT_VERSION)
        throw new CodedError("depot.newer", `format ${described.version}`);
      if (described.id !== depotId)
        throw new CodedError("depot.not-a-depot", "it is a depot already, another one");
      return "this depot";
    })) &&
    (await step("Be allowed to write", async () => {
      await access(path, constants.R_OK | constants.W_OK | constants.X_OK).catch(() => {
        throw new CodedError("depot.not-reached", `the console's account may not write in ${path}`);
      });
      return null;
    })) &&
    (await step("Write a probe", async () => {
      await place.put(`probes/${name}`, [probe]);
      return "64 KiB";
    })) &&
    (await step("Read it back", async () => {
      const read = await place.read(`probes/${name}`, 0, probe.length);
      if (!read.equals(probe))
        throw new CodedError("store.damaged", "what comes back is not what was written");
      return null;
    })) &&
    (await step("Find it in the list", async () => {
      for await (const found of place.list("probes/")) if (found === `probes/${name}`) return null;
      throw new CodedError("depot.not-reached", "the probe is not in the list");
    })) &&
    (await step("Delete it", async () => {
      await place.remove(`probes/${name}`);
      return null;
    }));
  if (!fine) await place.remove(`probes/${name}`).catch(() => {});
  return { ok: fine, code: fine ? null : code, steps, warnings, size, free };
}

/** Makes a tested folder a depot: writes what it is. */
export async function describeDepot(path: string, id: string, now: Date): Promise<void> {
  const description = { format: "deep-keep-depot", version: FORMAT_VERSION, id, created: now.toISOString() };
  await writeFile(join(path, DEPOT_FILE), `${JSON.stringify(description, null, 2)}\n`, {
    flag: "wx",
    mode: 0o600,
  });
}
