import { spawnSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { expect, inject, test } from "vitest";
import { freshFolder } from "./depot";
import { removeLeftovers } from "./folders";

test("what a test file writes lies in the folder of its test run", () => {
  expect(freshFolder("anything").startsWith(inject("folder"))).toBe(true);
  const child = spawnSync(process.execPath, ["-p", "os.tmpdir()"], { encoding: "utf8" });
  expect(child.stdout.startsWith(inject("folder"))).toBe(true);
});

test("the folder of a test run that was killed is removed by the next one, and no other", () => {
  const base = mkdtempSync(join(tmpdir(), "base-"));
  const gone = spawnSync(process.execPath, ["-e", ""]).pid;
  const killed = `deep-keep-test-${gone}-abc`;
  const running = `deep-keep-test-${process.pid}-abc`;
  for (const name of [killed, running, "deep-keep-other-1"]) {
    mkdirSync(join(base, name));
    writeFileSync(join(base, name, "file"), "x");
  }
  expect(removeLeftovers(base)).toEqual([killed]);
  expect(existsSync(join(base, killed))).toBe(false);
  expect(existsSync(join(base, running, "file"))).toBe(true);
  expect(existsSync(join(base, "deep-keep-other-1"))).toBe(true);
});
