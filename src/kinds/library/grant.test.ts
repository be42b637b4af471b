import { mkdirSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import Provider from "oidc-provider";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import type { CodedError } from "@/core/codes";
import { LibraryServer } from "@/standins/library/server";
import { closeServer } from "@/standins/loopback";
import { freshFolder } from "../../../tests/depot";
import type { OpenConnection } from "../connection-base";
import { LIBRARY_ACCESS } from "./connect";
import { beginGrant, completeGrant, grantSignIn } from "./grant";
import type { LibrarySettings } from "./settings";

const CLIENT = "deep-keep";
const CLIENT_SECRET = "a secret: with % and +";
const REDIRECT = "http://console.example/authorised";

/** A person with a browser: follows redirects with cookies, up to the console's own address. */
class Person {
  private readonly cookies = new Map<string, string>();

  async ask(
    url: string,
    form?: Record<string, string>,
  ): Promise<{ url: string; status: number; text: string }> {
    let at = url;
    let body = form ? new URLSearchParams(form) : null;
    for (let steps = 0; steps < 20; steps += 1) {
      if (at.startsWith(REDIRECT)) return { url: at, status: 200, text: "" };
      const response = await fetch(at, {
        redirect: "manual",
        headers: { cookie: [...this.cookies].map(([name, value]) => `${name}=${value}`).join("; ") },
        ...(body ? { method: "POST", body } : {}),
      });
      for (const cookie of response.headers.getSetCookie()) {
        const [pair = ""] = cookie.split(";");
        this.cookies.set(pair.slice(0, pair.indexOf("=")), pair.slice(pair.indexOf("=") + 1));
      }
      const to = response.headers.get("location");
      if (!to || response.status < 300 || response.status >= 400)
        return { url: at, status: response.status, text: await response.text() };
      at = new URL(to, at).href;
      body = null;
    }
    throw new Error("redirected for ever");
  }
}

/** An authorization server, and how a person agrees there; returns what the browser comes back with. */
interface Peer {
  readonly issuer: string;
  readonly scope: string;
  readonly agree: (url: string) => Promise<string>;
  /** Whether a token is taken at present. */
  readonly takes: (header: string) => Promise<boolean>;
  readonly endGrants: () => Promise<void> | void;
  readonly stop: () => Promise<void>;
}

async function standIn(): Promise<Peer> {
  const folder = freshFolder("library");
  mkdirSync(join(folder, "files/teams/Catalogue"), { recursive: true });
  writeFileSync(
    join(folder, "accounts.json"),
    JSON.stringify({
      people: [{ name: "ursel", password: "sesame" }],
      clients: [{ id: CLIENT, secret: CLIENT_SECRET, redirects: [REDIRECT] }],
    }),
  );
  const server = new LibraryServer({ folder });
  const issuer = await server.listen(0);
  return {
    issuer,
    scope: "",
    agree: async (url) => {
      const asked = Object.fromEntries(new URL(url).searchParams);
      const person = new Person();
      expect((await person.ask(url)).text).toContain("Sign in to the library");
      return (
        await person.ask(`${issuer}/authorise`, {
          ...asked,
          name: "ursel",
          password: "sesame",
          decision: "allow",
        })
      ).url;
    },
    takes: async (authorization) =>
      (await fetch(`${issuer}/dav/`, { method: "PROPFIND", headers: { authorization, depth: "0" } }))
        .status === 207,
    endGrants: () => server.accounts.endGrants(),
    stop: () => server.close(),
  };
}

/** An authorization server that nobody here wrote. */
async function foreign(): Promise<Peer> {
  const server = createServer();
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  let ended = false;
  const provider = new Provider(issuer, {
    clients: [
      {
        client_id: CLIENT,
        client_secret: CLIENT_SECRET,
        redirect_uris: [REDIRECT],
        grant_types: ["authorization_code", "refresh_token"],
        response_types: ["code"],
      },
    ],
    scopes: ["openid", "offline_access"],
    pkce: { required: () => true },
    // as the strictest of them: each refresh token is good for one use
    rotateRefreshToken: true,
    issueRefreshToken: async () => !ended,
    features: { devInteractions: { enabled: true } },
    cookies: { keys: ["for this test alone"] },
  } as never);
  const answer = provider.callback();
  server.on("request", (request, response) => {
    if (ended && request.url === "/token") {
      response
        .writeHead(400, { "content-type": "application/json" })
        .end(JSON.stringify({ error: "invalid_grant", error_description: "the person has left" }));
      return;
    }
    void answer(request, response);
  });
  return {
    issuer,
    scope: "openid offline_access",
    agree: async (url) => {
      const person = new Person();
      const signIn = await person.ask(url);
      if (!/action=/.test(signIn.text)) throw new Error(signIn.text);
      const action = (text: string) => new URL(/action="([^"]+)"/.exec(text)![1]!, issuer).href;
      const consent = await person.ask(action(signIn.text), {
        prompt: "login",
        login: "ursel",
        password: "any",
      });
      return (await person.ask(action(consent.text), { prompt: "consent" })).url;
    },
    takes: async (authorization) =>
      (await fetch(`${issuer}/me`, { headers: { authorization } })).status === 200,
    endGrants: () => {
      ended = true;
    },
    stop: () => closeServer(server),
  };
}

for (const [name, start] of [
  ["the stand-in", standIn],
  ["a provider of others", foreign],
] as const)
  describe(`a grant of ${name}`, () => {
    let peer: Peer;
    let stored: string;
    /** As the console keeps it: one at a time replaces it. */
    let queue: Promise<unknown> = Promise.resolve();
    let renewed = 0;
    const connection = (secret = CLIENT_SECRET): OpenConnection<LibrarySettings> => ({
      address: `${peer.issuer}/dav/`,
      secret,
      settings: {
        auth: "grant",
        user: CLIENT,
        issuer: peer.issuer,
        scope: peer.scope,
        teams: "teams",
        people: "",
        region: "north harbour",
      },
      renew: (next) => {
        const turn = queue.then(async () => {
          const after = await next(stored);
          if (after !== stored) renewed += 1;
          stored = after;
          return after;
        });
        queue = turn.catch(() => {});
        return turn;
      },
    });
    const failing = (work: Promise<unknown>): Promise<string> =>
      work.then(
        () => "it worked",
        (error: CodedError) => error.code ?? String(error),
      );

    beforeAll(async () => {
      peer = await start();
    });
    afterAll(() => peer?.stop());

    it("is completed with what the browser returns with, for the request that was begun alone", async () => {
      const { url, verifier } = await beginGrant(connection(), REDIRECT, "state-1");
      expect(new URL(url).searchParams.get("code_challenge_method")).toBe("S256");
      const returned = new URL(await peer.agree(url)).searchParams;
      expect(await failing(completeGrant(connection(), REDIRECT, "state-2", verifier, returned))).toBe(
        "source.unreadable",
      );
      const other = new URL(await peer.agree((await beginGrant(connection(), REDIRECT, "state-1")).url))
        .searchParams;
      expect(await failing(completeGrant(connection(), REDIRECT, "state-1", verifier, other))).toBe(
        "source.grant-ended",
      );
      stored = await completeGrant(connection(), REDIRECT, "state-1", verifier, returned);
      expect(await peer.takes(await grantSignIn(connection(stored))(false))).toBe(true);
      expect(renewed).toBe(0);
    }, 30_000);

    it("is renewed once, however many use it at the time, and by what another process stored", async () => {
      const before = JSON.parse(stored) as { refresh: string };
      stored = JSON.stringify({ ...before, expires: 0 });
      const signIns = Array.from({ length: 4 }, () => grantSignIn(connection(stored)));
      const headers = await Promise.all(signIns.map((signIn) => signIn(false)));
      expect(new Set(headers).size).toBe(1);
      expect(renewed).toBe(1);
      expect((JSON.parse(stored) as { refresh: string }).refresh).not.toBe(before.refresh);
      expect(await peer.takes(headers[0]!)).toBe(true);
      // and again with the refresh token that took its place
      const again = await grantSignIn(connection(stored))(true);
      expect(again).not.toBe(headers[0]);
      expect(await peer.takes(again)).toBe(true);
    });

    it("that the person refuses is refused with the server's words", async () => {
      const { verifier } = await beginGrant(connection(), REDIRECT, "state-3");
      const returned = new URLSearchParams({ state: "state-3", iss: peer.issuer, error: "access_denied" });
      expect(await failing(completeGrant(connection(), REDIRECT, "state-3", verifier, returned))).toBe(
        "source.not-allowed",
      );
    });

    it("with a wrong client secret is a refused sign-in", async () => {
      const { url, verifier } = await beginGrant(connection(), REDIRECT, "state-4");
      const returned = new URL(await peer.agree(url)).searchParams;
      expect(await failing(completeGrant(connection("wrong"), REDIRECT, "state-4", verifier, returned))).toBe(
        "source.signin-refused",
      );
    });

    it("that has ended says so, and is kept as it was", async () => {
      await peer.endGrants();
      const kept = stored;
      expect(await failing(grantSignIn(connection(stored))(true))).toBe("source.grant-ended");
      expect(stored).toBe(kept);
    });
  });

describe("a grant", () => {
  it("leads to no other host than that of the server, unless a technician named it", async () => {
    const server = createServer((request, response) => {
      const issuer = `http://${request.headers.host}`;
      response.writeHead(200, { "content-type": "application/json" }).end(
        JSON.stringify({
          issuer,
          authorization_endpoint: `${issuer}/authorise`,
          token_endpoint: "http://elsewhere.example/token",
        }),
      );
    });
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
    const settings: LibrarySettings = {
      auth: "grant",
      user: CLIENT,
      issuer,
      teams: "",
      people: "",
      region: "x",
    };
    const begin = (otherHosts: string[]) =>
      beginGrant({ address: issuer, secret: "", settings: { ...settings, otherHosts } }, REDIRECT, "state");
    expect(await begin([]).catch((error: CodedError) => error.code)).toBe("source.other-host");
    expect((await begin(["elsewhere.example"])).url).toContain("/authorise?");
    await closeServer(server);
  });

  it("is asked for where nobody publishes metadata: the message names the server", async () => {
    const server = createServer((_request, response) => response.writeHead(404).end());
    await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
    const issuer = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
    const settings: LibrarySettings = {
      auth: "grant",
      user: CLIENT,
      issuer,
      teams: "",
      people: "",
      region: "x",
    };
    await expect(beginGrant({ address: issuer, secret: "", settings }, REDIRECT, "state")).rejects.toThrow(
      "publishes no metadata of an authorization server",
    );
    await closeServer(server);
    await expect(beginGrant({ address: issuer, secret: "", settings }, REDIRECT, "state")).rejects.toThrow(
      new URL(issuer).host,
    );
  });
});

describe("the stand-in of a library", () => {
  it("serves a library to the token of a person", async () => {
    const peer = await standIn();
    const settings: LibrarySettings = {
      auth: "grant",
      user: CLIENT,
      issuer: peer.issuer,
      teams: "teams",
      people: "",
      region: "x",
    };
    const connection = { address: `${peer.issuer}/dav/`, secret: CLIENT_SECRET, settings };
    const { url, verifier } = await beginGrant(connection, REDIRECT, "state");
    const returned = new URL(await peer.agree(url)).searchParams;
    const secret = await completeGrant(connection, REDIRECT, "state", verifier, returned);
    const { ok, found } = await LIBRARY_ACCESS.test({ ...connection, secret });
    expect({ ok, found }).toEqual({
      ok: true,
      found: [{ id: "/teams/Catalogue", name: "Catalogue (team)" }],
    });
    await peer.stop();
  });
});
