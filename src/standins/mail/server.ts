import { createHash, randomBytes, timingSafeEqual } from "node:crypto";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { closeServer, listenOnLoopback } from "../loopback";
import { answerDav } from "./dav";
import type { Application, Mailbox, MailTenants, Message, Tenant } from "./tenants";

/**
 * A mail server as the world has them: OAuth 2.0 client credentials (RFC 6749) with metadata (RFC 8414), and JMAP for
 * mail (RFC 8620, RFC 8621): reading, and of writing what a client needs that puts messages back or removes them. Calendars
 * and contacts are in `dav.ts`. One process serves several tenants.
 */
const CORE = "urn:ietf:params:jmap:core";
const MAIL = "urn:ietf:params:jmap:mail";
const TOKEN_SECONDS = 3600;
const MOST_OBJECTS = 500;

type Arguments = Record<string, unknown>;
class MethodError extends Error {}
type SetError = { readonly type: string; readonly description?: string };
/** Uploads are whole messages. */
const UPLOAD_MOST = 50 * 1024 * 1024;

export class MailServer {
  private readonly server: Server;
  /** Every so many uploads are not found, and changes fail for a reason of the server's own (RFC 8620, section 3.6.2); 0: none. */
  failEvery = 0;
  failed = 0;
  private changes = 0;
  private uploads = 0;
  private readonly tokens = new Map<string, { tenant: Tenant; until: number }>();

  constructor(
    private readonly world: MailTenants,
    private readonly now: () => Date = () => new Date(),
  ) {
    this.server = createServer((request, response) => {
      this.answer(request, response).catch((error: Error) => {
        console.error(error);
        if (!response.headersSent) response.writeHead(500);
        response.end();
      });
    });
  }

  /** Listens on loopback; with port 0 on a free one. Returns its origin. */
  listen = (port = 0): Promise<string> => listenOnLoopback(this.server, port);
  close = (): Promise<void> => closeServer(this.server);

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = new URL(request.url ?? "/", `http://${request.headers.host}`);
    const json = (status: number, body: unknown) => {
      response.writeHead(status, { "content-type": "application/json", "cache-control": "no-store" });
      response.end(JSON.stringify(body));
    };
    const metadata = /^\/\.well-known\/oauth-authorization-server\/([^/]+)$/.exec(url.pathname);
    if (metadata) {
      const tenantId = decodeURIComponent(metadata[1]!);
      if (!this.world.tenants.has(tenantId)) return json(404, { error: "unknown tenant" });
      return json(200, {
        issuer: `${url.origin}/${tenantId}`,
        token_endpoint: `${url.origin}/oauth/${encodeURIComponent(tenantId)}/token`,
        grant_types_supported: ["client_credentials"],
      });
    }
    const token = /^\/oauth\/([^/]+)\/token$/.exec(url.pathname);
    if (token && request.method === "POST") {
      const { status, answer } = this.giveToken(decodeURIComponent(token[1]!), await bodyOf(request));
      return json(status, answer);
    }
    const bearer = /^Bearer (\S+)$/.exec(request.headers.authorization ?? "")?.[1];
    const grant = bearer ? this.tokens.get(bearer) : undefined;
    if (!grant || grant.until < this.now().getTime()) return json(401, { error: "invalid_token" });
    const { tenant } = grant;
    if (url.pathname === "/.well-known/jmap") return json(200, session(url.origin, tenant));
    if (url.pathname === "/jmap/api" && request.method === "POST")
      return json(200, this.callMethods(tenant, await bodyOf(request)));
    if (url.pathname.startsWith("/dav/")) {
      const { method = "GET", headers } = request;
      const {
        status,
        type,
        headers: more,
        body,
      } = answerDav(this.world, tenant, {
        method,
        path: url.pathname,
        headers,
        body: await bodyOf(request),
      });
      response.writeHead(status, { ...(type ? { "content-type": type } : {}), ...more });
      response.end(body);
      return;
    }
    const upload = /^\/jmap\/upload\/([^/]+)$/.exec(url.pathname);
    if (upload && request.method === "POST") {
      const bytes = await bytesOf(request);
      this.uploads += 1;
      if (this.failEvery && this.uploads % this.failEvery === 0)
        return json(404, { type: "about:blank", status: 404 });
      if (bytes.length > UPLOAD_MOST)
        return json(413, { type: "urn:ietf:params:jmap:error:limit", status: 413 });
      const accountId = decodeURIComponent(upload[1]!);
      return json(201, {
        accountId,
        blobId: this.world.upload(bytes),
        type: request.headers["content-type"],
        size: bytes.length,
      });
    }
    const download = /^\/jmap\/download\/([^/]+)\/([^/]+)$/.exec(url.pathname);
    if (download) {
      const mailbox = tenant.mailboxes.find((one) => one.id === decodeURIComponent(download[1]!));
      const bytes = mailbox && this.world.read(tenant, mailbox, decodeURIComponent(download[2]!));
      if (!bytes) return json(404, { type: "about:blank", status: 404 });
      response.writeHead(200, { "content-type": "message/rfc822", "content-length": bytes.length });
      response.end(bytes);
      return;
    }
    json(404, { type: "about:blank", status: 404 });
  }

  private giveToken(tenantId: string, body: string): { status: number; answer: object } {
    const values = new URLSearchParams(body);
    if (values.get("grant_type") !== "client_credentials")
      return { status: 400, answer: { error: "unsupported_grant_type" } };
    const tenant = this.world.tenants.get(tenantId);
    const application = tenant?.applications.find((one) => one.clientId === values.get("client_id"));
    const refused = application
      ? whyRefused(application, values.get("client_secret") ?? "", this.now())
      : "this application is not known";
    if (!tenant || refused)
      return { status: 401, answer: { error: "invalid_client", error_description: refused } };
    const token = randomBytes(24).toString("base64url");
    this.tokens.set(token, { tenant, until: this.now().getTime() + TOKEN_SECONDS * 1000 });
    return { status: 200, answer: { access_token: token, token_type: "Bearer", expires_in: TOKEN_SECONDS } };
  }

  private callMethods(tenant: Tenant, body: string) {
    const { methodCalls } = JSON.parse(body) as { methodCalls: [string, Arguments, string][] };
    const methodResponses = methodCalls.map(([name, args, id]) => {
      try {
        const mailbox = tenant.mailboxes.find((one) => one.id === args.accountId);
        if (!mailbox) throw new MethodError("accountNotFound");
        const answer = WRITING.has(name)
          ? this.change(name, tenant, mailbox, args)
          : method(name, mailbox, args, (one) => this.world.read(tenant, mailbox, one)!);
        return [name, { accountId: mailbox.id, ...answer }, id];
      } catch (error) {
        if (!(error instanceof MethodError)) throw error;
        return ["error", { type: error.message }, id];
      }
    });
    return { methodResponses, sessionState: "0" };
  }

  /** Methods that change a mailbox; its tenant is saved at once. */
  private change(name: string, tenant: Tenant, mailbox: Mailbox, args: Arguments): Arguments {
    if (mailbox.readOnly) throw new MethodError("accountReadOnly");
    this.changes += 1;
    if (this.failEvery && this.changes % this.failEvery === 0) {
      this.failed += 1;
      throw new MethodError("serverFail");
    }
    const created: Record<string, Arguments> = {};
    const notCreated: Record<string, SetError> = {};
    const updated: Record<string, null> = {};
    const notUpdated: Record<string, SetError> = {};
    const destroyed: string[] = [];
    if (name === "Mailbox/set")
      for (const [key, wish] of Object.entries((args.create ?? {}) as Record<string, Arguments>)) {
        const { name: folderName, parentId } = wish as { name: string; parentId: string | null };
        if (mailbox.folders.some((one) => one.parentId === parentId && one.name === folderName)) {
          notCreated[key] = { type: "invalidProperties", description: "the name is taken" };
          continue;
        }
        const id = `f${mailbox.folders.length + 1}-${randomBytes(3).toString("hex")}`;
        mailbox.folders = [...mailbox.folders, { id, name: folderName, parentId, role: null }];
        created[key] = { id };
      }
    if (name === "Email/import")
      for (const [key, wish] of Object.entries(args.emails as Record<string, Arguments>)) {
        const { blobId, mailboxIds, keywords, receivedAt } = wish as {
          blobId: string;
          mailboxIds: Record<string, boolean>;
          keywords: Record<string, boolean>;
          receivedAt: string;
        };
        const bytes = this.world.uploaded(blobId);
        const used = mailbox.messages.reduce((sum, one) => sum + one.size, 0);
        if (!bytes) notCreated[key] = { type: "blobNotFound" };
        else if (mailbox.quota !== undefined && used + bytes.length > mailbox.quota)
          notCreated[key] = { type: "overQuota", description: "the mailbox has used up its quota" };
        else {
          const id = `i${randomBytes(6).toString("hex")}`;
          const subject = headerOf(bytes, "subject") ?? "";
          this.world.deliver(tenant, mailbox, { id, mailboxIds, keywords, receivedAt, subject }, bytes);
          created[key] = { id, blobId: id, threadId: id, size: bytes.length };
        }
      }
    if (name === "Email/set") {
      for (const [id, patch] of Object.entries((args.update ?? {}) as Record<string, Arguments>)) {
        const message = mailbox.messages.find((one) => one.id === id);
        if (!message) {
          notUpdated[id] = { type: "notFound" };
          continue;
        }
        for (const [path, value] of Object.entries(patch)) applyPatch(message, path, value);
        updated[id] = null;
      }
      for (const id of (args.destroy ?? []) as string[]) {
        if (!mailbox.messages.some((one) => one.id === id)) continue;
        mailbox.messages = mailbox.messages.filter((one) => one.id !== id);
        destroyed.push(id);
      }
    }
    this.world.save(tenant);
    return { newState: stateOf(mailbox), created, notCreated, updated, notUpdated, destroyed };
  }
}

function whyRefused(application: Application, secret: string, now: Date): string | null {
  const given = Buffer.from(secret);
  const right = Buffer.from(application.secret);
  if (given.length !== right.length || !timingSafeEqual(given, right))
    return "the client secret is not right";
  return new Date(application.expiresAt) <= now
    ? `the client secret expired on ${application.expiresAt.slice(0, 10)}`
    : null;
}

/** What each message was at a state that somebody was told, to tell what changed since (RFC 8620, section 5.2). */
const states = new WeakMap<Mailbox, Map<string, ReadonlyMap<string, string>>>();
const printsOf = (mailbox: Mailbox): ReadonlyMap<string, string> =>
  new Map(mailbox.messages.map((one) => [one.id, JSON.stringify([one.mailboxIds, one.keywords])]));
function stateOf(mailbox: Mailbox): string {
  const prints = printsOf(mailbox);
  const state = createHash("sha256")
    .update(JSON.stringify([...prints]))
    .digest("hex")
    .slice(0, 16);
  const told = states.get(mailbox) ?? new Map();
  states.set(mailbox, told.set(state, prints));
  return state;
}

const WRITING: ReadonlySet<string> = new Set(["Mailbox/set", "Email/import", "Email/set"]);

/** A patch of keywords or folders (RFC 8620, section 5.3): the whole map, or one of its keys. */
function applyPatch(message: Message, path: string, value: unknown): void {
  const [property, key] = path.split("/") as ["mailboxIds" | "keywords", string | undefined];
  if (property !== "mailboxIds" && property !== "keywords") throw new MethodError("invalidPatch");
  if (key === undefined) message[property] = value as Record<string, boolean>;
  else {
    const name = key.replaceAll("~1", "/").replaceAll("~0", "~");
    const { [name]: _, ...others } = message[property];
    message[property] = value === true ? { ...others, [name]: true } : others;
  }
}

/** A field of a message's head, unfolded; null where it has none. */
function headerOf(bytes: Buffer, name: string): string | null {
  const end = bytes.indexOf("\r\n\r\n");
  const head = bytes.toString("utf8", 0, end < 0 ? bytes.length : end).replaceAll(/\r\n[ \t]+/g, " ");
  const line = head.split("\r\n").find((one) => one.toLowerCase().startsWith(`${name}:`));
  return line ? line.slice(name.length + 1).trim() : null;
}

function method(name: string, mailbox: Mailbox, args: Arguments, read: (id: string) => Buffer): Arguments {
  switch (name) {
    case "Mailbox/get":
      return { state: "0", list: mailbox.folders, notFound: [] };
    case "Email/query": {
      const { inMailbox } = (args.filter ?? {}) as { inMailbox?: string };
      const sorted = mailbox.messages
        .filter((message) => inMailbox === undefined || message.mailboxIds[inMailbox])
        .toSorted((a, b) => (a.receivedAt < b.receivedAt ? -1 : 1));
      const anchor = sorted.findIndex((message) => message.id === args.anchor);
      if (args.anchor !== undefined && anchor < 0) throw new MethodError("anchorNotFound");
      const position = Math.max(
        0,
        args.anchor === undefined ? Number(args.position ?? 0) : anchor + Number(args.anchorOffset ?? 0),
      );
      const limit = Math.min(Number(args.limit ?? MOST_OBJECTS), MOST_OBJECTS);
      return {
        queryState: stateOf(mailbox),
        position,
        ids: sorted.slice(position, position + limit).map((message) => message.id),
      };
    }
    case "Email/get": {
      const ids = args.ids as string[];
      if (ids.length > MOST_OBJECTS) throw new MethodError("requestTooLarge");
      const list = ids.flatMap((id) => mailbox.messages.find((message) => message.id === id) ?? []);
      return {
        state: stateOf(mailbox),
        list: list.map((message) => ({
          ...message,
          blobId: message.id,
          ...((args.properties as string[] | undefined)?.includes("messageId")
            ? { messageId: messageIds(read(message.id)) }
            : {}),
        })),
        notFound: ids.filter((id) => !list.some((message) => message.id === id)),
      };
    }
    case "Email/changes": {
      const before = states.get(mailbox)?.get(String(args.sinceState));
      if (!before) throw new MethodError("cannotCalculateChanges");
      const now = printsOf(mailbox);
      const ids = [...now.keys()];
      return {
        oldState: args.sinceState,
        newState: stateOf(mailbox),
        hasMoreChanges: false,
        created: ids.filter((id) => !before.has(id)),
        updated: ids.filter((id) => before.has(id) && before.get(id) !== now.get(id)),
        destroyed: [...before.keys()].filter((id) => !now.has(id)),
      };
    }
    default:
      throw new MethodError("unknownMethod");
  }
}

function messageIds(bytes: Buffer): string[] | null {
  const found = [...(headerOf(bytes, "message-id") ?? "").matchAll(/<([^<>]+)>/g)].map((one) => one[1]!);
  return found.length ? found : null;
}

const session = (origin: string, tenant: Tenant) => ({
  capabilities: { [CORE]: { maxObjectsInGet: MOST_OBJECTS }, [MAIL]: {} },
  accounts: Object.fromEntries(
    tenant.mailboxes.map((mailbox) => [
      mailbox.id,
      {
        name: mailbox.address,
        isPersonal: false,
        isReadOnly: mailbox.readOnly === true,
        accountCapabilities: { [MAIL]: {} },
      },
    ]),
  ),
  primaryAccounts: {},
  username: tenant.tenantId,
  apiUrl: `${origin}/jmap/api`,
  downloadUrl: `${origin}/jmap/download/{accountId}/{blobId}?type={type}&name={name}`,
  uploadUrl: `${origin}/jmap/upload/{accountId}`,
  eventSourceUrl: `${origin}/jmap/events`,
  state: "0",
});

async function bytesOf(request: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of request) parts.push(part as Buffer);
  return Buffer.concat(parts);
}
const bodyOf = async (request: IncomingMessage): Promise<string> => (await bytesOf(request)).toString("utf8");
