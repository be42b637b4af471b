import { type ChildProcess, spawn } from "node:child_process";
import { mkdirSync } from "node:fs";
import { join } from "node:path";
import { afterAll, describe, expect, it } from "vitest";
import { freePort, readAccess, stopCluster } from "@/operate/cluster";
import { freshFolder } from "../depot";
import { until } from "../test-console";

/** `bin/start`'s program: what it leaves when it is killed, and when it is interrupted. */
interface Started {
  readonly child: ChildProcess;
  output(): string;
  /** Its exit code, when it has ended. */
  readonly ended: Promise<number | null>;
}
const homes: string[] = [];
function start(home: string, port: number, ...args: string[]): Started {
  const child = spawn(process.execPath, [join(process.cwd(), "dist/start.mjs"), ...args], {
    env: { ...process.env, DEEPKEEP_HOME: home, DEEPKEEP_PORT: String(port) },
    stdio: ["ignore", "pipe", "pipe"],
  });
  let output = "";
  for (const stream of [child.stdout, child.stderr]) stream.on("data", (part) => (output += part));
  const ended = new Promise<number | null>((resolve) => child.once("exit", resolve));
  return { child, output: () => output, ended };
}
function freshHome(): string {
  const home = freshFolder("home");
  mkdirSync(home, { recursive: true });
  homes.push(home);
  return home;
}
const answers = async (port: number) => (await fetch(`http://127.0.0.1:${port}/readyz`)).ok;
afterAll(async () => {
  for (const home of homes) {
    const access = readAccess(home);
    if (access) await stopCluster(access, "immediate");
  }
});

describe("the program that keeps the others running", () => {
  it("killed, takes them with it, and starts again at the same port at once", async () => {
    const [home, port] = [freshHome(), await freePort()];
    const first = start(home, port, "--empty");
    await until(() => answers(port), "it does not start", 60_000);
    first.child.kill("SIGKILL");
    await first.ended;
    const second = start(home, port, "--empty");
    await until(
      async () => second.output().includes("answers at"),
      `it does not start again: ${second.output()}`,
      60_000,
    );
    expect(await answers(port)).toBe(true);
    second.child.kill("SIGTERM");
    expect(await second.ended).toBe(0);
    await expect(answers(port)).rejects.toThrow();
  });

  it("interrupted while it seeds the demo, ends quietly, and says what to do at the next start", async () => {
    const [home, port] = [freshHome(), await freePort()];
    const first = start(home, port);
    // well into it
    await until(async () => first.output().includes("Demo: day 1 of"), "it does not seed", 90_000);
    first.child.kill("SIGINT");
    expect(await first.ended).toBe(0);
    expect(first.output()).not.toMatch(/Error| {4}at /);
    const second = start(home, port);
    expect(await second.ended).toBe(1);
    expect(second.output()).toContain(`Seeding was broken off before. Remove ${home} and start again.`);
  });
});
