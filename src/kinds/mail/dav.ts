import {
  addressBookMultiGet,
  calendarMultiGet,
  createAccount,
  type DAVAccount,
  davRequest,
  fetchAddressBooks,
  fetchCalendars,
  makeCalendar,
  propfind,
} from "tsdav";
import { CodedError } from "@/core/codes";
import { type Answered, type Asked, HttpTransport, PATIENCE, type Patience } from "../transport";
import { davHead } from "./dav-entry";
import { DAV_KINDS, type DavKind } from "./dav-kinds";

/** Calendars and address books of a mailbox, by CalDAV (RFC 4791) and CardDAV (RFC 6352). */

export interface DavCollection {
  readonly kind: DavKind;
  readonly url: string;
  readonly name: string;
}

/** A calendar entry (iCalendar, RFC 5545) or a contact (vCard, RFC 6350) of a collection. */
export interface DavObject {
  readonly url: string;
  /** Changes with the content (RFC 9110, section 8.8.3). */
  readonly etag: string;
  /** Bytes, where the server tells it. */
  readonly size: number | null;
  /** Milliseconds since 1970, where the server tells it. */
  readonly modified: number | null;
}

export interface DavTenant {
  /** An `https://` address; `{mailbox}` in it stands for the mailbox, and the address for its principal. */
  readonly address: string;
  /** Hosts besides the address's own that credentials may go to, as a technician confirmed. */
  readonly otherHosts?: readonly string[];
  /** The headers that sign in for a mailbox; `renew`: after they were refused. Throws `source.signin-refused`. */
  readonly signIn: (mailbox: string, renew: boolean) => Promise<Readonly<Record<string, string>>>;
}

const TYPES: Readonly<Record<DavKind, string>> = {
  calendar: "text/calendar; charset=utf-8",
  addressbook: "text/vcard; charset=utf-8",
};
/** So many items are asked for at once. */
const MULTIGET = 100;
const PLACE = /\{mailbox\}/g;
const READING: ReadonlySet<string> = new Set(["GET", "HEAD", "OPTIONS", "PROPFIND", "REPORT"]);

/** Errors are CodedErrors of the `source.`, `file.` and `restore.` codes. */
export class DavClient {
  private readonly transport: HttpTransport;
  private readonly homes = new Map<string, Promise<DAVAccount | null>>();

  constructor(
    private readonly tenant: DavTenant,
    patience: Patience = PATIENCE,
  ) {
    this.transport = new HttpTransport(tenant.address.replace(PLACE, "x"), tenant.otherHosts ?? [], patience);
  }

  /** The calendars and address books of a mailbox; none where the server has none for it. */
  async collections(mailbox: string): Promise<DavCollection[]> {
    const found: DavCollection[] = [];
    for (const kind of DAV_KINDS) {
      const account = await this.home(mailbox, kind);
      if (!account) continue;
      const asked = { account, fetch: this.fetchFor(mailbox) };
      const all = kind === "calendar" ? await fetchCalendars(asked) : await fetchAddressBooks(asked);
      for (const { url, displayName } of all) {
        const named = typeof displayName === "object" || displayName === undefined ? "" : String(displayName);
        const last = decoded(url.replace(/\/+$/, "").split("/").at(-1) ?? "");
        found.push({ kind, url: url.endsWith("/") ? url : `${url}/`, name: named.trim() || last });
      }
    }
    return found;
  }

  /** The items of a collection, without their content. */
  async objects(mailbox: string, { url }: DavCollection): Promise<DavObject[]> {
    const answers = await propfind({
      url,
      props: { "d:getetag": {}, "d:getcontentlength": {}, "d:getlastmodified": {}, "d:resourcetype": {} },
      depth: "1",
      fetch: this.fetchFor(mailbox),
    });
    const own = new URL(url).pathname.replace(/\/+$/, "");
    const objects: DavObject[] = [];
    for (const { href, props, ok, status } of answers) {
      if (!ok) throw new CodedError("source.unreadable", `PROPFIND ${url} was answered with ${status}`);
      if (!href || !props?.getetag) continue;
      const at = new URL(href, url);
      if (at.pathname.replace(/\/+$/, "") === own || "collection" in Object(props.resourcetype)) continue;
      const modified = Date.parse(String(props.getlastmodified ?? ""));
      const size = Number(props.getcontentlength ?? Number.NaN);
      objects.push({
        url: at.href,
        etag: String(props.getetag),
        size: Number.isSafeInteger(size) ? size : null,
        modified: Number.isNaN(modified) ? null : modified,
      });
    }
    return objects;
  }

  /** An item as the server stores it. Throws `file.vanished`. */
  async content(mailbox: string, url: string): Promise<Buffer> {
    const { status, body } = await this.ask(mailbox, url, {});
    if (status === 404 || status === 410) throw new CodedError("file.vanished", url);
    this.refuse(url, status);
    return body;
  }

  /** The UIDs of what is in a collection. */
  async uids(mailbox: string, collection: DavCollection): Promise<Set<string>> {
    const { kind, url } = collection;
    const objects = await this.objects(mailbox, collection);
    const found = new Set<string>();
    for (let at = 0; at < objects.length; at += MULTIGET) {
      const asked = {
        url,
        depth: "1" as const,
        objectUrls: objects.slice(at, at + MULTIGET).map((one) => new URL(one.url).pathname),
        fetch: this.fetchFor(mailbox),
      };
      const answers =
        kind === "calendar"
          ? await calendarMultiGet({ ...asked, props: { "c:calendar-data": {} } })
          : await addressBookMultiGet({ ...asked, props: { "card:address-data": {} } });
      for (const { props } of answers) {
        const data: unknown = kind === "calendar" ? props?.calendarData : props?.addressData;
        const text = typeof data === "object" ? (data as { _cdata?: unknown } | null)?._cdata : data;
        const { uid } = davHead(Buffer.from(String(text ?? "")), kind);
        if (uid !== null) found.add(uid);
      }
    }
    return found;
  }

  /** Creates a calendar or an address book. */
  async create(mailbox: string, kind: DavKind, name: string): Promise<DavCollection> {
    const account = await this.home(mailbox, kind);
    if (!account?.homeUrl)
      throw new CodedError("restore.cannot-write", `${mailbox} has no place for a ${WORDS[kind]}`);
    const slug = name
      .normalize("NFKD")
      .toLowerCase()
      .replaceAll(/[^a-z0-9]+/g, "-")
      .replaceAll(/^-+|-+$/g, "");
    const url = new URL(
      `${slug || kind}-${crypto.randomUUID().slice(0, 8)}/`,
      `${account.homeUrl.replace(/\/*$/, "")}/`,
    ).href;
    const fetch = this.fetchFor(mailbox);
    const [answer] =
      kind === "calendar"
        ? await makeCalendar({ url, props: { "d:displayname": name }, fetch })
        : // RFC 5689
          await davRequest({
            url,
            init: {
              method: "MKCOL",
              namespace: "d",
              body: {
                "d:mkcol": {
                  _attributes: { "xmlns:d": "DAV:", "xmlns:card": "urn:ietf:params:xml:ns:carddav" },
                  "d:set": {
                    "d:prop": {
                      "d:resourcetype": { "d:collection": {}, "card:addressbook": {} },
                      "d:displayname": name,
                    },
                  },
                },
              },
            },
            fetch,
          });
    if (!answer?.ok)
      throw new CodedError(
        "restore.cannot-write",
        `the server did not create the ${WORDS[kind]} ${name}: ${answer?.status}`,
      );
    return { kind, url, name };
  }

  /** Adds an item under a name of its own. `exists`: the collection has an item of this name. */
  async add(
    mailbox: string,
    { kind, url }: DavCollection,
    file: string,
    bytes: Buffer<ArrayBuffer>,
  ): Promise<"added" | "exists"> {
    const { status, body } = await this.ask(mailbox, new URL(encodeURIComponent(file), url).href, {
      method: "PUT",
      headers: { "content-type": TYPES[kind], "if-none-match": "*" },
      body: bytes,
      again: "refused",
    });
    if (status === 412) return "exists";
    if (status === 507)
      throw new CodedError("restore.mailbox-full", "the server says that the quota is used up");
    // RFC 4791, section 5.3.2.1: the item is not valid there, too large, or of a component that the calendar does not take
    if (status === 400 || status === 403 || status === 409 || status === 413 || status === 415)
      throw new CodedError(
        "restore.message-rejected",
        // RFC 4791 and RFC 6352: the precondition that failed is named by an element
        /no-uid-conflict/.test(body.toString("utf8", 0, 2000))
          ? "the mailbox has an item with its UID elsewhere"
          : `${status} ${reasonOf(body)}`.trim(),
      );
    this.refuse(url, status);
    return "added";
  }

  private home(mailbox: string, kind: DavKind): Promise<DAVAccount | null> {
    const key = `${kind} ${mailbox}`;
    let home = this.homes.get(key);
    if (!home) {
      home = this.findHome(mailbox, kind);
      home.catch(() => this.homes.delete(key));
      this.homes.set(key, home);
    }
    return home;
  }

  private async findHome(mailbox: string, kind: DavKind): Promise<DAVAccount | null> {
    const { address } = this.tenant;
    const url = address.replace(PLACE, encodeURIComponent(mailbox));
    const { pathname } = new URL(url);
    const account: DAVAccount = {
      accountType: kind === "calendar" ? "caldav" : "carddav",
      serverUrl: url,
      ...(url === address ? (pathname === "/" ? {} : { rootUrl: url }) : { rootUrl: url, principalUrl: url }),
    };
    try {
      return await createAccount({ account, fetch: this.fetchFor(mailbox) });
    } catch (error) {
      if (error instanceof CodedError) throw error;
      // the library's words for a principal without calendars or address books
      if ((error as Error).message === "cannot find homeUrl") return null;
      throw new CodedError(
        "source.unreadable",
        `${new URL(url).host} does not answer as a CalDAV and CardDAV server at this address (${(error as Error).message})`,
      );
    }
  }

  /** Asks as a mailbox; an expired token is requested again once. */
  private async ask(mailbox: string, url: string, asked: Asked): Promise<Answered> {
    for (const renew of [false, true]) {
      const signedIn = await this.tenant.signIn(mailbox, renew);
      const answer = await this.transport.ask(url, { ...asked, headers: { ...asked.headers, ...signedIn } });
      if (answer.status !== 401 || renew) return answer;
    }
    throw new Error("unreachable");
  }

  /** How the library asks: as the mailbox, through our transport. */
  private fetchFor(mailbox: string): typeof fetch {
    return async (input, init = {}) => {
      const url = input instanceof Request ? input.url : String(input);
      const method = init.method ?? "GET";
      const answer = await this.ask(mailbox, url, {
        method,
        headers: Object.fromEntries(new Headers(init.headers).entries()),
        ...(init.body ? { body: String(init.body) } : {}),
        again: READING.has(method) ? "always" : "refused",
        redirects: init.redirect !== "manual",
      });
      if (answer.status >= 400 && answer.status !== 404) this.refuse(url, answer.status);
      const empty = answer.status === 204 || answer.status === 304;
      return new Response(empty ? null : Uint8Array.from(answer.body), {
        status: answer.status,
        headers: answer.headers,
      });
    };
  }

  private refuse(url: string, status: number): void {
    if (status < 400) return;
    const { host } = new URL(url);
    if (status === 401) throw new CodedError("source.signin-refused", `${host} refused the sign-in (401)`);
    if (status === 403) throw new CodedError("source.not-allowed", `${host} does not allow it (403)`);
    if (status === 507)
      throw new CodedError("restore.mailbox-full", "the server says that the quota is used up");
    if (status === 408 || status === 425 || status === 429 || status >= 500)
      throw new CodedError("source.not-reached", `${host} answered ${status}`);
    throw new CodedError("source.unreadable", `${host} answered ${status}`);
  }
}

const WORDS: Readonly<Record<DavKind, string>> = { calendar: "calendar", addressbook: "address book" };

/** The first words of an answer, for a log. */
const reasonOf = (body: Buffer): string =>
  body
    .toString("utf8", 0, 2000)
    .replaceAll(/<[^>]*>|[\s\p{Cc}]+/gu, " ")
    .replaceAll(/ +/g, " ")
    .trim()
    .slice(0, 200);

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}
