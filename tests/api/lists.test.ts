import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { operations } from "@/app/api/operations";
import { MailServer } from "@/standins/mail/server";
import { type Mailbox, MailTenants, STANDARD_FOLDERS, type Tenant } from "@/standins/mail/tenants";
import { backUp, enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

/** Every list of the API, page after page, against the whole of it. */
let console_: TestConsole;
let client: TestClient;
let machine: TestMachine;
let person: { id: string; token: string };
let manager: { id: string; token: string };
let giftId = "";
let pointId = "";
let mailPointId = "";
let mailGiftId = "";
let mailOwner: { id: string; token: string };
let mail: MailServer;
const listed = operations.filter(({ query }) => query && "cursor" in query.shape);

async function somebody(name: string, role: "person" | "manager", clientId = client.id) {
  const token = await console_.addPerson({
    email: `${name.toLowerCase()}@vossel.example`,
    name,
    role,
    clientId,
  });
  const { body } = await console_.call<{ person: { id: string } }>("GET", "/me", undefined, token);
  return { id: body.person.id, token };
}

/** A recovery point of a mailbox with three messages. */
async function mailPoint(): Promise<string> {
  const trust = await makeClient(console_, "Pendlewick Housing Trust", { folder: "/" });
  const world = new MailTenants(freshFolder("mail"));
  const box: Mailbox = {
    id: "lettings",
    address: "lettings@pendlewick.example",
    folders: STANDARD_FOLDERS,
    messages: [],
  };
  const tenant: Tenant = {
    tenantId: "trust",
    applications: [{ clientId: "keep", secret: "right", expiresAt: "2199-01-01T00:00:00.000Z" }],
    mailboxes: [box],
  };
  world.add(tenant);
  for (const n of [1, 2, 3])
    world.deliver(
      tenant,
      box,
      {
        id: `e${n}`,
        mailboxIds: { inbox: true },
        keywords: {},
        // two of them in one second
        receivedAt: `2026-11-01T08:00:0${Math.min(n, 2)}.000Z`,
        subject: `Letter ${n}`,
      },
      Buffer.from(`Subject: Letter ${n}\r\n\r\nletter ${n}\r\n`),
    );
  mail = new MailServer(world);
  await console_.ok("POST", `/clients/${trust.id}/connections`, {
    kind: "mail",
    siteId: trust.siteId,
    name: "Trust mail",
    address: await mail.listen(),
    tenantId: "trust",
    clientId: "keep",
    clientSecret: "right",
    region: "north harbour",
  });
  const { sources } = await console_.ok<{ sources: { id: string }[] }>("GET", `/sources?client=${trust.id}`);
  await console_.ok("PATCH", `/sources/${sources[0]!.id}`, { policyId: trust.policyId });
  mailOwner = await somebody("Corin", "person", trust.id);
  const { gift } = await console_.ok<{ gift: { id: string } }>("POST", `/clients/${trust.id}/gifts`, {
    personId: mailOwner.id,
    sourceId: sources[0]!.id,
    path: "/",
    askFirst: false,
  });
  mailGiftId = gift.id;
  return (await backUp(console_, sources[0]!.id)).figures.point!;
}

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  const other = await makeClient(console_, "Brackenfold Dental");
  machine = await enrolMachine(console_, client, "voss-lt-01");
  await enrolMachine(console_, client, "voss-lt-02");
  person = await somebody("Greta", "person");
  manager = await somebody("Hanne", "manager");
  await console_.addPerson({
    email: "tobias@lanternfold.example",
    name: "Tobias Renn",
    role: "technician",
    clientId: null,
  });
  console_.runAgent(machine.state);
  const data = join(machine.root, "data");
  mkdirSync(join(data, "recipes"), { recursive: true });
  for (const name of ["rye", "barley", "spelt"]) writeFileSync(join(data, "recipes", name), name);
  for (const text of ["first", "second words", "third and longer"]) {
    writeFileSync(join(data, "recipes/rye"), text);
    expect((await backUp(console_, machine.sourceId)).outcome).toBe("clean");
  }
  const { points } = await console_.ok<{ points: { id: string }[] }>(
    "GET",
    `/sources/${machine.sourceId}/recovery-points`,
  );
  pointId = points[0]!.id;
  for (const path of ["/data/recipes", "/data"]) {
    const { gift } = await console_.ok<{ gift: { id: string } }>("POST", `/clients/${client.id}/gifts`, {
      personId: person.id,
      sourceId: machine.sourceId,
      path,
      askFirst: true,
    });
    giftId = gift.id;
    for (const file of ["rye", "spelt"])
      await console_.call(
        "POST",
        "/given/restores",
        { items: [{ giftId: gift.id, pointId, path: `/data/recipes/${file}` }] },
        person.token,
      );
    await console_.ok("POST", `/recovery-points/${pointId}/viewings`, {
      people: [person.id],
      hours: 2,
      path,
    });
  }
  for (const { id, depotId } of [client, other]) {
    const grant = `/depots/${depotId}/grants/${id}`;
    await console_.ok("PUT", grant, { quotaBytes: 1e9, lockDays: 7 });
    await console_.ok("PUT", grant, { quotaBytes: 1e9, lockDays: 2, reason: "they bought two days" });
    await console_.ok("POST", "/webhooks", {
      name: `Chat of ${id}`,
      url: "https://chat.lanternfold.example/",
    });
  }
  for (const depth of ["objects", "trees"]) {
    await console_.ok("POST", `/depots/${client.depotId}/grants/${client.id}/checks`, { depth });
    await until(
      async () =>
        (
          await console_.ok<{ checks: { endedAt: string | null }[] }>(
            "GET",
            `/depots/${client.depotId}/checks`,
          )
        ).checks.every(({ endedAt }) => endedAt !== null),
      "the check does not end",
    );
  }
  const { policy } = await console_.ok<{ policy: { revision: number; clauses: object } }>(
    "GET",
    `/policies/${client.policyId}`,
  );
  await console_.ok("PUT", `/policies/${client.policyId}`, {
    name: "Everything there is",
    revision: policy.revision,
    clauses: policy.clauses,
  });
  await console_.services.db.withScope({ role: "system" }, (tx) =>
    tx.query(
      `insert into messages (id, client_id, recipient, subject, body, made_at, sent_at)
       select gen_random_uuid(), $1, 'mail:sefa@vossel.example', 'Page ' || n, '', '2026-03-01 20:00:00+00', now() from generate_series(1, 3) n`,
      [client.id],
    ),
  );
  mailPointId = await mailPoint();
}, 180_000);
afterAll(async () => {
  await mail?.close();
  await console_?.stop();
});

/** Query parameters that a list cannot do without. */
const NEEDS: Readonly<Record<string, string>> = {
  listVersions: "path=/data/recipes/rye",
  listGivenVersions: "path=/data/recipes/rye",
  listEntries: "path=/data/recipes",
  listGivenEntries: "path=/data/recipes",
  listMessagesInside: "path=/Inbox",
  listMessagesInsideGiven: "path=/Inbox",
};
/** Names of lists in answers, where there is more than one array. */
const ROWS: Readonly<Record<string, string>> = {
  listRuns: "past",
  readTrail: "rows",
  listEntries: "entries",
  listGivenEntries: "entries",
  listMessages: "messages",
  listMessagesInside: "messages",
  listMessagesInsideGiven: "messages",
};

/** Where a list is asked for, and by whom. */
function asked(one: (typeof listed)[number]): { path: string; token: string } {
  const ofMail = /^listM(essagesInside|ailFolders)(Given)?$/.test(one.id);
  const ids: Record<string, string> = {
    clientId: client.id,
    depotId: client.depotId,
    policyId: client.policyId,
    sourceId: machine.sourceId,
    pointId: ofMail ? mailPointId : pointId,
    giftId: ofMail ? mailGiftId : giftId,
  };
  const owner = ofMail ? mailOwner : person;
  return {
    path: one.path.replace(/\{(\w+)\}/g, (_, name: string) => ids[name]!),
    token: one.caller === "given" ? owner.token : one.caller === "agree" ? manager.token : console_.token,
  };
}

describe("a list", () => {
  it.each(listed.map((one) => [one.id, one] as const))(
    "%s gives every row once, whatever the size of its pages",
    async (id, one) => {
      const { path, token } = asked(one);
      const of = one.pages?.of ?? ROWS[id]!;
      const page = async (limit: number, cursor: string | null) => {
        const query = [NEEDS[id], `limit=${limit}`, cursor && `cursor=${encodeURIComponent(cursor)}`];
        const answer = await console_.call<Record<string, unknown>>(
          "GET",
          `${path}?${query.filter(Boolean).join("&")}`,
          undefined,
          token,
        );
        expect(answer.status, JSON.stringify(answer.body)).toBe(200);
        return { rows: answer.body[of] as unknown[], next: answer.body.next as string | null };
      };
      const inPages = async (limit: number) => {
        const rows: unknown[] = [];
        let cursor: string | null = null;
        do {
          const found: { rows: unknown[]; next: string | null } = await page(limit, cursor);
          expect(found.rows.length).toBeLessThanOrEqual(limit);
          rows.push(...found.rows);
          cursor = found.next;
        } while (cursor !== null);
        return rows;
      };
      // what changes between two looks by itself is no part of a row's identity
      const still = (rows: unknown[]) =>
        rows.map((row) => JSON.stringify(row, (name, value) => (/seen|At$/i.test(name) ? null : value)));
      const whole = await page(500, null);
      expect(whole.next).toBeNull();
      expect(whole.rows.length).toBeGreaterThanOrEqual(2);
      expect(new Set(still(whole.rows)).size).toBe(whole.rows.length);
      for (const limit of [1, 2, whole.rows.length])
        expect(still(await inPages(limit)), `pages of ${limit}`).toEqual(still(whole.rows));
    },
  );

  it.each(listed.map((one) => [one.id, one] as const))(
    "%s refuses a cursor that is none",
    async (id, one) => {
      const { path, token } = asked(one);
      // of a folder every name is a place in it, also one that is not there
      if (ROWS[id] === "entries") return;
      const answer = await console_.call(
        "GET",
        `${path}?${NEEDS[id] ?? ""}&cursor=nonsense`,
        undefined,
        token,
      );
      expect(answer.body).toMatchObject({
        status: 422,
        errors: [{ field: "cursor", message: expect.stringContaining("first page") }],
      });
    },
  );

  it("is given in pages wherever an operation's name says that it lists", () => {
    const lists = operations.filter(({ id }) => /^list/.test(id)).map(({ id }) => id);
    const paged = new Set(listed.map(({ id }) => id));
    // the portal's one answer, a comparison of two points that names what it left out, and the table of codes
    expect(lists.filter((id) => !paged.has(id)).sort()).toEqual(["listChanges", "listCodes", "listGiven"]);
  });
});
