import { z } from "zod";
import { type Code, CodedError } from "@/core/codes";
import { type Answered, type Asked, brokeOff, HttpTransport, PATIENCE, type Patience } from "../transport";
import type { MailAccount, MailClient, MailFolder, MailItem, NewMessage, PresentMessage } from "./client";

/** How a client signs in at a mail server. */
export type MailAuth =
  /** An application: OAuth 2.0 client credentials (RFC 6749, section 4.4), the token address by RFC 8414. */
  | {
      readonly kind: "application";
      readonly tenantId: string;
      readonly clientId: string;
      readonly clientSecret: string;
    }
  /** A user name and a password (RFC 7617). */
  | { readonly kind: "password"; readonly user: string; readonly password: string }
  /** A bearer token that the server's operator gave out (RFC 6750). */
  | { readonly kind: "bearer"; readonly token: string };

export interface MailTenant {
  /** An origin, such as `https://mail.example`. */
  readonly address: string;
  readonly auth: MailAuth;
  /** Hosts besides the address's own that credentials may go to, as a technician confirmed. */
  readonly otherHosts?: readonly string[];
}

const CORE = "urn:ietf:params:jmap:core";
const MAIL = "urn:ietf:params:jmap:mail";
/** As many ids as are asked for at once; servers take at least 500 (RFC 8620, section 2), or say so. */
const PAGE = 500;
/** A mailbox that changes while it is listed is listed again so often. */
const LISTINGS = 3;

const metadataSchema = z.object({ issuer: z.string(), token_endpoint: z.url() });
const tokenSchema = z.object({ access_token: z.string(), expires_in: z.number().optional() });
const oauthError = z.object({ error: z.string(), error_description: z.string().optional() });
const sessionSchema = z.object({
  apiUrl: z.string(),
  downloadUrl: z.string(),
  uploadUrl: z.string().optional(),
  accounts: z.record(
    z.string(),
    z.object({
      name: z.string(),
      isReadOnly: z.boolean().optional(),
      accountCapabilities: z.record(z.string(), z.unknown()).nullish(),
    }),
  ),
  capabilities: z.record(z.string(), z.unknown()).optional(),
});
const limitsSchema = z.object({ maxObjectsInGet: z.number().int().positive() });
const mailboxSchema = z.object({
  id: z.string(),
  name: z.string(),
  parentId: z.string().nullable(),
  role: z.string().nullable(),
});
const emailSchema = z.object({
  id: z.string(),
  blobId: z.string(),
  mailboxIds: z.record(z.string(), z.boolean()),
  keywords: z.record(z.string(), z.boolean()),
  receivedAt: z.iso.datetime({ offset: true }),
  size: z.number(),
  subject: z.string().nullable(),
});
const responseSchema = z.object({
  methodResponses: z.array(z.tuple([z.string(), z.record(z.string(), z.unknown()), z.string()])),
});
const presentSchema = emailSchema
  .pick({ id: true, blobId: true, size: true, receivedAt: true })
  .extend({ messageId: z.array(z.string()).nullable() });
const setErrorSchema = z.looseObject({
  type: z.string(),
  description: z.string().nullish(),
  existingId: z.string().optional(),
});
const createdSchema = z.object({
  created: z.record(z.string(), z.object({ id: z.string() }).loose()).nullish(),
  notCreated: z.record(z.string(), setErrorSchema).nullish(),
});
const updatedSchema = z.object({ notUpdated: z.record(z.string(), setErrorSchema).nullish() });
const uploadSchema = z.object({ blobId: z.string() });
const changesSchema = z.object({
  newState: z.string(),
  hasMoreChanges: z.boolean(),
  created: z.array(z.string()),
  updated: z.array(z.string()),
  destroyed: z.array(z.string()),
});

/** Errors that say nothing about what was asked: it may work a moment later. */
const OF_THE_SERVER: ReadonlySet<string> = new Set([
  "serverFail",
  "serverUnavailable",
  "serverPartialFail",
  "rateLimit",
  "blobNotFound",
]);

/** A method was answered by an error of the protocol (RFC 8620, section 3.6.2). */
class MethodRefused extends CodedError {
  constructor(
    method: string,
    readonly type: string,
  ) {
    const forbidden = ["forbidden", "accountNotFound", "accountNotSupportedByMethod"].includes(type);
    const code: Code =
      type === "accountReadOnly"
        ? "restore.read-only"
        : OF_THE_SERVER.has(type)
          ? "source.not-reached"
          : forbidden
            ? "source.not-allowed"
            : "source.unreadable";
    super(code, `${method}: ${type}`);
  }
}

/** What a refusal to create something means (RFC 8620, section 5.3; RFC 8621, section 4.8). */
function refusalOf(what: string, { type, description }: z.infer<typeof setErrorSchema>): CodedError {
  const why = `${what}: ${description ?? type}`;
  if (OF_THE_SERVER.has(type)) return new CodedError("source.not-reached", why);
  if (type === "overQuota") return new CodedError("restore.mailbox-full", why);
  if (type === "forbidden") return new CodedError("restore.read-only", why);
  return new CodedError("restore.message-rejected", why);
}

/**
 * A client of a mail server: JMAP (RFC 8620, RFC 8621). Every answer is checked before it is trusted. Its steps stand alone,
 * so that a test can say which one failed.
 */
export class JmapClient implements MailClient {
  private readonly transport: HttpTransport;
  private authorization: string | null = null;
  private session: (z.infer<typeof sessionSchema> & { readonly url: string }) | null = null;
  private tokenEndpoint: string | null = null;

  constructor(
    private readonly tenant: MailTenant,
    patience: Patience = PATIENCE,
  ) {
    this.transport = new HttpTransport(tenant.address, tenant.otherHosts ?? [], patience);
    const { auth } = tenant;
    if (auth.kind === "password")
      this.authorization = `Basic ${Buffer.from(`${auth.user}:${auth.password}`, "utf8").toString("base64")}`;
    if (auth.kind === "bearer") this.authorization = `Bearer ${auth.token}`;
  }

  /** Finds the server, and of an application where tokens are given. Throws `source.not-reached`, `source.other-host`. */
  async find(): Promise<void> {
    const { auth } = this.tenant;
    if (auth.kind !== "application") {
      await this.transport.ask(this.at("/.well-known/jmap"), { again: "never" });
      return;
    }
    const url = this.at(`/.well-known/oauth-authorization-server/${encodeURIComponent(auth.tenantId)}`);
    const answer = await this.transport.ask(url);
    if (answer.status === 404)
      throw new CodedError("source.not-reached", `the server knows no tenant ${auth.tenantId}`);
    const { issuer, token_endpoint } = parse(metadataSchema, jsonOf(answer));
    // RFC 8414, section 3.3: whoever answers for another issuer could take our secret
    const expected = this.at(`/${encodeURIComponent(auth.tenantId)}`);
    if (!URL.canParse(issuer) || new URL(issuer).href !== new URL(expected).href)
      throw new CodedError("source.other-host", `the issuer is ${issuer}, expected ${expected}`);
    this.transport.confirm(token_endpoint);
    this.tokenEndpoint = token_endpoint;
  }

  /** Signs in. Throws `source.signin-refused` with the server's own reason. */
  /** The `Authorization` that this client signs in with; `renew`: after it was refused. */
  async credentials(renew = false): Promise<string> {
    if (renew || !this.authorization) await this.signIn();
    return this.authorization!;
  }

  async signIn(): Promise<void> {
    const { auth } = this.tenant;
    if (auth.kind !== "application") {
      this.session = null;
      await this.begin();
      return;
    }
    if (!this.tokenEndpoint) await this.find();
    const answer = await this.transport.ask(this.tokenEndpoint!, {
      method: "POST",
      headers: { "content-type": "application/x-www-form-urlencoded" },
      body: new URLSearchParams({
        grant_type: "client_credentials",
        client_id: auth.clientId,
        client_secret: auth.clientSecret,
        scope: MAIL,
      }).toString(),
    });
    if (answer.status !== 200) {
      const refusal = oauthError.safeParse(jsonOrNull(answer));
      const reason = refusal.success
        ? (refusal.data.error_description ?? refusal.data.error)
        : `status ${answer.status}`;
      throw new CodedError(answer.status < 500 ? "source.signin-refused" : "source.not-reached", reason);
    }
    this.authorization = `Bearer ${parse(tokenSchema, jsonOf(answer)).access_token}`;
  }

  /** The mailboxes that are open to us, by their addresses. Throws `source.not-allowed`. */
  async accounts(): Promise<MailAccount[]> {
    const session = await this.begin();
    return Object.entries(session.accounts)
      .filter(([, { accountCapabilities }]) => !accountCapabilities || MAIL in accountCapabilities)
      .map(([id, { name }]) => ({ id, name }))
      .sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  async folders(accountId: string): Promise<MailFolder[]> {
    const answer = await this.call("Mailbox/get", { accountId, ids: null });
    return parse(z.array(mailboxSchema), answer.list);
  }

  /**
   * Everything in a mailbox, without content, as of the end of the listing: pages follow one another by their last item and
   * not by number, and what changed while they were read is asked for afterwards. A server that cannot tell the changes is
   * asked anew. Throws `source.unreadable` where the mailbox never stands still.
   */
  async items(accountId: string): Promise<MailItem[]> {
    for (let listing = 1; ; listing += 1) {
      const before = await this.get(accountId, []);
      const items = new Map<string, MailItem>();
      const whole = await this.listAll(accountId, items);
      if (whole && (await this.followUp(accountId, before.state, items))) return [...items.values()];
      if (listing >= LISTINGS)
        throw new CodedError("source.unreadable", "the mailbox changed each time while it was listed");
    }
  }

  /** False where the page's last item vanished, and no next page can be asked for. */
  private async listAll(accountId: string, items: Map<string, MailItem>): Promise<boolean> {
    const limit = await this.page();
    for (let anchor: string | null = null; ; ) {
      let ids: string[];
      try {
        const query: Record<string, unknown> = await this.call("Email/query", {
          accountId,
          sort: [{ property: "receivedAt", isAscending: true }],
          limit,
          ...(anchor === null ? { position: 0 } : { anchor, anchorOffset: 1 }),
        });
        ids = parse(z.array(z.string()), query.ids);
      } catch (error) {
        if (error instanceof MethodRefused && error.type === "anchorNotFound") return false;
        throw error;
      }
      if (ids.length === 0) return true;
      for (const item of (await this.get(accountId, ids)).list) items.set(item.id, item);
      anchor = ids.at(-1)!;
    }
  }

  /** Takes in what changed since a state (RFC 8620, section 5.2). False where the server cannot say. */
  private async followUp(accountId: string, since: string, items: Map<string, MailItem>): Promise<boolean> {
    let state = since;
    const limit = await this.page();
    for (;;) {
      let changes: z.infer<typeof changesSchema>;
      try {
        const answer = await this.call("Email/changes", { accountId, sinceState: state, maxChanges: limit });
        changes = parse(changesSchema, answer);
      } catch (error) {
        if (error instanceof MethodRefused && error.type === "cannotCalculateChanges")
          return (await this.get(accountId, [])).state === state;
        throw error;
      }
      const fresh = [...new Set([...changes.created, ...changes.updated])];
      for (let at = 0; at < fresh.length; at += limit) {
        const got = await this.get(accountId, fresh.slice(at, at + limit));
        for (const item of got.list) items.set(item.id, item);
        for (const id of got.notFound) items.delete(id);
      }
      for (const id of changes.destroyed) items.delete(id);
      state = changes.newState;
      if (!changes.hasMoreChanges) return true;
    }
  }

  private async get(
    accountId: string,
    ids: readonly string[],
  ): Promise<{ list: MailItem[]; notFound: string[]; state: string }> {
    const answer = await this.call("Email/get", {
      accountId,
      ids,
      properties: Object.keys(emailSchema.shape),
    });
    return {
      list: parse(z.array(emailSchema), answer.list),
      notFound: parse(z.array(z.string()), answer.notFound ?? []),
      state: parse(z.string(), answer.state),
    };
  }

  private async page(): Promise<number> {
    const limits = limitsSchema.safeParse((await this.begin()).capabilities?.[CORE]);
    return limits.success ? Math.min(PAGE, limits.data.maxObjectsInGet) : PAGE;
  }

  /**
   * The message as it was received (RFC 5322), of the size that the server said. Throws `file.vanished`, and
   * `file.unreadable` for one that the server does not give out whole: the mailbox goes on without it.
   */
  async content(accountId: string, item: Pick<MailItem, "blobId" | "size">): Promise<Buffer> {
    const { downloadUrl, url } = await this.begin();
    const values: Readonly<Record<string, string>> = {
      accountId,
      blobId: item.blobId,
      type: "message/rfc822",
      name: "message.eml",
    };
    // a URI template of level 1 (RFC 6570); relative to the session's own address
    const path = downloadUrl.replace(/\{(\w+)\}/g, (_, name: string) =>
      encodeURIComponent(values[name] ?? ""),
    );
    const short = (answer: Answered) => answer.status === 200 && answer.body.length !== item.size;
    const answer = await this.authorised(new URL(path, url).href, { passing: short }, "item").catch(
      (error) => {
        throw brokeOff(error)
          ? new CodedError("file.unreadable", error.message.replace(/^[^:]*: /, ""))
          : error;
      },
    );
    if (answer.status === 404 || answer.status === 410)
      throw new CodedError("file.vanished", "the message is not there any more");
    if (answer.status !== 200)
      throw new CodedError("file.unreadable", `the server answers with status ${answer.status}`);
    if (short(answer))
      throw new CodedError("file.unreadable", `the server gave ${answer.body.length} of ${item.size} bytes`);
    return answer.body;
  }

  /** What is in a folder, to tell what need not be restored. */
  async present(accountId: string, folderId: string): Promise<PresentMessage[]> {
    const limit = await this.page();
    const found = new Map<string, PresentMessage>();
    for (let position = 0; ; ) {
      const query = await this.call("Email/query", {
        accountId,
        filter: { inMailbox: folderId },
        sort: [{ property: "receivedAt", isAscending: true }],
        position,
        limit,
      });
      const ids = parse(z.array(z.string()), query.ids);
      if (ids.length === 0) return [...found.values()];
      const answer = await this.call("Email/get", {
        accountId,
        ids,
        properties: Object.keys(presentSchema.shape),
      });
      for (const { messageId, ...item } of parse(z.array(presentSchema), answer.list))
        found.set(item.id, { ...item, messageId: messageId?.[0] ?? null });
      position += ids.length;
    }
  }

  /** Creates a folder. Throws `restore.read-only`, `restore.message-rejected`. */
  async addFolder(accountId: string, name: string, parentId: string | null): Promise<string> {
    const answer = await this.change("Mailbox/set", { accountId, create: { folder: { name, parentId } } });
    const { created, notCreated } = parse(createdSchema, answer);
    if (notCreated?.folder) throw refusalOf(`folder ${name}`, notCreated.folder);
    if (!created?.folder) throw new CodedError("source.unreadable", "Mailbox/set created nothing");
    return created.folder.id;
  }

  /** Puts a message into a folder, as it was received. Throws `restore.mailbox-full`, `restore.message-rejected`. */
  async add(accountId: string, folderId: string, message: NewMessage): Promise<string> {
    const session = await this.begin();
    if (session.accounts[accountId]?.isReadOnly)
      throw new CodedError("restore.read-only", "the server gives this mailbox for reading only");
    if (!session.uploadUrl) throw new CodedError("restore.read-only", "the server takes no uploads");
    const path = session.uploadUrl.replace("{accountId}", encodeURIComponent(accountId));
    const upload = await this.authorised(new URL(path, session.url).href, {
      method: "POST",
      headers: { "content-type": "message/rfc822" },
      body: message.bytes,
      // a server that makes a place for uploads at the first one has none for those that meet it
      passing: ({ status }) => status === 404,
    });
    if (upload.status === 413)
      throw new CodedError("restore.message-rejected", "the message is larger than the server takes");
    if (upload.status !== 200 && upload.status !== 201) jsonOf(upload);
    const { blobId } = parse(uploadSchema, jsonOf({ ...upload, status: 200 }));
    const { receivedAt, keywords } = message;
    const answer = await this.change("Email/import", {
      accountId,
      emails: {
        message: {
          blobId,
          mailboxIds: { [folderId]: true },
          keywords: Object.fromEntries(keywords.map((keyword) => [keyword.toLowerCase(), true])),
          receivedAt,
        },
      },
    });
    const { created, notCreated } = parse(createdSchema, answer);
    const refused = notCreated?.message;
    if (refused?.type === "alreadyExists" && refused.existingId) {
      await this.putInto(accountId, refused.existingId, folderId);
      return refused.existingId;
    }
    if (refused) throw refusalOf("the server rejects it", refused);
    if (!created?.message) throw new CodedError("source.unreadable", "Email/import created nothing");
    return created.message.id;
  }

  /** Lets a message appear in one more folder. */
  async putInto(accountId: string, id: string, folderId: string): Promise<void> {
    const answer = await this.change("Email/set", {
      accountId,
      update: { [id]: { [`mailboxIds/${pointerOf(folderId)}`]: true } },
    });
    const refused = parse(updatedSchema, answer).notUpdated?.[id];
    if (refused) throw refusalOf("the server rejects it", refused);
  }

  private async begin(): Promise<NonNullable<typeof this.session>> {
    if (this.session) return this.session;
    if (!this.authorization) await this.signIn();
    const answer = await this.authorised(this.at("/.well-known/jmap"), {});
    const session = parse(sessionSchema, jsonOf(answer));
    this.transport.confirm(new URL(session.apiUrl, answer.url).href);
    this.session = { ...session, url: answer.url };
    return this.session;
  }

  /** A method that changes something: repeated only where the server says that it did nothing. */
  private change = (method: string, args: Record<string, unknown>) => this.call(method, args, false);

  private async call(
    method: string,
    args: Record<string, unknown>,
    again = true,
  ): Promise<Record<string, unknown>> {
    const { apiUrl, url } = await this.begin();
    const answer = await this.authorised(new URL(apiUrl, url).href, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ using: [CORE, MAIL], methodCalls: [[method, args, "0"]] }),
      again: again ? "always" : "refused",
      // RFC 8620, section 3.6.1: a limit of requests at once, say
      passing: ({ status, body }) => status === 400 && body.includes("urn:ietf:params:jmap:error:limit"),
    });
    const [first] = parse(responseSchema, jsonOf(answer)).methodResponses;
    if (!first) throw new CodedError("source.unreadable", `no answer to ${method}`);
    const [name, result] = first;
    if (name === "error") throw new MethodRefused(method, String(result.type));
    return result;
  }

  /**
   * With our credentials; an expired token is requested again once. Access refused to one item is that item's own answer,
   * not the mailbox's.
   */
  private async authorised(url: string, asked: Asked, of: "mailbox" | "item" = "mailbox"): Promise<Answered> {
    for (let tries = 0; ; tries += 1) {
      const answer = await this.transport.ask(url, {
        ...asked,
        headers: { ...asked.headers, authorization: this.authorization! },
      });
      const { auth } = this.tenant;
      if (answer.status === 401 && auth.kind === "application" && tries === 0) {
        await this.signIn();
        continue;
      }
      if (answer.status === 401) {
        const code: Code = auth.kind === "application" ? "source.not-allowed" : "source.signin-refused";
        throw new CodedError(code, `the server refuses ${new URL(url).pathname}`);
      }
      if (answer.status === 403 && of === "mailbox")
        throw new CodedError("source.not-allowed", `the server refuses ${new URL(url).pathname}`);
      return answer;
    }
  }

  private at = (path: string): string => new URL(path, this.tenant.address).href;
}

/** A part of a JSON pointer (RFC 6901). */
const pointerOf = (text: string): string => text.replaceAll("~", "~0").replaceAll("/", "~1");

function jsonOrNull({ body }: Answered): unknown {
  try {
    return JSON.parse(body.toString("utf8"));
  } catch {
    return null;
  }
}
function jsonOf(answer: Answered): unknown {
  if (answer.status >= 500)
    throw new CodedError("source.not-reached", `the server answers with status ${answer.status}`);
  if (answer.status === 429)
    throw new CodedError(
      "source.not-reached",
      "the server asks to slow down (status 429), also after pauses",
    );
  if (answer.status !== 200) throw new CodedError("source.unreadable", `status ${answer.status}`);
  const json = jsonOrNull(answer);
  if (json === null) throw new CodedError("source.unreadable", "the answer is not valid JSON");
  return json;
}

function parse<T>(schema: z.ZodType<T>, value: unknown): T {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  throw new CodedError(
    "source.unreadable",
    `an answer lacks ${result.error.issues[0]?.path.join(".") || "its form"}`,
  );
}
