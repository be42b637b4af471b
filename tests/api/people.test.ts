import { execFileSync } from "node:child_process";
import { generate } from "otplib";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { insertToken } from "@/db/access/sessions";
import { hashSecret } from "@/store/seal/secrets";
import { makeClient, type TestClient } from "../client";
import { TestConsole } from "../test-console";

let console_: TestConsole;
let client: TestClient;
let other: TestClient;

beforeAll(async () => {
  console_ = await TestConsole.start();
  client = await makeClient(console_, "Vossel & Daughters Bakery");
  other = await makeClient(console_, "Brackenfold Dental");
});
afterAll(() => console_?.stop());

const LONG = "flour on the harbour steps";
/** The session's cookie of an answer that signs in. */
const cookieOf = (headers: Headers) => headers.get("set-cookie")!.split(";")[0]!;
const withSession = (cookie: string) => ({ cookie, origin: console_.url });
const signIn = (email: string, password: string, code?: string, agent = "tests") =>
  console_.call("POST", "/sessions", { email, password, ...(code ? { code } : {}) }, null, {
    "user-agent": agent,
  });
const asked = (method: string, path: string, cookie: string, body?: unknown) =>
  console_.call<Record<string, never>>(method, path, body, null, withSession(cookie));
const secretOf = (url: string) => url.split("/").at(-1)!;
const codeOf = (seed: string, at = Date.now()) => generate({ secret: seed, epoch: Math.floor(at / 1000) });

interface Invited {
  person: { id: string; role: string };
  invitation: { url: string; mailed: boolean };
}
const invite = (email: string, role: string, clientId = client.id) =>
  console_.ok<Invited>("POST", `/clients/${clientId}/people`, { name: "Greta Vossel", email, role });

/** Invites, takes up, and answers the cookie of the new session. */
async function newcomer(email: string, role: string): Promise<{ id: string; cookie: string }> {
  const { person, invitation } = await invite(email, role);
  const taken = await console_.call(
    "POST",
    `/invitations/${secretOf(invitation.url)}`,
    { password: LONG },
    null,
  );
  return { id: person.id, cookie: cookieOf(taken.headers) };
}

describe("an invitation", () => {
  it("lets a person choose a password, once, and says so to whoever opens it later", async () => {
    const { invitation } = await invite("greta@vossel.example", "person");
    expect(invitation).toMatchObject({ mailed: false });
    const address = `/invitations/${secretOf(invitation.url)}`;
    expect((await signIn("greta@vossel.example", LONG)).status).toBe(401);
    expect((await console_.call("GET", address, undefined, null)).body).toMatchObject({
      invitation: { name: "Greta Vossel", email: "greta@vossel.example" },
    });
    expect((await console_.call("POST", address, { password: "short" }, null)).status).toBe(422);
    const taken = await console_.call("POST", address, { password: LONG }, null);
    expect(taken.body).toMatchObject({ person: { role: "person", clientId: client.id } });
    expect((await console_.call("POST", address, { password: `${LONG} again` }, null)).status).toBe(404);
    expect((await signIn("greta@vossel.example", LONG)).status).toBe(200);
  });

  it("refuses a password that is among the first to be guessed, at its field", async () => {
    const { person, invitation } = await console_.ok<{
      person: { id: string };
      invitation: { url: string };
    }>("POST", "/people", { name: "Rosalind Quay", email: "rosalind@lanternfold.example", role: "reader" });
    expect(person.id).toBeTruthy();
    const take = (password: string) =>
      console_.call<{ errors: { field: string; message: string }[] }>(
        "POST",
        `/invitations/${secretOf(invitation.url)}`,
        { password },
        null,
      );
    for (const password of [
      "passwordpassword",
      "123456789012",
      "Qwertyuiop12",
      "rosalindquay",
      "rosalind@lanternfold",
    ]) {
      const answer = await take(password);
      expect([password, answer.status, answer.body.errors[0]?.field]).toEqual([password, 422, "password"]);
      expect(answer.body.errors[0]!.message).toContain("easy to guess");
    }
    expect((await take("nine herrings swim inland")).status).toBe(200);
  });

  it("is void once another was made, and an address belongs to one person", async () => {
    const { person, invitation } = await invite("lena@vossel.example", "person");
    await console_.ok("POST", `/people/${person.id}/invitation`);
    expect(
      (await console_.call("GET", `/invitations/${secretOf(invitation.url)}`, undefined, null)).status,
    ).toBe(404);
    const twice = await console_.call("POST", `/clients/${other.id}/people`, {
      name: "Somebody",
      email: "LENA@vossel.example",
      role: "person",
    });
    expect(twice.body).toMatchObject({ errors: [{ field: "email" }] });
  });
});

describe("a second factor", () => {
  let cookie: string;
  let seed: string;
  let codes: string[];
  let confirming: string;
  let confirmedAt: number;
  const email = "hanne@vossel.example";

  it("counts once a code of it was given", async () => {
    ({ cookie } = await newcomer(email, "manager"));
    expect((await asked("POST", "/account/factor", cookie, { password: "not this" })).status).toBe(422);
    const begun = await asked("POST", "/account/factor", cookie, { password: LONG });
    ({ seed } = begun.body as unknown as { seed: string });
    expect((begun.body as unknown as { qr: string }).qr).toMatch(/^data:image\/png/);
    expect((await signIn(email, LONG)).status).toBe(200);
    expect((await asked("POST", "/account/factor/confirm", cookie, { code: "000000" })).status).toBe(422);
    confirmedAt = Date.now();
    confirming = await codeOf(seed, confirmedAt);
    const confirmed = await asked("POST", "/account/factor/confirm", cookie, { code: confirming });
    codes = (confirmed.body as unknown as { recoveryCodes: string[] }).recoveryCodes;
    expect(new Set(codes).size).toBe(10);
  });

  it("is asked for besides the password, and takes no code twice", async () => {
    expect((await signIn(email, LONG)).body).toMatchObject({ code: "auth.factor-needed" });
    // The code that confirmed it is used up. Codes are of fixed moments: the clock may go on to the
    // next half minute between two lines.
    expect((await signIn(email, LONG, confirming)).status).toBe(401);
    const next = await codeOf(seed, confirmedAt + 30_000);
    expect((await signIn(email, LONG, next)).status).toBe(200);
    expect((await signIn(email, LONG, next)).status).toBe(401);
    expect((await signIn(email, "not this one", await codeOf(seed))).status).toBe(401);
  });

  it("opens with a recovery code, each once, however it is typed", async () => {
    const typed = codes[0]!.toUpperCase().replace("-", " ");
    expect((await signIn(email, LONG, typed)).status).toBe(200);
    expect((await signIn(email, LONG, typed)).status).toBe(401);
    expect((await asked("GET", "/account", cookie)).body).toMatchObject({ recoveryCodesLeft: 9 });
  });

  it("is taken away by a technician when it is lost, and the sessions end with it", async () => {
    const { people } = await console_.ok<{ people: { id: string; email: string }[] }>(
      "GET",
      `/clients/${client.id}/people`,
    );
    const hanne = people.find((person) => person.email === email)!;
    await console_.ok("DELETE", `/people/${hanne.id}/factor`);
    expect((await asked("GET", "/me", cookie)).status).toBe(401);
    expect((await signIn(email, LONG)).status).toBe(200);
  });

  it("closes everything else to a role that must have one", async () => {
    const token = await console_.addPerson({
      email: "tobias@lanternfold.example",
      name: "Tobias Renn",
      role: "technician",
      clientId: null,
    });
    const locked = await console_.call("PUT", "/people/factor-roles", { roles: ["owner"] });
    expect(locked.body).toMatchObject({ errors: [{ field: "roles" }] });
    await console_.ok("PUT", "/people/factor-roles", { roles: ["technician"] });
    const refused = await console_.call("GET", "/clients", undefined, token);
    expect(refused).toMatchObject({ status: 403, body: { code: "auth.factor-missing" } });
    expect((await console_.call("GET", "/account", undefined, token)).status).toBe(200);
    const page = await fetch(`${console_.url}/all/watch`, {
      headers: { cookie: cookieOf((await signIn("tobias@lanternfold.example", console_.password)).headers) },
      redirect: "manual",
    });
    expect(await page.text()).not.toContain("Vossel");
    await console_.ok("PUT", "/people/factor-roles", { roles: [] });
    expect((await console_.call("GET", "/clients", undefined, token)).status).toBe(200);
  });
});

describe("whoever is locked out", () => {
  it("gets a sign-in anew from the machine itself", async () => {
    const email = "ines@lanternfold.example";
    const made = execFileSync(
      process.execPath,
      ["dist/keep.mjs", "sign-in", email, "--console", console_.url],
      {
        env: { ...process.env, DEEPKEEP_HOME: console_.home },
        encoding: "utf8",
      },
    );
    const path = new URL(made.split("\n")[0]!).pathname.replace("/invitation/", "/invitations/");
    const taken = await console_.call("POST", path, { password: console_.password }, null);
    expect(taken.body).toMatchObject({ person: { role: "owner" } });
    // the reset ended the tests' own token
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      insertToken(
        tx,
        hashSecret(console_.token),
        (taken.body as unknown as { person: { id: string } }).person.id,
        "test",
        new Date(),
        new Date(Date.now() + 86_400_000),
      ),
    );
    expect(JSON.stringify(await console_.ok("GET", "/trail"))).toContain("reset a sign-in");
  });
});

describe("sessions", () => {
  it("are listed and ended one by one, and all but one with a new password", async () => {
    const { cookie } = await newcomer("till@vossel.example", "person");
    const second = cookieOf((await signIn("till@vossel.example", LONG, undefined, "a telephone")).headers);
    const third = cookieOf((await signIn("till@vossel.example", LONG, undefined, "a tablet")).headers);
    const { sessions } = (await asked("GET", "/account", cookie)).body as unknown as {
      sessions: { id: string; agent: string; current: boolean }[];
    };
    expect(sessions.map(({ agent }) => agent)).toEqual(expect.arrayContaining(["a telephone", "a tablet"]));
    expect(sessions.filter(({ current }) => current)).toHaveLength(1);
    const telephone = sessions.find(({ agent }) => agent === "a telephone")!;
    expect((await asked("DELETE", `/account/sessions/${telephone.id}`, third)).status).toBe(200);
    expect((await asked("GET", "/me", second)).status).toBe(401);
    const changed = await asked("PUT", "/account/password", cookie, {
      password: LONG,
      newPassword: `${LONG} and more`,
    });
    expect(changed.body).toEqual({ sessionsEnded: 1, tokensEnded: 0 });
    expect((await asked("GET", "/me", third)).status).toBe(401);
    expect((await asked("GET", "/me", cookie)).status).toBe(200);
    expect((await signIn("till@vossel.example", LONG)).status).toBe(401);
  });

  it("let nobody guess the password of whoever left one open", async () => {
    const { cookie } = await newcomer("counter@vossel.example", "person");
    const guess = () => asked("POST", "/account/factor", cookie, { password: "a guess" });
    for (let i = 0; i < 10; i += 1) expect((await guess()).status).toBe(422);
    expect((await guess()).status).toBe(429);
    expect((await asked("POST", "/account/factor", cookie, { password: LONG })).status).toBe(429);
  });

  it("of a client's people end when nothing happens, of the provider's do not", async () => {
    const { cookie } = await newcomer("order@vossel.example", "person");
    const owner = cookieOf((await signIn("ines@lanternfold.example", console_.password)).headers);
    await console_.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update sessions set seen_at = seen_at - interval '21 minutes'"),
    );
    expect((await asked("GET", "/me", cookie)).status).toBe(401);
    expect((await asked("GET", "/me", owner)).status).toBe(200);
  });

  it("from a new browser are told by mail, from a known one not", async () => {
    await console_.ok("PUT", "/mail-server", {
      host: "127.0.0.1",
      port: 9,
      security: "none",
      sender: "deep-keep@lanternfold.example",
    });
    await newcomer("mara@vossel.example", "person");
    const told = async () =>
      (
        await console_.services.db.withScope({ role: "system" }, (tx) =>
          tx.query("select recipient from messages where subject like '%new browser%' and recipient = $1", [
            "mail:mara@vossel.example",
          ]),
        )
      ).rowCount;
    const before = await told();
    await signIn("mara@vossel.example", LONG, undefined, "Loom/12.1");
    expect(await told()).toBe(before! + 1);
    await signIn("mara@vossel.example", LONG, undefined, "Loom/12.2");
    expect(await told()).toBe(before! + 1);
  });
});

describe("tokens for the API", () => {
  it("read alone where they are made so, expire, and are void when ended", async () => {
    const owner = cookieOf((await signIn("ines@lanternfold.example", console_.password)).headers);
    const made = await asked("POST", "/account/tokens", owner, { name: "tickets", reach: "read", days: 30 });
    const { id, token } = made.body as unknown as { id: string; token: string };
    expect((await console_.call("GET", "/clients", undefined, token)).status).toBe(200);
    expect((await console_.call("POST", `/clients/${client.id}/sites`, { name: "Shop" }, token)).status).toBe(
      403,
    );
    await asked("DELETE", `/account/tokens/${id}`, owner);
    expect((await console_.call("GET", "/clients", undefined, token)).status).toBe(401);
  });
});

describe("the provider's people", () => {
  it("are limited to some clients, and see the others' trail, runs and sources nowhere", async () => {
    const { person, invitation } = await console_.ok<Invited>("POST", "/people", {
      name: "Bryn Ashdown",
      email: "bryn@lanternfold.example",
      role: "technician",
      clientIds: [client.id],
    });
    const taken = await console_.call(
      "POST",
      `/invitations/${secretOf(invitation.url)}`,
      { password: LONG },
      null,
    );
    const cookie = cookieOf(taken.headers);
    const { clients } = (await asked("GET", "/clients", cookie)).body as unknown as {
      clients: { id: string }[];
    };
    expect(clients.map(({ id }) => id)).toEqual([client.id]);
    expect(JSON.stringify((await asked("GET", "/trail", cookie)).body)).not.toContain("Brackenfold");
    // nor do they change what is everybody's
    const server = { host: "127.0.0.1", port: 9, security: "none", sender: "other@lanternfold.example" };
    expect((await asked("PUT", "/mail-server", cookie, server)).status).toBe(403);
    await console_.ok("PATCH", `/people/${person.id}`, { clientIds: [] });
    expect(
      ((await asked("GET", "/clients", cookie)).body as unknown as { clients: [] }).clients,
    ).toHaveLength(2);
  });

  it("read, as readers, all but what points hold; what they take along is in the trail", async () => {
    const token = await console_.addPerson({
      email: "sela@lanternfold.example",
      name: "Sela Wynn",
      role: "reader",
      clientId: null,
    });
    expect((await console_.call("GET", "/watch", undefined, token)).status).toBe(200);
    expect((await console_.call("GET", "/trail/export", undefined, token)).status).toBe(200);
    expect(JSON.stringify(await console_.ok("GET", "/trail?search=exported"))).toContain("Sela Wynn");
    const nobodys = `/trail/export?client=${client.siteId}`;
    expect((await console_.call("GET", nobodys, undefined, token)).status).toBe(404);
    expect((await console_.call("GET", "/clients", undefined, token)).status).toBe(200);
  });

  it("keep an owner, and no technician makes themself one", async () => {
    const { people } = await console_.ok<{ people: { id: string; role: string }[] }>("GET", "/people");
    const owner = people.find(({ role }) => role === "owner")!;
    const kept = await console_.call("PATCH", `/people/${owner.id}`, { role: "technician" });
    expect(kept.body).toMatchObject({ errors: [{ field: "role" }] });
    expect((await console_.call("DELETE", `/people/${owner.id}`)).status).toBe(409);
    const cookie = cookieOf((await signIn("tobias@lanternfold.example", console_.password)).headers);
    const tobias = people.find(({ role }) => role === "technician")!;
    expect((await asked("PATCH", `/people/${tobias.id}`, cookie, { role: "owner" })).status).toBe(403);
    expect((await asked("GET", "/people", cookie)).status).toBe(403);
  });

  it("close an account, and its address is free again", async () => {
    const { id, cookie } = await newcomer("leaver@vossel.example", "manager");
    await console_.ok("DELETE", `/people/${id}`);
    expect((await asked("GET", "/me", cookie)).status).toBe(401);
    expect((await signIn("leaver@vossel.example", LONG)).status).toBe(401);
    await newcomer("leaver@vossel.example", "person");
  });
});
