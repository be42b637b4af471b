import { execFileSync } from "node:child_process";
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import type { TestProject } from "vitest/node";
import { migrate } from "@/db/base/migrate";
import { clusterFolder, type DatabaseAccess, freePort, startCluster, stopCluster } from "@/operate/cluster";

/**
 * A cluster that was made and migrated once, for all consoles of a test run: each copies it. To make one takes longer than
 * most of what is tested on it.
 */
declare module "vitest" {
  interface ProvidedContext {
    readonly template: DatabaseAccess;
  }
}

export default async function setup(project: TestProject): Promise<() => Promise<void>> {
  const home = mkdtempSync(join(project.getProvidedContext().folder, "template-"));
  const access = await startCluster(home, { fsync: "off" });
  await migrate(access.owner, access.appPassword, join(process.cwd(), "src/db/migrations"));
  await stopCluster(access);
  project.provide("template", access);
  return async () => {
    rmSync(access.folder, { recursive: true, force: true });
    rmSync(home, { recursive: true, force: true });
  };
}

/** A copy of the template for a data folder, at a port of its own; it is not started. */
export async function copyTemplate(template: DatabaseAccess, home: string): Promise<void> {
  const folder = await clusterFolder(home);
  mkdirSync(join(folder, ".."), { recursive: true });
  execFileSync("cp", ["-a", template.folder, folder]);
  const port = await freePort();
  const moved = (url: string) => url.replace(`:${template.port}/`, `:${port}/`);
  const { owner, app, appPassword } = template;
  const access = { port, owner: moved(owner), app: moved(app), appPassword, folder };
  writeFileSync(join(home, "database.json"), JSON.stringify(access), { mode: 0o600 });
}
