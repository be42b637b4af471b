import { randomBytes } from "node:crypto";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { groupsToKey } from "@/core/keysheet/keysheet";
import { all } from "@/db/base/scope";
import { fingerprintOf } from "@/store/seal/wrapping";
import { backUp, enrolMachine, makeClient, restore, type TestClient, type TestMachine } from "../client";
import { describeTree } from "../same-tree";
import { keyOfSheet, readDepot } from "../second-reader";
import { TestConsole, until } from "../test-console";

const FIRST = "eleven boats on a grey harbour";
const SECOND = "seven lamps over the quay wall";

let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let second: string;
const system = <T extends object>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<T>(tx, sql, values));
const key = () =>
  console_.ok<{ state: string; open: boolean; fingerprint: string; machinesWithout: string[] }>(
    "GET",
    `/clients/${client.id}/key`,
  );
const hold = (passphrase: string | null, newPassphrase: string | null) =>
  console_.call<{ code: string; errors: { field: string }[] }>("PUT", `/clients/${client.id}/key/holding`, {
    passphrase,
    newPassphrase,
  });
const unlock = (passphrase: string, token?: string) =>
  console_.call<{ code: string; machines: string[] }>(
    "POST",
    `/clients/${client.id}/key/unlock`,
    { passphrase },
    token,
  );
const newest = async () =>
  (await console_.ok<{ points: { id: string }[] }>("GET", `/sources/${machine.sourceId}/recovery-points`))
    .points[0]!.id;
const browse = async (token?: string) =>
  console_.call<{ code?: string; entries?: { name: string }[] }>(
    "GET",
    `/recovery-points/${await newest()}/entries?path=/data`,
    undefined,
    token,
  );

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Thornquay Shipping Agents");
  machine = await enrolMachine(console_, client, "thor-ws-01");
  console_.runAgent(machine.state);
  second = await console_.addPerson({
    email: "tobin@lanternfold.example",
    name: "Tobin Asher",
    role: "technician",
    clientId: null,
  });
  writeFileSync(join(machine.root, "data/manifest"), randomBytes(300_000));
  await backUp(console_, machine.sourceId);
});
afterAll(() => console_?.stop());

describe("a key without escrow", () => {
  it("is taken out of escrow with a passphrase that is long enough; the key stays the same", async () => {
    const before = await key();
    const sheet = groupsToKey(client.groups.join(""));
    expect(before).toMatchObject({
      state: "escrow",
      fingerprint: fingerprintOf(sheet.ok ? sheet.key : Buffer.alloc(32)),
    });
    expect((await hold(null, "too short")).body.errors[0]!.field).toBe("newPassphrase");
    expect((await browse()).status).toBe(200);
    expect((await hold(null, FIRST)).status).toBe(200);
    expect(await key()).toMatchObject({ state: "passphrase", open: false, fingerprint: before.fingerprint });
  });

  it("lets nobody browse without the passphrase, not even what was opened a moment before", async () => {
    expect(await browse()).toMatchObject({ status: 423, body: { code: "key.passphrase-needed" } });
    // what lies in the database opens with nothing that the provider has
    const [held] = await system<{ sealed: Buffer }>("select sealed from client_keys where client_id = $1", [
      client.id,
    ]);
    expect(() => console_.services.secrets.unseal(held!.sealed, `client key ${client.id}`)).toThrow(/open/);
  });

  it("goes on running by itself, while a restore wants the passphrase", async () => {
    writeFileSync(join(machine.root, "data/letter"), "after");
    expect(await backUp(console_, machine.sourceId)).toMatchObject({ outcome: "clean" });
    expect(
      await console_.call("POST", "/restores", {
        items: [{ pointId: await newest(), path: "/data" }],
        destination: { kind: "original" },
      }),
    ).toMatchObject({ status: 423, body: { code: "key.passphrase-needed" } });
  });

  it("opens for the session that gave the passphrase, and for no other", async () => {
    expect(await unlock("seven wrong words in a row")).toMatchObject({
      status: 422,
      body: { code: "key.wrong-passphrase", errors: [{ field: "passphrase" }] },
    });
    expect((await unlock(`  ${FIRST} `)).status).toBe(200);
    expect((await browse()).body.entries!.map((entry) => entry.name)).toEqual(["letter", "manifest"]);
    const run = await restore(console_, {
      items: [{ pointId: await newest(), path: "/data" }],
      destination: { kind: "folder", folder: "/back" },
      clash: "keep-both",
    });
    expect(run).toMatchObject({ outcome: "clean" });
    expect(describeTree(join(machine.root, "back/data"))).toEqual(describeTree(join(machine.root, "data")));
    expect(await browse(second)).toMatchObject({ status: 423, body: { code: "key.passphrase-needed" } });
    const { id } = await console_.ok<{ id: string }>("POST", "/restores/archives", {
      items: [{ pointId: await newest(), path: "/data" }],
      format: "tar",
    });
    const archive = await fetch(`${console_.url}/api/v1/restores/archives/${id}`, {
      headers: { authorization: `Bearer ${console_.token}` },
    });
    expect((await archive.arrayBuffer()).byteLength).toBeGreaterThan(300_000);
  });

  it("lends the key to the runner, which purges and checks while the session lasts", async () => {
    const { checkId } = await console_.ok<{ checkId: string }>(
      "POST",
      `/depots/${client.depotId}/grants/${client.id}/checks`,
      { depth: "bytes" },
    );
    const outcome = async () =>
      (await system<{ outcome: string | null }>("select outcome from checks where id = $1", [checkId]))[0]!
        .outcome;
    await until(async () => (await outcome()) !== null, "the check does not end");
    expect(await outcome()).toBe("clean");
    await system("delete from lent_keys");
    for (const [depth, expected] of [
      ["objects", "clean"],
      ["trees", "failed"],
    ]) {
      const { checkId: id } = await console_.ok<{ checkId: string }>(
        "POST",
        `/depots/${client.depotId}/grants/${client.id}/checks`,
        { depth },
      );
      await until(async () => {
        const [check] = await system<{ outcome: string | null }>("select outcome from checks where id = $1", [
          id,
        ]);
        return check!.outcome !== null;
      }, "the check does not end");
      const [check] = await system<{ outcome: string; message: string | null }>(
        "select outcome, message from checks where id = $1",
        [id],
      );
      expect(check!.outcome).toBe(expected);
      if (expected === "failed") expect(check!.message).toContain("passphrase is required");
    }
  });

  it("keeps a machine that came later waiting until the passphrase was given once", async () => {
    const later = await enrolMachine(console_, client, "thor-ws-02");
    console_.runAgent(later.state);
    writeFileSync(join(later.root, "data/cargo"), "tea");
    expect(await backUp(console_, later.sourceId)).toMatchObject({
      outcome: "failed",
      code: "key.passphrase-needed",
    });
    expect((await key()).machinesWithout).toEqual(["thor-ws-02"]);
    expect((await unlock(FIRST)).body.machines).toEqual(["thor-ws-02"]);
    expect(await backUp(console_, later.sourceId)).toMatchObject({ outcome: "clean" });
  });

  it("changes its passphrase and moves no data; what was open is closed", async () => {
    expect((await hold("seven wrong words in a row", SECOND)).body.code).toBe("key.wrong-passphrase");
    const before = readDepot(client.depotPath, keyOfSheet(client.groups)).map((point) => point.id);
    expect((await hold(FIRST, SECOND)).status).toBe(200);
    expect((await browse()).status).toBe(423);
    expect((await unlock(FIRST)).body.code).toBe("key.wrong-passphrase");
    expect((await unlock(SECOND)).status).toBe(200);
    expect((await browse()).status).toBe(200);
    expect(readDepot(client.depotPath, keyOfSheet(client.groups)).map((point) => point.id)).toEqual(before);
  });

  it("is made under a passphrase from the beginning, and confirmed without being opened", async () => {
    const { client: other } = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Brackenfold Dental",
      zone: "Europe/London",
      region: "north harbour",
      contactName: "Ada Fold",
      contactEmail: "ada@brackenfold.example",
      sites: ["Surgery"],
    });
    const made = await console_.ok<{ groups: string[]; askedGroup: number }>(
      "POST",
      `/clients/${other.id}/key`,
      { passphrase: FIRST },
    );
    const confirm = (group: string) =>
      console_.call<{ errors: { field: string }[] }>("POST", `/clients/${other.id}/key/confirm`, { group });
    const wrong = made.groups[(made.askedGroup + 1) % 13]!;
    expect((await confirm(wrong)).body.errors[0]!.field).toBe("group");
    expect((await confirm(made.groups[made.askedGroup]!.toLowerCase())).status).toBe(200);
    const [held] = await system<{ asked: Buffer | null }>(
      "select asked_hash as asked from client_keys where client_id = $1",
      [other.id],
    );
    expect(held!.asked).toBeNull();
  });
});

describe("two people for what cannot be undone", () => {
  const ask = async (reason = "they left, and want it gone") =>
    (await console_.ok<{ consentId: string }>("POST", `/clients/${client.id}/key/destruction`, { reason }))
      .consentId;
  const decide = (id: string, decision: string, token?: string) =>
    console_.call<{ code: string; detail: string; made?: string }>(
      "POST",
      `/consents/${id}/decision`,
      { decision },
      token,
    );

  it("wants a second person, takes a refusal, and lets the first take it back", async () => {
    const id = await ask();
    expect(await ask()).toBe(id);
    expect((await decide(id, "agreed")).status).toBe(403);
    expect((await decide(id, "withdrawn", second)).status).toBe(403);
    expect((await decide(id, "declined", second)).status).toBe(200);
    expect((await decide(id, "agreed", second)).body.detail).toContain("Tobin Asher has declined");
    const again = await ask();
    expect((await decide(again, "withdrawn")).status).toBe(200);
    expect((await console_.ok<{ consents: unknown[] }>("GET", "/consents")).consents).toEqual([]);
    expect((await key()).state).toBe("passphrase");
  });

  it("expires when nobody decides", async () => {
    const id = await ask();
    await system("update consents set expires_at = now() - interval '1 minute' where id = $1", [id]);
    expect((await decide(id, "agreed", second)).body.detail).toContain("expired");
  });

  it("holds in the database too: nobody agrees to their own wish there", async () => {
    const id = await ask();
    await expect(
      system(
        "update consents set decision = 'agreed', decided_by = asked_by, decided_at = now() where id = $1",
        [id],
      ),
    ).rejects.toThrow(/check constraint/);
    expect((await decide(id, "declined", second)).status).toBe(200);
  });

  it("deletes a source with its points only when two agree, and never under a hold", async () => {
    const wish = async () =>
      (
        await console_.ok<{ consentId: string }>("POST", `/sources/${machine.sourceId}/deletion`, {
          reason: "the ship was sold",
        })
      ).consentId;
    const { hold } = await console_.ok<{ hold: { id: string } }>(
      "POST",
      `/sources/${machine.sourceId}/holds`,
      {
        reason: "a letter from the court",
      },
    );
    const held = await wish();
    expect(await decide(held, "agreed", second)).toMatchObject({ status: 409 });
    await console_.ok("DELETE", `/sources/${machine.sourceId}/holds/${hold.id}`);
    expect((await decide(held, "agreed", second)).status).toBe(200);
    const rows = await system<{ left: number; paused: boolean; rules: object | null }>(
      `select (select count(*)::int from points where source_id = s.id and dropped_at is null) as left, paused, rules from sources s where id = $1`,
      [machine.sourceId],
    );
    expect(rows).toEqual([{ left: 0, paused: true, rules: null }]);
    // in grace they can be brought back
    const { points } = await console_.ok<{ points: { id: string }[] }>(
      "GET",
      `/sources/${machine.sourceId}/recovery-points`,
    );
    for (const point of points) await console_.ok("POST", `/recovery-points/${point.id}/keep`);
    await console_.ok("PATCH", `/sources/${machine.sourceId}`, { policyId: client.policyId, paused: false });
  });

  it("destroys the key when the second agrees, with a certificate; paper still opens the depot", async () => {
    const { fingerprint } = await key();
    expect((await decide(await ask(), "agreed", second)).status).toBe(200);
    expect(await key()).toMatchObject({ state: "destroyed", open: false });
    expect(await browse()).toMatchObject({ status: 410, body: { code: "key.destroyed" } });
    expect(await backUp(console_, machine.sourceId).catch((error: Error) => error.message)).toContain(
      "destroyed",
    );
    const { certificate } = await console_.ok<{ certificate: { body: Record<string, unknown> } }>(
      "GET",
      `/clients/${client.id}/key/certificate`,
    );
    expect(certificate.body).toMatchObject({
      client: "Thornquay Shipping Agents",
      fingerprint,
      heldIn: "passphrase",
      askedBy: "Ines Marlow",
      agreedBy: "Tobin Asher",
      points: 3,
      sources: 2,
    });
    const [left] = await system<{ n: number }>(
      "select (select count(*) from machine_keys where client_id = $1)::int as n",
      [client.id],
    );
    expect(left!.n).toBe(0);
    const { rows } = await console_.ok<{ rows: { action: string }[] }>("GET", `/trail?client=${client.id}`);
    for (const action of [
      "asked to destroy the key",
      "agreed to destroy the key",
      "destroyed the client's key",
    ])
      expect(rows.map((row) => row.action)).toContain(action);
    expect(readDepot(client.depotPath, keyOfSheet(client.groups)).length).toBe(3);
  });
});
