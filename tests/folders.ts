import { chmodSync, mkdtempSync, readdirSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { inject } from "vitest";
import type { TestProject } from "vitest/node";

/**
 * Every file of a test run writes into one folder, which ends with the run. A run that is killed leaves its folder; the next run
 * removes it. Without this, some ten test runs fill a disk.
 */
declare module "vitest" {
  interface ProvidedContext {
    readonly folder: string;
  }
}

const PREFIX = "deep-keep-test-";

const alive = (pid: number): boolean => {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === "EPERM";
  }
};

/** A folder that other accounts may pass through: a console's database runs as the account “postgres”. */
function passableFolder(prefix: string): string {
  const folder = mkdtempSync(prefix);
  chmodSync(folder, 0o711);
  return folder;
}

export const remove = (folder: string): void =>
  rmSync(folder, { recursive: true, force: true, maxRetries: 5, retryDelay: 200 });

/** Removes what killed runs left: folders whose process is gone. */
export function removeLeftovers(base: string): string[] {
  const left = readdirSync(base).filter((name) => {
    const pid = name.startsWith(PREFIX) && Number(name.slice(PREFIX.length).split("-")[0]);
    return pid && !alive(pid);
  });
  for (const name of left) remove(join(base, name));
  return left;
}

export default function setup(project: TestProject): () => void {
  removeLeftovers(tmpdir());
  const folder = passableFolder(join(tmpdir(), `${PREFIX}${process.pid}-`));
  project.provide("folder", folder);
  return () => remove(folder);
}

/** A folder for one test file, as the folder for temporary files of all that it starts. */
export function folderForFile(): string {
  const folder = passableFolder(join(inject("folder"), "file-"));
  process.env.TMPDIR = folder;
  return folder;
}
