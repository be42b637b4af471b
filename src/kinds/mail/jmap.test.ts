import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { afterEach, describe, expect, it } from "vitest";
import { JmapClient, type MailAuth, type MailTenant } from "./jmap";

/** A mail server of a few lines that a test makes misbehave. */
type Answer = (request: IncomingMessage, response: ServerResponse, body: string) => void | Promise<void>;
const servers: Server[] = [];
afterEach(() => {
  for (const server of servers.splice(0)) {
    server.closeAllConnections();
    server.close();
  }
});
async function serve(answer: Answer): Promise<string> {
  const server = createServer(async (request, response) => {
    let body = "";
    for await (const part of request) body += part;
    await answer(request, response, body);
  });
  servers.push(server);
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
}
const json = (response: ServerResponse, body: unknown, status = 200, headers = {}) =>
  response.writeHead(status, { "content-type": "application/json", ...headers }).end(JSON.stringify(body));

const application: MailAuth = {
  kind: "application",
  tenantId: "trust",
  clientId: "keep",
  clientSecret: "secret",
};
const patience = { attempts: 4, firstPauseMs: 5, silenceMs: 300 };
const clientOf = (address: string, more: Partial<MailTenant> = {}) =>
  new JmapClient({ address, auth: application, ...more }, patience);

interface Stored {
  id: string;
  receivedAt: string;
  text: string;
  keywords?: Record<string, boolean>;
}
/** JMAP as the RFCs have it, over a list that a test changes while it is read. */
function mailServer(
  messages: Stored[],
  hooks: { onMethod?: (name: string, n: number) => void; content?: Answer } = {},
) {
  let calls = 0;
  const log: { at: number; created: string[]; destroyed: string[] }[] = [];
  let state = 0;
  const world = {
    messages,
    add(message: Stored) {
      messages.push(message);
      state += 1;
      log.push({ at: state, created: [message.id], destroyed: [] });
    },
    remove(id: string) {
      messages.splice(
        messages.findIndex((one) => one.id === id),
        1,
      );
      state += 1;
      log.push({ at: state, created: [], destroyed: [id] });
    },
    calculates: true,
  };
  const methods: Record<string, (args: Record<string, unknown>) => unknown> = {
    "Email/query": (args) => {
      const sorted = messages.toSorted((a, b) => (a.receivedAt < b.receivedAt ? -1 : 1));
      const anchor = sorted.findIndex((one) => one.id === args.anchor);
      if (args.anchor !== undefined && anchor < 0) throw new Error("anchorNotFound");
      const from =
        args.anchor === undefined ? Number(args.position ?? 0) : anchor + Number(args.anchorOffset);
      return {
        ids: sorted.slice(from, from + Number(args.limit)).map((one) => one.id),
        queryState: String(state),
      };
    },
    "Email/get": (args) => {
      const ids = args.ids as string[];
      const found = ids.flatMap((id) => messages.find((one) => one.id === id) ?? []);
      return {
        state: String(state),
        notFound: ids.filter((id) => !found.some((one) => one.id === id)),
        list: found.map(({ id, receivedAt, text, keywords = {} }) => ({
          id,
          blobId: id,
          mailboxIds: { inbox: true },
          keywords,
          receivedAt,
          size: text.length,
          subject: id,
        })),
      };
    },
    "Email/changes": (args) => {
      if (!world.calculates) throw new Error("cannotCalculateChanges");
      const since = log.filter((one) => one.at > Number(args.sinceState));
      return {
        newState: String(state),
        hasMoreChanges: false,
        created: since.flatMap((one) => one.created),
        updated: [],
        destroyed: since.flatMap((one) => one.destroyed),
      };
    },
  };
  const answer: Answer = async (request, response, body) => {
    if (request.url === "/.well-known/jmap") {
      response.writeHead(301, { location: "/jmap/session" }).end();
    } else if (request.url === "/jmap/session")
      json(response, {
        apiUrl: "/jmap/api",
        downloadUrl: "/jmap/download/{accountId}/{blobId}/{name}?type={type}",
        accounts: { box: { name: "lettings", accountCapabilities: null } },
        capabilities: { "urn:ietf:params:jmap:core": { maxObjectsInGet: 3 } },
      });
    else if (request.url === "/jmap/api") {
      const [[name, args, id]] = (
        JSON.parse(body) as { methodCalls: [[string, Record<string, unknown>, string]] }
      ).methodCalls;
      calls += 1;
      let methodResponses: unknown;
      try {
        methodResponses = [[name, methods[name]!(args), id]];
      } catch (error) {
        methodResponses = [["error", { type: (error as Error).message }, id]];
      }
      json(response, { methodResponses });
      hooks.onMethod?.(name, calls);
    } else if (hooks.content) await hooks.content(request, response, body);
    else {
      const id = decodeURIComponent(request.url!.split("/")[4]!);
      response.end(messages.find((one) => one.id === id)!.text);
    }
  };
  return { world, answer };
}
const stored = (n: number): Stored => ({
  id: `m${n}`,
  receivedAt: new Date(Date.UTC(2026, 10, 1, 8, n)).toISOString(),
  text: `text of ${n}`,
});
const password: MailAuth = { kind: "password", user: "lettings", password: "sesame" };

describe("where a secret may go", () => {
  const metadata =
    (change: (origin: string) => object): Answer =>
    (request, response) => {
      const origin = `http://${request.headers.host}`;
      if (request.url!.startsWith("/.well-known/oauth"))
        return void json(response, {
          issuer: `${origin}/trust`,
          token_endpoint: `${origin}/token`,
          ...change(origin),
        });
      json(response, { access_token: "t" });
    };
  it("is the tenant's own token address", async () => {
    await clientOf(await serve(metadata(() => ({})))).signIn();
  });
  it("is no other host that its metadata names, unless a technician confirmed it", async () => {
    let reached = 0;
    const elsewhere = await serve((_, response) => {
      reached += 1;
      json(response, { access_token: "t" });
    });
    const other = elsewhere.replace("127.0.0.1", "localhost");
    const address = await serve(metadata(() => ({ token_endpoint: `${other}/token` })));
    await expect(clientOf(address).signIn()).rejects.toMatchObject({ code: "source.other-host" });
    expect(reached).toBe(0);
    await clientOf(address, { otherHosts: ["localhost"] }).signIn();
    expect(reached).toBe(1);
  });
  it("is nobody who answers for another issuer", async () => {
    for (const issuer of ["https://elsewhere.example/trust", "trust"]) {
      const address = await serve(metadata(() => ({ issuer })));
      await expect(clientOf(address).signIn()).rejects.toMatchObject({ code: "source.other-host" });
    }
  });
  it("is not where a redirect leads", async () => {
    let reached = 0;
    const elsewhere = await serve(() => {
      reached += 1;
    });
    const address = await serve((_, response) => {
      response.writeHead(302, { location: elsewhere.replace("127.0.0.1", "localhost") }).end();
    });
    await expect(clientOf(address, { auth: password }).accounts()).rejects.toMatchObject({
      code: "source.other-host",
    });
    expect(reached).toBe(0);
  });
});

describe("a listing of a mailbox that changes meanwhile", () => {
  const ids = (items: readonly { id: string }[]) => items.map((one) => one.id).sort();

  it("misses nothing when messages before the page are removed, and takes in what comes", async () => {
    // the eleventh call asks for the changes: what comes after it is for the next run
    for (let at = 1; at <= 10; at += 1) {
      const { world, answer } = mailServer(
        Array.from({ length: 11 }, (_, n) => stored(n)),
        {
          onMethod: (_name, n) => {
            if (n !== at) return;
            for (const id of ["m0", "m2", "m4"]) world.remove(id);
            world.add({ ...stored(20), receivedAt: "2026-11-01T08:00:30.000Z" });
          },
        },
      );
      const items = await clientOf(await serve(answer), { auth: password }).items("box");
      expect(items.length, `at call ${at}`).toBe(9);
      expect(ids(items), `at call ${at}`).toEqual(ids(world.messages));
    }
  });
  it("begins anew when the last message of its page vanished, or changes cannot be told", async () => {
    const gone = mailServer(
      Array.from({ length: 7 }, (_, n) => stored(n)),
      { onMethod: (name, n) => name === "Email/get" && n === 3 && gone.world.remove("m2") },
    );
    expect(ids(await clientOf(await serve(gone.answer), { auth: password }).items("box"))).toEqual(
      ids(gone.world.messages),
    );
    const mute = mailServer(
      Array.from({ length: 7 }, (_, n) => stored(n)),
      { onMethod: (_name, n) => n === 3 && mute.world.add(stored(30)) },
    );
    mute.world.calculates = false;
    expect(ids(await clientOf(await serve(mute.answer), { auth: password }).items("box"))).toEqual(
      ids(mute.world.messages),
    );
  });
});

describe("the content of a message", () => {
  const fetched = async (content: Answer) => {
    const { answer } = mailServer([stored(1)], { content });
    const client = clientOf(await serve(answer), { auth: password });
    const [item] = await client.items("box");
    return client.content("box", item!);
  };
  const { text } = stored(1);

  it.each([429, 503, 500])("is asked for again after a refusal that passes: %d", async (status) => {
    let tries = 0;
    const bytes = await fetched((_, response) => {
      tries += 1;
      if (tries < 3) response.writeHead(status, { "retry-after": "0" }).end("wait a little");
      else response.end(text);
    });
    expect(bytes.toString()).toBe(text);
  });
  it("is asked for again when it is cut short, whether its length says so or not", async () => {
    let tries = 0;
    expect(
      (
        await fetched((_, response) => {
          tries += 1;
          response.end(tries === 1 ? text.slice(0, 3) : text);
        })
      ).toString(),
    ).toBe(text);
    await expect(
      fetched((_, response) => {
        response.writeHead(200, { "content-length": "50" });
        response.write(text);
        setTimeout(() => response.destroy(), 10);
      }),
      // the server answers: this one message does not arrive, and the mailbox goes on without it
    ).rejects.toMatchObject({ code: "file.unreadable" });
    await expect(fetched((_, response) => void response.destroy())).rejects.toMatchObject({
      code: "source.not-reached",
    });
  });
  it.each([
    [400, "file.unreadable"],
    [429, "file.unreadable"],
    [403, "file.unreadable"],
    [404, "file.vanished"],
  ])("is never the body of a refusal: %d", async (status, code) => {
    await expect(
      fetched((_, response) => void response.writeHead(status).end("a body that is no message")),
    ).rejects.toMatchObject({ code });
  });
  it("may take long, as long as something comes; silence is noticed", async () => {
    const slow: Answer = async (_, response) => {
      response.writeHead(200);
      for (const letter of text) {
        response.write(letter);
        await new Promise((resolve) => setTimeout(resolve, 60));
      }
      response.end();
    };
    expect((await fetched(slow)).toString()).toBe(text);
    await expect(fetched((_, response) => void response.write("t"))).rejects.toMatchObject({
      code: "file.unreadable",
      message: expect.stringContaining("nothing came for 0.3 s"),
    });
    await expect(fetched(() => {})).rejects.toMatchObject({
      code: "source.not-reached",
      message: expect.stringContaining("nothing came for 0.3 s"),
    });
  });
});
