import { createHash } from "node:crypto";
import type { IncomingMessage, ServerResponse } from "node:http";
import { LRUCache } from "lru-cache";
import { pointById } from "@/db/points/points";
import { noteViewed, type OpenedViewing, viewingFor } from "@/db/portal/viewings";
import { record } from "@/server/access/who";
import { problemFrom } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { momentText } from "@/server/inside/moment-label";
import { countEntries, fileBytes, findEntry, folderEntries } from "@/store/read/browse";
import type { ChunkReader } from "@/store/read/reader";
import { hashSecret } from "@/store/seal/secrets";
import { type ByteString, byteString, type Entry, showBytes } from "@/store/tree/tree";
import {
  type Asked,
  MULTISTATUS_BEGIN,
  MULTISTATUS_END,
  type Properties,
  readAsked,
  responseOf,
  xmlText,
} from "./multistatus";
import { hrefOf, pathOf } from "./paths";
import { rangeOf } from "./ranges";

/**
 * Viewings as read-only WebDAV, class 1 (RFC 4918): `/viewings/{id}/{path}`. Symbolic links, sockets and the like are
 * left out, since WebDAV has no word for them.
 */

export const PREFIX = "/viewings/";
const ALLOW = "OPTIONS, GET, HEAD, PROPFIND";
const MAX_BODY = 64 * 1024;

/** What is answered where something is not as it should be: a status and a sentence. */
class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly headers: Readonly<Record<string, string>> = {},
  ) {
    super(message);
  }
}

/** A folder or file of the viewing. The root of a point has no entry. */
interface Found {
  readonly path: ByteString;
  readonly entry: Entry | null;
}
interface Served {
  readonly viewing: OpenedViewing;
  readonly reader: ChunkReader;
  readonly root: Uint8Array;
  readonly address: string;
}

const ASK_ANEW = { "www-authenticate": 'Basic realm="Deep Keep viewing", charset="UTF-8"' };

function basicOf(request: IncomingMessage): { name: string; password: string } {
  const given = /^Basic ([A-Za-z0-9+/=]+)$/i.exec(request.headers.authorization ?? "")?.[1];
  const text = given ? Buffer.from(given, "base64").toString("utf8") : "";
  const colon = text.indexOf(":");
  if (colon < 0) throw new Refused(401, "Sign in with the name and password of this viewing.", ASK_ANEW);
  return { name: text.slice(0, colon), password: text.slice(colon + 1) };
}

const addressOf = (request: IncomingMessage): string =>
  String(request.headers["x-forwarded-for"] ?? "")
    .split(",")[0]!
    .trim() ||
  (request.socket.remoteAddress ?? "");

const isFolder = (found: Found): boolean => found.entry === null || found.entry.node !== undefined;
const modifiedOf = (entry: Entry): string => new Date(Number(entry.mtime / 1_000_000n)).toUTCString();

/** Equal for equal content alone: made of the ids of its chunks. */
const tagOf = (entry: Entry): string =>
  `"${createHash("sha256")
    .update(entry.chunks ?? "")
    .update(entry.chunkPages ?? "")
    .update(JSON.stringify([entry.size, entry.extents]))
    .digest("base64url")
    .slice(0, 27)}"`;

function propertiesOf({ viewing }: Served, found: Found): Properties {
  const { entry, path } = found;
  const name = path === viewing.path ? viewing.sourceName : showBytes(path.slice(path.lastIndexOf("/") + 1));
  if (isFolder(found))
    return {
      resourcetype: "<d:collection/>",
      displayname: xmlText(name),
      getlastmodified: entry ? modifiedOf(entry) : viewing.moment.toUTCString(),
    };
  return {
    resourcetype: "",
    displayname: xmlText(name),
    getcontentlength: String(entry!.size ?? 0),
    getcontenttype: "application/octet-stream",
    getlastmodified: modifiedOf(entry!),
    getetag: xmlText(tagOf(entry!)),
  };
}

async function bodyOf(request: IncomingMessage): Promise<string> {
  const parts: Buffer[] = [];
  let size = 0;
  for await (const part of request as AsyncIterable<Buffer>) {
    size += part.length;
    if (size > MAX_BODY) throw new Refused(413, "The request is larger than 64 KiB.");
    parts.push(part);
  }
  return Buffer.concat(parts).toString("utf8");
}

/** Writes what comes, waiting where the other end is slow. Returns the bytes that went out. */
async function pour(response: ServerResponse, parts: AsyncIterable<Buffer | string>): Promise<number> {
  let bytes = 0;
  for await (const part of parts) {
    if (response.destroyed) return bytes;
    bytes += part.length;
    if (!response.write(part))
      await new Promise<void>((resolve) => {
        const done = () => {
          response.off("drain", done);
          response.off("close", done);
          resolve();
        };
        response.once("drain", done);
        response.once("close", done);
      });
  }
  return bytes;
}

/** The entry of a path; a name in it may also be written as people are shown it, where it is no UTF-8. */
async function findPath(reader: ChunkReader, root: Uint8Array, path: ByteString): Promise<Found | null> {
  const entry = await findEntry(reader, root, path);
  if (entry || !path.includes("\\x")) return entry && { path, entry };
  let found: Found = { path: "", entry: null };
  for (const name of path.split("/").filter(Boolean)) {
    const node = found.entry ? found.entry.node : root;
    if (!node) return null;
    let next: Entry | null = null;
    for await (const one of folderEntries(reader, node))
      if (one.name === name || byteString(showBytes(one.name)) === name) {
        next = one;
        if (one.name === name) break;
      }
    if (!next) return null;
    found = { path: `${found.path}/${next.name}`, entry: next };
  }
  return found;
}

export class ViewingDesk {
  /** Files that somebody read lately: the trail tells each once in a while, not every part of it. */
  private readonly told = new LRUCache<string, true>({ max: 20_000, ttl: 10 * 60_000 });

  /** Who was let in lately: each request shows the password again. */
  private readonly letIn = new LRUCache<string, true>({ max: 10_000, ttl: 60_000 });

  constructor(private readonly services: Services) {}

  /** Answers one request. Never throws. */
  async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    // what is read here is data of others: no browser runs any of it, whatever is in it
    response.setHeader("content-security-policy", "default-src 'none'; frame-ancestors 'none'; sandbox");
    response.setHeader("x-content-type-options", "nosniff");
    response.setHeader("cache-control", "private, no-store");
    try {
      await this.serve(request, response);
    } catch (error) {
      this.refuse(error, response);
    }
  }

  private refuse(error: unknown, response: ServerResponse): void {
    if (response.headersSent) {
      // a part went out already: what is missing must not look like an end
      response.destroy();
      return;
    }
    const problem = error instanceof Refused ? null : problemFrom(error);
    if (problem?.code === "internal.error") console.error(error);
    const status = error instanceof Refused ? error.status : (problem?.status ?? 500);
    const told = problem?.toJSON();
    const text = told ? `${told.detail} ${told.remedy}` : (error as Error).message;
    for (const [name, value] of Object.entries(error instanceof Refused ? error.headers : {}))
      response.setHeader(name, value);
    response.writeHead(status, { "content-type": "text/plain; charset=utf-8" });
    response.end(`${text}\n`);
  }

  private async serve(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { pathname } = new URL(request.url ?? "/", "http://viewing");
    const [id = "", ...rest] = pathname.startsWith(PREFIX) ? pathname.slice(PREFIX.length).split("/") : [];
    const served = await this.open(id, request);
    if (request.method === "OPTIONS") {
      response.writeHead(200, { allow: ALLOW, dav: "1", "content-length": "0" });
      response.end();
      return;
    }
    if (!["GET", "HEAD", "PROPFIND"].includes(request.method ?? ""))
      throw new Refused(405, "A viewing is read only: nothing in it can be changed.", { allow: ALLOW });
    const found = await this.find(served, rest.join("/"));
    if (request.method === "PROPFIND") return this.list(served, found, request, response);
    if (isFolder(found)) return this.page(served, found, request, response);
    return this.file(served, found.entry!, found.path, request, response);
  }

  /** The viewing for whoever asks. */
  private async open(id: string, request: IncomingMessage): Promise<Served> {
    const { name, password } = basicOf(request);
    const now = this.services.now();
    const address = addressOf(request);
    // who was let in a moment ago guesses nothing, nor does who gives no password
    const shown = hashSecret(JSON.stringify([id, name, password])).toString("hex");
    const guess = password !== "" && !this.letIn.has(shown);
    if (guess) await this.services.attempts.take("viewing", address);
    const opened = await this.services.db.withScope({ role: "system" }, async (tx) => {
      if (!/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/.test(id)) return null;
      const viewing = await viewingFor(tx, id, name, hashSecret(password), now);
      if (!viewing) return null;
      if (viewing.first) {
        await noteViewed(tx, viewing.userName, 0, 0, now);
        const who = { actor: viewing.personName, address, at: now };
        await record(tx, who, viewing.clientId, "connected to a viewing", viewing.sourceName, {
          moment: viewing.moment,
          path: showBytes(viewing.path),
        });
      }
      return { viewing, point: (await pointById(tx, viewing.pointId))! };
    });
    if (!opened)
      throw new Refused(
        401,
        "There is no such viewing for this name and password, or it was closed.",
        ASK_ANEW,
      );
    if (guess) await this.services.attempts.giveBack("viewing", address);
    this.letIn.set(shown, true);
    const { viewing, point } = opened;
    return { viewing, reader: await this.services.spaces.at(point, viewing.path), root: point.root, address };
  }

  private async find({ viewing, reader, root }: Served, href: string): Promise<Found> {
    const below = pathOf(href);
    if (below === null) throw new Refused(404, "Not found.");
    const path = `${viewing.path === "/" ? "" : viewing.path}${below === "/" ? "" : below}` || "/";
    if (path === "/") return { path, entry: null };
    const found = await findPath(reader, root, path);
    if (!found?.entry || found.entry.type === "link") throw new Refused(404, "Not found.");
    return found;
  }

  /** The address of something in the viewing; folders end with a slash. */
  private hrefOf({ viewing }: Served, found: Found): string {
    const below = viewing.path === "/" ? found.path : found.path.slice(viewing.path.length) || "/";
    const href = `${PREFIX}${viewing.id}${hrefOf(below)}`;
    return isFolder(found) && !href.endsWith("/") ? `${href}/` : href;
  }

  private async *inside(served: Served, found: Found): AsyncGenerator<Found> {
    const base = found.path === "/" ? "" : found.path;
    for await (const entry of folderEntries(served.reader, found.entry?.node ?? served.root))
      if (entry.type !== "link") yield { path: `${base}/${entry.name}`, entry };
  }

  private async list(
    served: Served,
    found: Found,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> {
    const depth = request.headers.depth ?? "infinity";
    if (depth !== "0" && depth !== "1") {
      response.writeHead(403, { "content-type": "application/xml; charset=utf-8" });
      response.end(
        `<?xml version="1.0" encoding="utf-8"?>\n<d:error xmlns:d="DAV:"><d:propfind-finite-depth/></d:error>`,
      );
      return;
    }
    let asked: Asked;
    try {
      asked = readAsked(await bodyOf(request));
    } catch (error) {
      if (error instanceof Refused) throw error;
      throw new Refused(400, `The body is no PROPFIND: ${(error as Error).message}.`);
    }
    const told = (one: Found) => responseOf(this.hrefOf(served, one), propertiesOf(served, one), asked);
    const inside = depth === "1" && isFolder(found) ? this.inside(served, found) : null;
    // read once before the answer begins, so that a depot that is away is said and not cut off
    if (inside) await countEntries(served.reader, found.entry?.node ?? served.root);
    response.writeHead(207, { "content-type": "application/xml; charset=utf-8" });
    const parts = async function* () {
      yield MULTISTATUS_BEGIN + told(found);
      if (inside) for await (const one of inside) yield told(one);
      yield MULTISTATUS_END;
    };
    await pour(response, parts());
    response.end();
  }

  /** A folder as a page, for whoever opens the address in a browser. */
  private async page(
    served: Served,
    found: Found,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> {
    await countEntries(served.reader, found.entry?.node ?? served.root);
    response.writeHead(200, { "content-type": "text/html; charset=utf-8" });
    if (request.method === "HEAD") {
      response.end();
      return;
    }
    const { viewing } = served;
    const title = xmlText(
      `${viewing.sourceName}, ${momentText(viewing.moment, viewing.zone)} (${viewing.zone})`,
    );
    const rowOf = (one: Found) =>
      `<li><a href="${xmlText(this.hrefOf(served, one))}">${propertiesOf(served, one).displayname}${isFolder(one) ? "/" : ""}</a></li>`;
    const inside = this.inside(served, found);
    const parts = async function* () {
      yield `<!doctype html><html lang="en"><meta charset="utf-8"><title>${title}</title><h1>${title}</h1><p>${xmlText(showBytes(found.path))}</p><ul>`;
      for await (const one of inside) yield rowOf(one);
      yield "</ul></html>";
    };
    await pour(response, parts());
    response.end();
  }

  private async file(
    served: Served,
    entry: Entry,
    path: ByteString,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> {
    const size = entry.size ?? 0;
    const tag = tagOf(entry);
    const headers = { etag: tag, "last-modified": modifiedOf(entry), "accept-ranges": "bytes" };
    if (request.headers["if-none-match"]?.split(",").some((one) => one.trim() === tag)) {
      response.writeHead(304, headers);
      response.end();
      return;
    }
    // a part is asked for of the content that was there before: otherwise all of it is sent
    const same = request.headers["if-range"] === undefined || request.headers["if-range"] === tag;
    const range = same ? rangeOf(request.headers.range, size) : null;
    if (range === "none")
      throw new Refused(416, "The file has no such bytes.", { "content-range": `bytes */${size}` });
    const { from, to } = range ?? { from: 0, to: size };
    const name = encodeURIComponent(showBytes(path.slice(path.lastIndexOf("/") + 1)));
    const told = {
      ...headers,
      "content-type": "application/octet-stream",
      "content-disposition": `attachment; filename*=UTF-8''${name}`,
      "content-length": String(to - from),
      ...(range ? { "content-range": `bytes ${from}-${to - 1}/${size}` } : {}),
    };
    if (request.method === "HEAD") {
      response.writeHead(range ? 206 : 200, told);
      response.end();
      return;
    }
    await this.noteReading(served, path);
    const content = fileBytes(served.reader, entry, from, to);
    // the first part before the answer begins: what cannot be read is said with its words
    const first = await content.next();
    response.writeHead(range ? 206 : 200, told);
    const parts = async function* () {
      if (!first.done) yield first.value;
      yield* content;
    };
    const bytes = await pour(response, parts());
    response.end();
    await this.services.db.withScope({ role: "system" }, (tx) =>
      noteViewed(tx, served.viewing.userName, 0, bytes, this.services.now()),
    );
  }

  /** Before a file is given away it stands in the trail. */
  private async noteReading({ viewing, address }: Served, path: ByteString): Promise<void> {
    const key = `${viewing.userName} ${path}`;
    if (this.told.has(key)) return;
    const now = this.services.now();
    await this.services.db.withScope({ role: "system" }, async (tx) => {
      const who = { actor: viewing.personName, address, at: now };
      await record(tx, who, viewing.clientId, "read a file in a viewing", viewing.sourceName, {
        path: showBytes(path),
        moment: viewing.moment,
      });
      await noteViewed(tx, viewing.userName, 1, 0, now);
    });
    this.told.set(key, true);
  }
}
