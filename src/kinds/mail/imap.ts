import { createHash } from "node:crypto";
import { once } from "node:events";
import { connect as connectPlain, isIP, type Socket } from "node:net";
import { setTimeout as sleep } from "node:timers/promises";
import { connect as connectTls } from "node:tls";
import { type FetchMessageObject, ImapFlow, type ImapFlowError, type ListResponse } from "imapflow";
import { CodedError } from "@/core/codes";
import { allowedAddress } from "@/store/places/reach";
import { PATIENCE, type Patience } from "../transport";
import type { MailAccount, MailClient, MailFolder, MailItem, NewMessage, PresentMessage } from "./client";

/** How a client signs in at an IMAP server. */
export type ImapAuth =
  /** The mailbox's own user name and password. */
  | { readonly kind: "password"; readonly user: string; readonly password: string }
  /** A bearer token (RFC 7628) for a mailbox. */
  | { readonly kind: "bearer"; readonly user: string; readonly token: string }
  /** A master user: signs in as `mailbox*master` with its own password. */
  | { readonly kind: "master"; readonly user: string; readonly password: string; readonly separator: string }
  /** Proxy authorisation: signs in as itself and acts for the mailbox (SASL PLAIN, RFC 4616). */
  | { readonly kind: "proxy"; readonly user: string; readonly password: string };

export interface ImapServer {
  /** `imaps://host:993`, or `imap://host:143` with STARTTLS. */
  readonly address: string;
  readonly auth: ImapAuth;
  /** The mailboxes that a master user or proxy reads. */
  readonly mailboxes?: readonly string[];
}

/** Special-use attributes (RFC 6154) as RFC 8621 calls what a folder is for. */
const ROLES: Readonly<Record<string, string>> = {
  "\\Inbox": "inbox",
  "\\Sent": "sent",
  "\\Drafts": "drafts",
  "\\Junk": "junk",
  "\\Trash": "trash",
  "\\Archive": "archive",
};
/** Folders that show messages of others once more. */
const VIRTUAL: ReadonlySet<string> = new Set(["\\All", "\\Flagged"]);
const UNSELECTABLE = ["\\Noselect", "\\NonExistent"];

/** System flags as keywords (RFC 8621, section 4.1.1), and the other way. */
const KEYWORD_OF_FLAG: Readonly<Record<string, string>> = {
  "\\seen": "$seen",
  "\\answered": "$answered",
  "\\flagged": "$flagged",
  "\\draft": "$draft",
};
const FLAG_OF_KEYWORD: Readonly<Record<string, string>> = {
  $seen: "\\Seen",
  $answered: "\\Answered",
  $flagged: "\\Flagged",
  $draft: "\\Draft",
};

/** Errors by which the connection ended, or never began. */
const LOST = new Set([
  "NoConnection",
  "EConnectionClosed",
  "StateLogout",
  "ClosedAfterConnectText",
  "ClosedAfterConnectTLS",
  "CONNECT_TIMEOUT",
  "GREETING_TIMEOUT",
  "UPGRADE_TIMEOUT",
  "ETIMEOUT",
  "ECONNRESET",
  "ECONNREFUSED",
  "EPIPE",
  "ENOTFOUND",
  "EHOSTUNREACH",
]);
/** Refusals that pass (RFC 5530). */
const PASSING = new Set(["UNAVAILABLE", "INUSE", "LIMIT", "SERVERBUG", "CONTACTADMIN"]);

const isLoopback = (address: string): boolean => /^127\./.test(address) || address === "::1";

/**
 * A client of a mail server: IMAP4rev1 and rev2 (RFC 3501, RFC 9051). One connection a mailbox; calls follow one another
 * on it. A message is known by what does not change when a server counts its messages anew: Message-ID, time of receipt,
 * size, and the head's own fields.
 */
export class ImapClient implements MailClient {
  private readonly host: string;
  private readonly port: number;
  private readonly secure: boolean;
  private flow: { readonly accountId: string; readonly client: ImapFlow } | null = null;
  private queue: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly server: ImapServer,
    private readonly patience: Patience = PATIENCE,
  ) {
    const url = new URL(server.address);
    this.secure = url.protocol === "imaps:";
    this.host = url.hostname.replace(/^\[|\]$/g, "");
    this.port = Number(url.port) || (this.secure ? 993 : 143);
  }

  /** Connects and hears the greeting. Throws `source.not-reached`, `source.unreadable`. */
  async find(): Promise<void> {
    const address = await allowedAddress(this.host).catch((error) => {
      throw (error as { code?: string }).code === "ENOTFOUND"
        ? new CodedError("source.not-reached", `${this.host}: no such name`)
        : error;
    });
    const socket: Socket = this.secure
      ? connectTls({ host: address, port: this.port, servername: isIP(this.host) ? undefined : this.host })
      : connectPlain(this.port, address);
    const signal = AbortSignal.timeout(this.patience.silenceMs);
    try {
      await once(socket, this.secure ? "secureConnect" : "connect", { signal });
      const [greeting] = (await once(socket, "data", { signal })) as [Buffer];
      if (!/^\* (OK|PREAUTH)\b/i.test(greeting.toString("latin1")))
        throw new CodedError("source.unreadable", `${this.host}:${this.port} does not speak IMAP`);
    } catch (error) {
      throw error instanceof CodedError ? error : this.notReached(error as Error);
    } finally {
      socket.destroy();
    }
  }

  async signIn(): Promise<void> {
    const first = (await this.accounts())[0];
    if (!first) throw new CodedError("source.not-allowed", "no mailbox is named");
    await this.on(first.id, async () => null);
  }

  /** Of a user its own mailbox; of a master user or proxy those that were named. */
  async accounts(): Promise<MailAccount[]> {
    const { auth, mailboxes = [] } = this.server;
    const names = auth.kind === "master" || auth.kind === "proxy" ? mailboxes : [auth.user];
    return [...new Set(names)].sort().map((name) => ({ id: name, name }));
  }

  async folders(accountId: string): Promise<MailFolder[]> {
    const listed = await this.on(accountId, (client) => client.list());
    const made = new Map<string, MailFolder>();
    const put = (
      path: string,
      name: string,
      parents: readonly string[],
      delimiter: string,
      role: string | null,
    ) => {
      // a parent that the server does not list is one all the same
      const above = parents.length ? parents.join(delimiter) : null;
      if (above !== null && !made.has(above))
        put(above, parents.at(-1)!, parents.slice(0, -1), delimiter, null);
      const known = made.get(path);
      if (!known || role) made.set(path, { id: path, name, parentId: above, role });
    };
    for (const one of listed) {
      if (one.specialUse && VIRTUAL.has(one.specialUse)) continue;
      put(one.path, one.name, one.parent, one.delimiter, roleOf(one));
    }
    return [...made.values()];
  }

  async items(accountId: string): Promise<MailItem[]> {
    const items: MailItem[] = [];
    const listed = await this.on(accountId, (client) => client.list());
    for (const folder of listed) {
      if (folder.specialUse && VIRTUAL.has(folder.specialUse)) continue;
      if (UNSELECTABLE.some((flag) => folder.flags.has(flag))) continue;
      items.push(...(await this.itemsOf(accountId, folder.path)));
    }
    return items;
  }

  private itemsOf(accountId: string, path: string): Promise<MailItem[]> {
    return this.on(accountId, async (client) => {
      const mailbox = await client.mailboxOpen(path, { readOnly: true });
      if (mailbox.exists === 0) return [];
      const items: MailItem[] = [];
      /** Of messages that are alike in everything the second has a number. */
      const times = new Map<string, number>();
      for await (const message of client.fetch("1:*", LISTED)) {
        const keywords = keywordsOf(message);
        // removed by its owner, though not yet by the server
        if (keywords.$deleted) continue;
        const same = identityOf(message);
        const count = (times.get(same) ?? 0) + 1;
        times.set(same, count);
        items.push({
          id: count === 1 ? same : `${same}-${count}`,
          blobId: JSON.stringify([path, String(mailbox.uidValidity), message.uid]),
          mailboxIds: { [path]: true },
          keywords,
          receivedAt: receivedOf(message),
          size: message.size ?? 0,
          subject: message.envelope?.subject ?? null,
        });
      }
      return items;
    });
  }

  /** Throws `file.vanished` for a message that was removed, or counted anew, since it was listed. */
  async content(accountId: string, { blobId }: Pick<MailItem, "blobId">): Promise<Buffer> {
    const [path, uidValidity, uid] = JSON.parse(blobId) as [string, string, number];
    return this.on(accountId, async (client) => {
      await this.select(client, path);
      if (client.mailbox === false || String(client.mailbox.uidValidity) !== uidValidity)
        throw new CodedError("file.vanished", "the server has counted its messages anew");
      const found = await client.fetchOne(String(uid), { source: true }, { uid: true });
      if (found === false || !found.source)
        throw new CodedError("file.vanished", "the message is not there any more");
      return found.source;
    });
  }

  async present(accountId: string, folderId: string): Promise<PresentMessage[]> {
    return this.on(accountId, async (client) => {
      const mailbox = await client.mailboxOpen(folderId, { readOnly: true });
      if (mailbox.exists === 0) return [];
      const found: PresentMessage[] = [];
      for await (const message of client.fetch("1:*", LISTED)) {
        if (keywordsOf(message).$deleted) continue;
        const blobId = JSON.stringify([folderId, String(mailbox.uidValidity), message.uid]);
        found.push({
          id: blobId,
          blobId,
          size: message.size ?? 0,
          receivedAt: receivedOf(message),
          messageId: bare(message.envelope?.messageId),
        });
      }
      return found;
    });
  }

  /** A name without the character by which this server separates folders. */
  async folderName(accountId: string, name: string): Promise<string> {
    const delimiter = await this.on(accountId, async (client) => client.namespace?.delimiter || "/");
    return name.replaceAll(delimiter, "_");
  }

  async addFolder(accountId: string, name: string, parentId: string | null): Promise<string> {
    return this.on(accountId, async (client) => {
      const delimiter = client.namespace?.delimiter || "/";
      try {
        const { path } = await client.mailboxCreate(
          parentId === null ? [name] : `${parentId}${delimiter}${name}`,
        );
        await client.mailboxSubscribe(path).catch(() => {});
        return path;
      } catch (error) {
        throw refusalOf(`folder ${name}`, error as ImapFlowError);
      }
    });
  }

  async add(accountId: string, folderId: string, message: NewMessage): Promise<null> {
    const { bytes, receivedAt, keywords } = message;
    const flags = keywords.map((keyword) => FLAG_OF_KEYWORD[keyword] ?? keyword);
    const system = flags.filter((flag) => flag.startsWith("\\"));
    // an append that the connection did not survive may have been carried out: it is not simply repeated
    return this.on(
      accountId,
      async (client) => {
        const append = (some: string[]) => client.append(folderId, bytes, some, new Date(receivedAt));
        try {
          await append(flags).catch((error: ImapFlowError) => {
            // a server that takes no keywords of ours takes the message without them
            if (error.responseStatus && system.length < flags.length && !error.serverResponseCode)
              return append(system);
            throw error;
          });
          return null;
        } catch (error) {
          throw refusalOf("the server rejects it", error as ImapFlowError);
        }
      },
      false,
    );
  }

  async end(): Promise<void> {
    const { flow } = this;
    this.flow = null;
    await flow?.client.logout().catch(() => flow.client.close());
  }

  private async select(client: ImapFlow, path: string): Promise<void> {
    if (client.mailbox === false || client.mailbox.path !== path)
      await client.mailboxOpen(path, { readOnly: true });
  }

  /** Works on the connection of a mailbox, one call after another; what only reads is repeated on a new connection. */
  private on<T>(accountId: string, work: (client: ImapFlow) => Promise<T>, again = true): Promise<T> {
    const made = this.queue.then(async () => {
      for (let attempt = 1; ; attempt += 1) {
        try {
          return await work(await this.connection(accountId));
        } catch (error) {
          const coded = this.codedOf(error as ImapFlowError);
          if (coded.code === "source.not-reached") this.drop();
          const passes =
            coded.code === "source.not-reached" &&
            coded.cause !== "final" &&
            attempt < this.patience.attempts;
          if (!again || !passes) throw coded;
          await sleep(this.patience.firstPauseMs * 2 ** (attempt - 1));
        }
      }
    });
    this.queue = made.catch(() => {});
    return made;
  }

  private drop(): void {
    this.flow?.client.close();
    this.flow = null;
  }

  private async connection(accountId: string): Promise<ImapFlow> {
    if (this.flow?.accountId === accountId && this.flow.client.usable) return this.flow.client;
    this.drop();
    const address = await allowedAddress(this.host);
    const client = new ImapFlow({
      host: address,
      port: this.port,
      secure: this.secure,
      // on the machine itself nobody listens in between
      ...(this.secure ? {} : { doSTARTTLS: !isLoopback(address) }),
      ...(isIP(this.host) ? {} : { servername: this.host }),
      auth: this.authOf(accountId),
      logger: false,
      disableAutoIdle: true,
      connectionTimeout: this.patience.silenceMs,
      greetingTimeout: this.patience.silenceMs,
      socketTimeout: this.patience.silenceMs,
    });
    // a connection that ends between calls is made anew by the next
    client.on("error", () => {});
    await client.connect();
    this.flow = { accountId, client };
    return client;
  }

  private authOf(mailbox: string) {
    const { auth } = this.server;
    if (auth.kind === "bearer") return { user: mailbox, accessToken: auth.token };
    if (auth.kind === "master")
      return { user: `${mailbox}${auth.separator}${auth.user}`, pass: auth.password };
    if (auth.kind === "proxy")
      return { user: auth.user, pass: auth.password, authzid: mailbox, loginMethod: "AUTH=PLAIN" };
    return { user: auth.user, pass: auth.password };
  }

  private notReached(error: Error): CodedError {
    const code = (error as { code?: string }).code;
    const final = { ENOTFOUND: "no such name", ECONNREFUSED: "nothing listens on that port" }[code ?? ""];
    const silent = error.name === "AbortError" || error.name === "TimeoutError";
    const why = final ?? (silent ? `nothing came for ${this.patience.silenceMs / 1000} s` : error.message);
    return new CodedError("source.not-reached", `${this.host}:${this.port}: ${why}`, {
      cause: final ? "final" : error,
    });
  }

  private codedOf(error: ImapFlowError): CodedError {
    if (error instanceof CodedError) return error;
    const said = error.responseText ?? error.message;
    if (error.authenticationFailed) {
      if (error.serverResponseCode && PASSING.has(error.serverResponseCode))
        return this.notReached(new Error(said));
      const code =
        error.serverResponseCode === "AUTHORIZATIONFAILED" ? "source.not-allowed" : "source.signin-refused";
      return new CodedError(code, said || "the server refuses the sign-in");
    }
    if (error.tlsFailed)
      return new CodedError("source.not-reached", `${this.host}: ${said}`, { cause: "final" });
    if (LOST.has(error.code ?? "")) return this.notReached(error);
    if (error.serverResponseCode === "NOPERM") return new CodedError("source.not-allowed", said);
    if (PASSING.has(error.serverResponseCode ?? "") || error.code === "ETHROTTLE")
      return new CodedError("source.not-reached", `${this.host}: ${said}`);
    return new CodedError("source.unreadable", said);
  }
}

const LISTED = { uid: true, flags: true, internalDate: true, size: true, envelope: true } as const;

const roleOf = ({ specialUse, specialUseSource, path }: ListResponse): string | null => {
  if (path.toUpperCase() === "INBOX") return "inbox";
  // what a client guesses from a name, the server does not say
  return specialUse && specialUseSource !== "name" ? (ROLES[specialUse] ?? null) : null;
};

function keywordsOf({ flags }: FetchMessageObject): Record<string, boolean> {
  const keywords: Record<string, boolean> = {};
  for (const flag of flags ?? []) {
    const lower = flag.toLowerCase();
    if (lower === "\\recent") continue;
    const keyword = lower === "\\deleted" ? "$deleted" : (KEYWORD_OF_FLAG[lower] ?? flag);
    if (!/[\s\\]/.test(keyword)) keywords[keyword] = true;
  }
  return keywords;
}

const receivedOf = ({ internalDate }: FetchMessageObject): string => {
  const at = new Date(internalDate ?? 0);
  return (Number.isNaN(at.getTime()) ? new Date(0) : at).toISOString();
};
const bare = (messageId: string | undefined): string | null =>
  messageId ? (/<([^<>]*)>/.exec(messageId)?.[1] ?? messageId) : null;

/** What a message is known by: the same before and after a server counts anew, or it is put back. */
function identityOf(message: FetchMessageObject): string {
  const { envelope } = message;
  const who = (list: readonly { address?: string | undefined }[] | undefined) =>
    (list ?? []).map((one) => one.address ?? "").join(",");
  return createHash("sha256")
    .update(
      JSON.stringify([
        envelope?.messageId ?? "",
        receivedOf(message),
        message.size ?? 0,
        envelope?.subject ?? "",
        envelope?.date ? String(envelope.date) : "",
        who(envelope?.from),
        who(envelope?.to),
      ]),
    )
    .digest("hex")
    .slice(0, 20);
}

/** What a refusal to create something means (RFC 5530, RFC 9208). Throws on what is none. */
function refusalOf(what: string, error: ImapFlowError): unknown {
  if (error instanceof CodedError || !(error.responseStatus || error.serverResponseCode === "APPENDLIMIT"))
    return error;
  const why = `${what}: ${error.responseText ?? error.message}`;
  if (error.serverResponseCode === "OVERQUOTA") return new CodedError("restore.mailbox-full", why);
  if (error.serverResponseCode === "NOPERM") return new CodedError("restore.read-only", why);
  if (PASSING.has(error.serverResponseCode ?? "")) return error;
  return new CodedError("restore.message-rejected", why);
}
