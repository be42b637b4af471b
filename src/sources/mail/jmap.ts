import { z } from "zod";
import { type Code, CodedError } from "@/core/codes";
import { fetchAllowed } from "@/store/reach";

/**
 * A client of a mail tenant: JMAP (RFC 8620, RFC 8621), signed in as an application with OAuth 2.0 client credentials
 * (RFC 6749, section 4.4), its token address found by RFC 8414. Every answer is checked before it is trusted.
 */
export interface MailTenant {
  /** An origin, such as `https://mail.example`. */
  readonly address: string;
  readonly tenantId: string;
  readonly clientId: string;
  readonly clientSecret: string;
}

const CORE = "urn:ietf:params:jmap:core";
const MAIL = "urn:ietf:params:jmap:mail";
const WAIT_MS = 30_000;
/** As many ids as are asked for at once; servers take at least 500 (RFC 8620, section 2). */
const PAGE = 500;

const metadataSchema = z.object({ token_endpoint: z.url() });
const tokenSchema = z.object({ access_token: z.string(), expires_in: z.number().optional() });
const oauthError = z.object({ error: z.string(), error_description: z.string().optional() });
const sessionSchema = z.object({
  apiUrl: z.string(),
  downloadUrl: z.string(),
  accounts: z.record(z.string(), z.object({ name: z.string() })),
});
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

export type MailFolder = z.infer<typeof mailboxSchema>;
export type MailItem = z.infer<typeof emailSchema>;
export interface MailAccount {
  readonly id: string;
  /** The address of the mailbox. */
  readonly name: string;
}

/** Steps of signing in, so that a test can say which one failed. */
export class JmapClient {
  private token: string | null = null;
  private session: z.infer<typeof sessionSchema> | null = null;
  private tokenEndpoint: string | null = null;

  constructor(private readonly tenant: MailTenant) {}

  /** Finds out where tokens are given. Throws `source.not-reached`. */
  async find(): Promise<void> {
    const url = this.at(
      `/.well-known/oauth-authorization-server/${encodeURIComponent(this.tenant.tenantId)}`,
    );
    const response = await this.fetch(url, {});
    if (response.status === 404)
      throw new CodedError("source.not-reached", `the server knows no tenant ${this.tenant.tenantId}`);
    this.tokenEndpoint = parse(metadataSchema, await this.json(response)).token_endpoint;
  }

  /** Asks for a token. Throws `source.signin-refused` with the server's own reason. */
  async signIn(): Promise<void> {
    if (!this.tokenEndpoint) await this.find();
    const { clientId, clientSecret } = this.tenant;
    const response = await this.fetch(this.tokenEndpoint!, {
      method: "POST",
      headers: { "content-type": "application/x-www-form-urlencoded" },
      body: new URLSearchParams({
        grant_type: "client_credentials",
        client_id: clientId,
        client_secret: clientSecret,
        scope: MAIL,
      }).toString(),
    });
    const answer = await response.json().catch(() => null);
    if (!response.ok) {
      const refusal = oauthError.safeParse(answer);
      const reason = refusal.success
        ? (refusal.data.error_description ?? refusal.data.error)
        : `status ${response.status}`;
      throw new CodedError(response.status < 500 ? "source.signin-refused" : "source.not-reached", reason);
    }
    this.token = parse(tokenSchema, answer).access_token;
  }

  /** The mailboxes that this application may read, by their addresses. Throws `source.not-allowed`. */
  async accounts(): Promise<MailAccount[]> {
    const session = await this.begin();
    return Object.entries(session.accounts)
      .map(([id, { name }]) => ({ id, name }))
      .sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  async folders(accountId: string): Promise<MailFolder[]> {
    const answer = await this.call("Mailbox/get", { accountId, ids: null });
    return parse(z.array(mailboxSchema), answer.list);
  }

  /** Everything in a mailbox, without content, oldest first. */
  async *items(accountId: string): AsyncGenerator<MailItem> {
    for (let position = 0; ; ) {
      const query = await this.call("Email/query", {
        accountId,
        sort: [{ property: "receivedAt", isAscending: true }],
        position,
        limit: PAGE,
      });
      const ids = parse(z.array(z.string()), query.ids);
      if (ids.length === 0) return;
      const got = await this.call("Email/get", {
        accountId,
        ids,
        properties: Object.keys(emailSchema.shape),
      });
      yield* parse(z.array(emailSchema), got.list);
      position += ids.length;
    }
  }

  /** The message as it was received (RFC 5322). */
  async content(accountId: string, blobId: string): Promise<Buffer> {
    const { downloadUrl } = await this.begin();
    const url = downloadUrl
      .replace("{accountId}", encodeURIComponent(accountId))
      .replace("{blobId}", encodeURIComponent(blobId))
      .replace("{type}", encodeURIComponent("message/rfc822"))
      .replace("{name}", "message.eml");
    const response = await this.authorised(url, {});
    if (response.status === 404) throw new CodedError("file.vanished", "the message is not there any more");
    return Buffer.from(await response.arrayBuffer());
  }

  private async begin(): Promise<z.infer<typeof sessionSchema>> {
    if (this.session) return this.session;
    if (!this.token) await this.signIn();
    const response = await this.authorised(this.at("/.well-known/jmap"), {});
    this.session = parse(sessionSchema, await this.json(response));
    return this.session;
  }

  private async call(method: string, args: Record<string, unknown>): Promise<Record<string, unknown>> {
    const { apiUrl } = await this.begin();
    const response = await this.authorised(apiUrl, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify({ using: [CORE, MAIL], methodCalls: [[method, args, "0"]] }),
    });
    const [first] = parse(responseSchema, await this.json(response)).methodResponses;
    if (!first) throw new CodedError("source.unreadable", `no answer to ${method}`);
    const [name, answer] = first;
    if (name === "error") {
      const type = String(answer.type);
      const code: Code =
        type === "forbidden" || type === "accountNotFound" ? "source.not-allowed" : "source.unreadable";
      throw new CodedError(code, `${method}: ${type}`);
    }
    return answer;
  }

  /** With the token; a token that ran out is asked for again once. */
  private async authorised(url: string, init: RequestInit): Promise<Response> {
    for (let tries = 0; ; tries += 1) {
      const response = await this.fetch(url, {
        ...init,
        headers: { ...init.headers, authorization: `Bearer ${this.token}` },
      });
      if (response.status === 401 && tries === 0) {
        await this.signIn();
        continue;
      }
      if (response.status === 401 || response.status === 403)
        throw new CodedError("source.not-allowed", `the server refuses ${new URL(url).pathname}`);
      if (response.status >= 500)
        throw new CodedError("source.not-reached", `the server answers with status ${response.status}`);
      return response;
    }
  }

  private at = (path: string): string => new URL(path, this.tenant.address).href;

  private async json(response: Response): Promise<unknown> {
    if (!response.ok) throw new CodedError("source.unreadable", `status ${response.status}`);
    return response.json().catch(() => {
      throw new CodedError("source.unreadable", "the answer is no JSON");
    });
  }

  private async fetch(url: string, init: RequestInit): Promise<Response> {
    try {
      return await fetchAllowed(url, { ...init, signal: AbortSignal.timeout(WAIT_MS), redirect: "error" });
    } catch (error) {
      if (error instanceof CodedError) throw error;
      const cause = (error as { cause?: { code?: string; message?: string } }).cause;
      const why =
        { ENOTFOUND: "no such name", ECONNREFUSED: "nothing listens on that port" }[cause?.code ?? ""] ??
        cause?.message ??
        (error as Error).message;
      throw new CodedError("source.not-reached", `${new URL(url).host}: ${why}`, { cause: error });
    }
  }
}

function parse<T>(schema: z.ZodType<T>, value: unknown): T {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  throw new CodedError(
    "source.unreadable",
    `an answer lacks ${result.error.issues[0]?.path.join(".") || "its form"}`,
  );
}
