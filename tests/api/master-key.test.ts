import { readFileSync, statSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { all } from "@/db/base/scope";
import { changeMasterKey, SEALED, settleMasterKey } from "@/operate/master-key";
import { makeServices } from "@/server/base/services";
import { readSettings } from "@/server/base/settings";
import { wayOf } from "@/server/notices/sending";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** Changing the key that seals what is secret in the database. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let pointId = "";
const keyFile = () => join(console_.home, "master.key");
const keyNow = () => readFileSync(keyFile(), "utf8").trim();

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Brackenfold Dental");
  machine = await enrolMachine(console_, client, "brack-srv-01");
  writeFileSync(join(machine.root, "data/x-ray.txt"), "a molar\n");
  console_.runAgent(machine.state);
  pointId = (await backUp(console_, machine.sourceId)).figures.point!;
  const mail = { host: "127.0.0.1", port: 25, security: "none", sender: "desk@lanternfold.example" };
  await console_.ok("PUT", "/mail-server", { ...mail, username: "desk", password: "a harbour at dusk" });
  await console_.ok("POST", "/webhooks", { name: "Tickets", url: "http://127.0.0.1:9/hook" });
});
afterAll(() => console_?.stop());

const password = async () => {
  const services = makeServices(readSettings({ ...process.env, DEEPKEEP_HOME: console_.home }));
  try {
    const way = await services.db.withScope({ role: "system" }, (tx) =>
      wayOf(services, tx, "mail:x@x.example"),
    );
    return way.kind === "mail" ? way.password : null;
  } finally {
    await services.db.end();
  }
};
const sealed = () =>
  console_.services.db.withScope({ role: "system" }, (tx) =>
    all<{ sealed: Buffer }>(
      tx,
      "select sealed from client_keys union all select password from mail_settings",
    ),
  );
const look = async () =>
  (
    await console_.ok<{ look: { text: string } }>(
      "GET",
      `/recovery-points/${pointId}/look?path=/data/x-ray.txt`,
    )
  ).look.text;

describe("the master key", () => {
  it("is not changed under a running console", async () => {
    const before = keyNow();
    await expect(changeMasterKey(console_.home)).rejects.toThrow("The console is running");
    expect(keyNow()).toBe(before);
    expect(await look()).toBe("a molar\n");
  });

  it("seals what is listed: no column of a sealed secret is missing", async () => {
    // sealed to the key pair of a machine or of a process
    const otherwise = new Set(["machine_keys.sealed", "lent_keys.sealed"]);
    const columns = await console_.services.db.withScope({ role: "system" }, (tx) =>
      all<{ name: string }>(
        tx,
        `select table_name || '.' || column_name as name from information_schema.columns
         where table_schema = 'public' and data_type = 'bytea' and column_name ~ '(sealed|secret|password|seed)'
           and column_name !~ 'hash' order by 1`,
      ),
    );
    expect(columns.length).toBeGreaterThan(6);
    const listed = new Set(SEALED.map(({ table, column }) => `${table}.${column}`));
    expect(
      columns.map(({ name }) => name).filter((name) => !listed.has(name) && !otherwise.has(name)),
    ).toEqual([]);
  });

  it("is changed with every secret that it seals, and all of them open again", async () => {
    const before = keyNow();
    const were = await sealed();
    await console_.stopAgents();
    await console_.killRunner();
    await console_.killWeb();
    await console_.services.db.end();
    // a client key, a mail password, a webhook's secret
    expect(await changeMasterKey(console_.home)).toBe(3);
    expect(keyNow()).not.toBe(before);
    expect(statSync(keyFile()).mode & 0o777).toBe(0o600);
    await console_.begin();
    const are = await sealed();
    for (const [i, one] of are.entries()) expect(one.sealed.equals(were[i]!.sealed)).toBe(false);
    expect(await password()).toBe("a harbour at dusk");
    expect(await look()).toBe("a molar\n");
    const trail = await console_.ok<{ rows: { action: string }[] }>("GET", "/trail?limit=5");
    expect(trail.rows.map(({ action }) => action)).toContain("changed the master key");
  });

  it("is put in place by the next start where a change was broken off, whichever side of it", async () => {
    const good = keyNow();
    // broken off before the database was changed: the new one opens nothing
    writeFileSync(join(console_.home, "master.key.new"), `${"ab".repeat(32)}\n`);
    await settleMasterKey(console_.home, console_.access.owner);
    expect(keyNow()).toBe(good);
    // broken off after it: the file still has the old one
    writeFileSync(join(console_.home, "master.key.new"), `${good}\n`);
    writeFileSync(keyFile(), `${"cd".repeat(32)}\n`);
    await settleMasterKey(console_.home, console_.access.owner);
    expect(keyNow()).toBe(good);
    // neither opens: nothing is thrown away
    writeFileSync(join(console_.home, "master.key.new"), `${"ab".repeat(32)}\n`);
    writeFileSync(keyFile(), `${"cd".repeat(32)}\n`);
    await expect(settleMasterKey(console_.home, console_.access.owner)).rejects.toThrow("Neither");
    writeFileSync(keyFile(), `${good}\n`);
    await settleMasterKey(console_.home, console_.access.owner);
    expect(await password()).toBe("a harbour at dusk");
  });

  it("from the environment wants the new one from there too", async () => {
    await expect(
      changeMasterKey(console_.home, { ...process.env, DEEPKEEP_MASTER_KEY: keyNow() }),
    ).rejects.toThrow("DEEPKEEP_NEW_MASTER_KEY");
  });
});
