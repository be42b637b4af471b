import { execFileSync } from "node:child_process";
import { readFileSync, renameSync, writeFileSync } from "node:fs";
import { get, request } from "node:https";
import { createServer, type Socket } from "node:net";
import { join } from "node:path";
import { createServer as createSecure } from "node:tls";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { trailAfter, trailSent, verifyTrail } from "@/db/access/trail";
import { trailTarget } from "@/runs/trail-sending";
import { readSettings } from "@/server/base/settings";
import { freshFolder } from "../depot";
import { TestConsole, until } from "../test-console";

/** What whoever operates a console can ask of it: TLS, proxies, places that are forbidden, a log server, a vault. */
let console_: TestConsole;
const folder = freshFolder("operating");
const cert = join(folder, "cert.pem");
const key = join(folder, "key.pem");
const makeCertificate = () =>
  execFileSync(
    "openssl",
    `req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -days 2 -subj /CN=localhost -addext subjectAltName=DNS:localhost -keyout ${key} -out ${cert}`.split(
      " ",
    ),
    { stdio: "ignore" },
  );

beforeAll(async () => {
  makeCertificate();
  console_ = await TestConsole.start();
});
afterAll(() => console_?.stop());

interface Told {
  readonly status: number;
  readonly headers: NodeJS.Dict<string | string[]>;
  readonly protocol: string | null;
}
/** Asks over TLS, trusting our certificate alone. */
const asked = (path: string, options: object = {}): Promise<Told> =>
  new Promise((resolve, reject) => {
    const asking = get(
      { host: "localhost", port: console_.port, path, ca: readFileSync(cert), agent: false, ...options },
      (response) => {
        const protocol = (response.socket as unknown as { getProtocol(): string }).getProtocol();
        response.resume();
        resolve({ status: response.statusCode!, headers: response.headers, protocol });
      },
    );
    asking.on("error", reject);
  });

describe("TLS by the console itself", () => {
  beforeAll(async () => {
    await console_.killWeb();
    console_.startWeb({ DEEPKEEP_TLS_CERT: cert, DEEPKEEP_TLS_KEY: key });
    await until(async () => (await asked("/readyz")).status === 200, "the web does not answer over TLS");
  });
  afterAll(async () => {
    await console_.killWeb();
    console_.startWeb();
    await console_.healthy();
  });

  it("answers over TLS, says that nobody should come without, and marks its cookie", async () => {
    const page = await asked("/sign-in");
    expect(page).toMatchObject({ status: 200, protocol: "TLSv1.3" });
    expect(page.headers["strict-transport-security"]).toMatch(/^max-age=\d{8}/);
    const signedIn = await new Promise<NodeJS.Dict<string | string[]>>((resolve, reject) => {
      const body = JSON.stringify({ email: "ines@lanternfold.example", password: console_.password });
      const asking = request(
        {
          host: "localhost",
          port: console_.port,
          path: "/api/v1/sessions",
          method: "POST",
          ca: readFileSync(cert),
          headers: {
            "content-type": "application/json",
            "content-length": Buffer.byteLength(body),
            origin: `https://localhost:${console_.port}`,
          },
        },
        (response) => resolve(response.headers),
      );
      asking.on("error", reject);
      asking.end(body);
    });
    expect(String(signedIn["set-cookie"])).toMatch(/^__Host-.*Secure/);
  });

  it("speaks nothing older than TLS 1.2, and nothing in the clear", async () => {
    await expect(asked("/readyz", { maxVersion: "TLSv1.1", minVersion: "TLSv1" })).rejects.toThrow();
    await expect(fetch(`http://127.0.0.1:${console_.port}/readyz`)).rejects.toThrow();
  });

  it("says what is missing where only the certificate is named", async () => {
    await console_.killWeb();
    console_.startWeb({ DEEPKEEP_TLS_CERT: cert });
    await until(
      async () => console_.logOf("web").includes("DEEPKEEP_TLS_KEY name a PEM file each"),
      "the web does not say what it lacks",
    );
  });
});

describe("who called", () => {
  const addressOfRefusal = async (headers: Record<string, string>): Promise<string | undefined> => {
    await console_.call("POST", "/sessions", { email: "who@x.example", password: "wrong" }, null, headers);
    const rows = await console_.services.db.withScope({ role: "system" }, (tx) =>
      trailAfter(tx, { search: "who@x.example" }, 0, 500),
    );
    return rows.at(-1)?.address;
  };

  it("is told by a proxy on this machine, unless nobody is believed", async () => {
    const forged = { "x-forwarded-for": "198.51.100.7", "x-forwarded-proto": "https" };
    expect(await addressOfRefusal(forged)).toBe("198.51.100.7");
    await console_.killWeb();
    console_.startWeb({ DEEPKEEP_PROXIES: "" });
    await console_.healthy();
    expect(await addressOfRefusal(forged)).toBe("127.0.0.1");
    const page = await fetch(`${console_.url}/sign-in`, { headers: forged });
    expect(page.headers.get("strict-transport-security")).toBeNull();
    await console_.killWeb();
    console_.startWeb();
    await console_.healthy();
  });
});

describe("places that nobody may name", () => {
  const refused = async (path: string, body: object): Promise<string[]> => {
    const answer = await console_.call<{ errors: { field: string; message: string }[] }>("POST", path, body);
    expect(answer.status).toBe(422);
    return answer.body.errors.map(({ field, message }) => `${field}: ${message}`);
  };
  const bucket = {
    kind: "s3",
    bucketRegion: "x",
    bucket: "depot",
    accessKeyId: "a",
    secretAccessKey: "b",
  };

  it.each(["169.254.10.20", "[fe80::1]", "0.0.0.0", "[::ffff:169.254.10.20]"])(
    "are refused beside the field: %s",
    async (host) => {
      const [webhook] = await refused("/webhooks", { name: "Near", url: `http://${host}/latest` });
      expect(webhook).toMatch(/^url: .* is not to be reached from here\.$/);
      const [endpoint] = await refused("/depots/test", { ...bucket, endpoint: `http://${host}:9000` });
      expect(endpoint).toMatch(/^endpoint: /);
    },
  );

  it("are weighed by where a name leads, as the operator says", async () => {
    await console_.killWeb();
    console_.startWeb({ DEEPKEEP_FORBIDDEN: "127.0.0.0/8, ::1" });
    await console_.healthy();
    let asked = 0;
    const near = createServer(() => {
      asked += 1;
    });
    await new Promise<void>((resolve) => near.listen(0, resolve));
    const { port } = near.address() as { port: number };
    const { webhook } = await console_.ok<{ webhook: { id: string } }>("POST", "/webhooks", {
      name: "By its name",
      url: `http://localhost:${port}/`,
    });
    const sent = await console_.call("POST", "/messages/test", { webhookId: webhook.id });
    expect(sent.body).toMatchObject({
      code: "notice.not-sent",
      detail: expect.stringContaining("localhost lies at"),
    });
    const tested = await console_.call("POST", "/depots/test", {
      ...bucket,
      endpoint: `http://localhost:${port}`,
    });
    expect(JSON.stringify(tested.body)).toContain("localhost lies at");
    expect(asked).toBe(0);
    near.close();
    await console_.killWeb();
    console_.startWeb();
    await console_.healthy();
  });
});

describe("the trail, sent to a log server", () => {
  /** A log server as small as can be: it keeps what came, message by message (RFC 6587, 3.4.1). */
  async function logServer(secure: boolean) {
    const parts: Buffer[] = [];
    const take = (socket: Socket) => {
      socket.on("data", (part) => parts.push(part));
      socket.on("error", () => {});
    };
    const server = secure
      ? createSecure({ cert: readFileSync(cert), key: readFileSync(key) }, take)
      : createServer(take);
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const messages = () => {
      const stream = Buffer.concat(parts);
      const found: string[] = [];
      for (let at = 0; at < stream.length; ) {
        const space = stream.indexOf(" ", at);
        const length = Number(stream.subarray(at, space).toString());
        found.push(stream.subarray(space + 1, space + 1 + length).toString("utf8"));
        at = space + 1 + length;
      }
      return found;
    };
    return { server, messages, port: (server.address() as { port: number }).port };
  }
  const trailRows = () =>
    console_.services.db.withScope({ role: "system" }, (tx) => trailAfter(tx, {}, 0, 1000));
  const told = (message: string) => JSON.parse(message.slice(message.indexOf("\ufeff") + 1));

  it.each([false, true])(
    "gets every row once, in order, also after it was away (TLS: %s)",
    async (secure) => {
      const log = await logServer(secure);
      const to = secure ? `tls://localhost:${log.port}` : `tcp://127.0.0.1:${log.port}`;
      const start = () => console_.startRunner({ DEEPKEEP_TRAIL_TO: to, NODE_EXTRA_CA_CERTS: cert });
      await console_.killRunner();
      start();
      const all = async () => (await trailRows()).map((row) => Number(row.id));
      const came = () => log.messages().map((message) => told(message).id as number);
      await until(async () => JSON.stringify(came()) === JSON.stringify(await all()), "not all rows came");
      const [first] = log.messages();
      expect(first).toMatch(/^<110>1 \d{4}-\d\d-\d\dT[\d:.]+Z \S+ deep-keep - trail - \ufeff\{/);
      const [row] = await trailRows();
      expect(told(first!)).toMatchObject({ actor: row!.actor, hash: row!.hash.toString("hex") });
      const noted = () => console_.services.db.withScope({ role: "system" }, (tx) => trailSent(tx, to));
      await until(async () => (await noted()) === (await all()).at(-1), "what was sent is not noted");
      // a runner that begins anew sends none of them again
      await console_.killRunner();
      await console_.call("POST", "/sessions", { email: "later@x.example", password: "wrong" }, null);
      start();
      await until(
        async () => JSON.stringify(came()) === JSON.stringify(await all()),
        "the new row did not come",
      );
      await console_.killRunner();
      log.server.close();
      console_.startRunner();
      expect(await console_.services.db.withScope({ role: "system" }, verifyTrail)).toBeNull();
    },
  );

  it("is refused an address that is none, in words", () => {
    expect(trailTarget(undefined)).toBeNull();
    expect(trailTarget("tls://[2001:db8::5]:6514")).toMatchObject({
      secure: true,
      host: "2001:db8::5",
      port: 6514,
    });
    for (const wrong of ["log.example", "udp://log.example:514", "tls://log.example"])
      expect(() => trailTarget(wrong)).toThrow("tls://host:6514");
  });
});

describe("a master key from a vault", () => {
  it("comes from what a program prints, and the data folder holds none", async () => {
    const file = join(console_.home, "master.key");
    const vault = join(folder, "vault");
    renameSync(file, vault);
    await console_.killWeb();
    const command = { DEEPKEEP_MASTER_KEY_COMMAND: `cat ${vault}` };
    console_.startWeb(command);
    await console_.healthy();
    const env = { ...process.env, DEEPKEEP_HOME: console_.home };
    expect(readSettings({ ...env, ...command }).masterKey).toMatch(/^[0-9a-f]{64}$/);
    expect(() => readSettings({ ...env, DEEPKEEP_MASTER_KEY_COMMAND: "false" })).toThrow(
      "returned no master key",
    );
    writeFileSync(join(folder, "short"), "abc\n");
    expect(() =>
      readSettings({ ...env, DEEPKEEP_MASTER_KEY_COMMAND: `cat ${join(folder, "short")}` }),
    ).toThrow("64 hex digits");
    renameSync(vault, file);
  });
});

describe("figures for a monitoring program", () => {
  it("are there for a token of somebody who sees all clients, and for nobody else", async () => {
    const asked = (token: string | null) =>
      fetch(`${console_.url}/metrics`, { headers: token ? { authorization: `Bearer ${token}` } : {} });
    const client = await console_.ok<{ client: { id: string } }>("POST", "/clients", {
      name: "Kestrin Aquaculture",
      zone: "UTC",
      region: "south",
      contactName: "Rewi",
      contactEmail: "rewi@kestrin.example",
      sites: ["Hatchery"],
    });
    const manager = await console_.addPerson({
      email: "rewi@kestrin.example",
      name: "Rewi",
      role: "manager",
      clientId: client.client.id,
    });
    const limited = await console_.addPerson({
      email: "bryn@lanternfold.example",
      name: "Bryn",
      role: "technician",
      clientId: null,
      clientIds: [client.client.id],
    });
    expect([(await asked(null)).status, (await asked("nonsense")).status]).toEqual([401, 401]);
    expect([(await asked(manager)).status, (await asked(limited)).status]).toEqual([403, 403]);
    const answer = await asked(console_.token);
    expect(answer.headers.get("content-type")).toMatch(/^text\/plain; version=0\.0\.4/);
    const text = await answer.text();
    for (const line of [
      'deepkeep_sources{state="kept"} 0',
      "deepkeep_runs_due 0",
      "deepkeep_messages_waiting 0",
      "# TYPE deepkeep_depot_used_bytes gauge",
      "process_resident_memory_bytes ",
    ])
      expect(text).toContain(line);
    // of the log server before
    expect(text).toMatch(/^deepkeep_trail_unsent_rows \d+$/m);
  });
});
