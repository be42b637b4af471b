import type { Collection, Mailbox, MailTenants, Tenant } from "./tenants";

/**
 * Calendars (CalDAV, RFC 4791) and address books (CardDAV, RFC 6352) of the stand-in: what a client needs that reads them
 * and puts items back. Principals are `/dav/principals/ADDRESS/`.
 */
export interface DavAsked {
  readonly method: string;
  readonly path: string;
  readonly headers: Readonly<Record<string, string | string[] | undefined>>;
  readonly body: string;
}
export interface DavAnswer {
  readonly status: number;
  readonly type?: string;
  readonly headers?: Readonly<Record<string, string>>;
  readonly body?: string;
}

const NAMESPACES =
  'xmlns="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:card="urn:ietf:params:xml:ns:carddav"';
const TYPES = { calendar: "text/calendar; charset=utf-8", addressbook: "text/vcard; charset=utf-8" } as const;

const escaped = (text: string): string =>
  text.replaceAll(/[&<>"]/g, (one) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[one]!);
const unescaped = (text: string): string =>
  text.replaceAll(
    /&(amp|lt|gt|quot|#39);/g,
    (_, name: string) => ({ amp: "&", lt: "<", gt: ">", quot: '"', "#39": "'" })[name]!,
  );
/** One resource of a multistatus answer (RFC 4918, section 13). */
const response = (href: string, props: string): string =>
  `<response><href>${escaped(href)}</href><propstat><prop>${props}</prop><status>HTTP/1.1 200 OK</status></propstat></response>`;
const multistatus = (responses: readonly string[]): DavAnswer => ({
  status: 207,
  type: "application/xml; charset=utf-8",
  body: `<?xml version="1.0" encoding="utf-8"?><multistatus ${NAMESPACES}>${responses.join("")}</multistatus>`,
});

const homeOf = (mailbox: Mailbox, kind: Collection["kind"]): string =>
  `/dav/${kind === "calendar" ? "calendars" : "addressbooks"}/${encodeURIComponent(mailbox.address)}/`;
const typeProps = ({ kind, name }: Pick<Collection, "kind" | "name">): string =>
  `<resourcetype><collection/>${kind === "calendar" ? "<c:calendar/>" : "<card:addressbook/>"}</resourcetype><displayname>${escaped(name)}</displayname>`;

/** Answers what is below `/dav/` for an application of the tenant. */
export function answerDav(
  world: MailTenants,
  tenant: Tenant,
  { method, path, headers, body }: DavAsked,
): DavAnswer {
  const [, area, address, collectionId, file] = (
    /^\/dav\/(principals|calendars|addressbooks)\/([^/]+)(?:\/([^/]+))?(?:\/([^/]+))?\/?$/.exec(path) ?? []
  ).map((part) => (part === undefined ? part : decodeURIComponent(part)));
  const mailbox = tenant.mailboxes.find((one) => one.address === address);
  if (!area || !mailbox) return { status: 404 };
  if (area === "principals")
    return method === "PROPFIND"
      ? multistatus([
          response(
            path,
            `<current-user-principal><href>${escaped(path)}</href></current-user-principal><c:calendar-home-set><href>${escaped(homeOf(mailbox, "calendar"))}</href></c:calendar-home-set><card:addressbook-home-set><href>${escaped(homeOf(mailbox, "addressbook"))}</href></card:addressbook-home-set>`,
          ),
        ])
      : { status: 405 };
  const kind = area === "calendars" ? "calendar" : "addressbook";
  const home = homeOf(mailbox, kind);
  mailbox.collections ??= [];
  const own = mailbox.collections.filter((one) => one.kind === kind);
  if (!collectionId)
    return method === "PROPFIND"
      ? multistatus([
          response(home, "<resourcetype><collection/></resourcetype>"),
          ...own.map((one) => response(`${home}${encodeURIComponent(one.id)}/`, typeProps(one))),
        ])
      : { status: 405 };
  const collection = own.find((one) => one.id === collectionId);
  const changes = method === "PUT" || method === "DELETE" || method.startsWith("MK");
  if (changes && mailbox.readOnly) return { status: 403 };
  if (method === "MKCALENDAR" || method === "MKCOL") {
    if (collection) return { status: 405 };
    const name = unescaped(/<(?:\w+:)?displayname[^>]*>([^<]*)</.exec(body)?.[1] ?? collectionId);
    mailbox.collections.push({ id: collectionId, kind, name, items: [] });
    world.save(tenant);
    return { status: 201 };
  }
  if (!collection) return { status: 404 };
  const base = `${home}${encodeURIComponent(collection.id)}/`;
  const read = (name: string): string => world.readItem(tenant, mailbox, collection, name);
  if (!file) {
    if (method === "PROPFIND")
      return multistatus([
        response(base, typeProps(collection)),
        ...collection.items.map((item) =>
          response(
            `${base}${encodeURIComponent(item.file)}`,
            `<resourcetype/><getetag>${escaped(item.etag)}</getetag><getlastmodified>${new Date(item.changedAt).toUTCString()}</getlastmodified>`,
          ),
        ),
      ]);
    if (method !== "REPORT") return { status: 405 };
    const wanted = [...body.matchAll(/<(?:\w+:)?href[^>]*>([^<]+)</g)].map(([, href]) =>
      decodeURIComponent(unescaped(href!).split("/").at(-1)!),
    );
    const element = kind === "calendar" ? "c:calendar-data" : "card:address-data";
    return multistatus(
      collection.items
        .filter((item) => wanted.includes(item.file))
        .map((item) =>
          response(
            `${base}${encodeURIComponent(item.file)}`,
            `<getetag>${escaped(item.etag)}</getetag><${element}>${escaped(read(item.file))}</${element}>`,
          ),
        ),
    );
  }
  const item = collection.items.find((one) => one.file === file);
  if (method === "GET")
    return item
      ? { status: 200, type: TYPES[kind], headers: { etag: item.etag }, body: read(file) }
      : { status: 404 };
  if (method === "DELETE") {
    if (!item) return { status: 404 };
    collection.items = collection.items.filter((one) => one !== item);
    world.save(tenant);
    return { status: 204 };
  }
  if (method !== "PUT") return { status: 405 };
  if (item && headers["if-none-match"] === "*") return { status: 412 };
  if (!body.includes(kind === "calendar" ? "BEGIN:VCALENDAR" : "BEGIN:VCARD")) return { status: 403 };
  const { etag } = world.putItem(tenant, mailbox, collection, file, body, new Date());
  world.save(tenant);
  return { status: 201, headers: { etag } };
}
