import { Readable } from "node:stream";
import { XMLParser } from "fast-xml-parser";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import type { ByteString } from "@/store/tree/tree";
import { type Answered, HttpTransport, PATIENCE, type Patience } from "../transport";

/** What a library has at a path, by WebDAV (RFC 4918). */
export interface LibraryItem {
  readonly name: ByteString;
  readonly folder: boolean;
  /** Changes with the content (RFC 9110, section 8.8.3); null where the server tells none. */
  readonly etag: string | null;
  /** Bytes, where the server tells it. */
  readonly size: number | null;
  /** Milliseconds since 1970, where the server tells it. */
  readonly modified: number | null;
}

/** How a library is reached. */
export interface LibraryPlace {
  /** An `http://` or `https://` address; libraries are folders below it. */
  readonly address: string;
  readonly otherHosts?: readonly string[];
  /** The header that signs in; `renew`: after it was refused. Throws CodedErrors of the `source.` codes. */
  readonly signIn: (renew: boolean) => Promise<string>;
}

/** A file of a library that is read. */
export interface LibraryFile {
  readonly etag: string | null;
  readonly stream: Readable;
  /** Rejects where the content is not whole. */
  readonly ended: Promise<void>;
}

/** What has to hold of what is there before it is written (RFC 9110, section 13). */
export type Precondition = { readonly nothing: true } | { readonly etag: string };

const PROPFIND =
  '<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getetag/><getcontentlength/><getlastmodified/></prop></propfind>';
const PARSER = new XMLParser({
  removeNSPrefix: true,
  parseTagValue: false,
  isArray: (name) => name === "response" || name === "propstat",
});
/** The parts of an answer that are read (RFC 4918, section 14); what a server leaves out is missing. */
const multistatus = z.object({
  multistatus: z.union([
    z.literal(""),
    z.object({
      response: z
        .array(
          z.object({
            href: z.string(),
            status: z.string().optional(),
            propstat: z
              .array(z.object({ prop: z.union([z.literal(""), z.record(z.string(), z.unknown())]) }))
              .optional(),
          }),
        )
        .optional(),
    }),
  ]),
});

/** The responses of a multistatus answer; null where it is none. */
function responsesIn(body: Buffer) {
  const text = body.toString("utf8");
  // entities of a document's own could expand without end (RFC 4918, section 20.6)
  if (/<!DOCTYPE/i.test(text)) return null;
  try {
    const { multistatus: found } = multistatus.parse(PARSER.parse(text));
    return found === "" ? [] : (found.response ?? []);
  } catch {
    return null;
  }
}

function foundIn({ href, propstat = [] }: NonNullable<ReturnType<typeof responsesIn>>[number]): {
  readonly href: string;
  readonly item: Omit<LibraryItem, "name">;
} {
  // what the server does not have is listed too, empty
  const told = (name: string) =>
    propstat
      .map(({ prop }) => (prop === "" ? "" : prop[name]))
      .find((value) => value !== undefined && value !== "");
  const text = (name: string): string => {
    const value = told(name);
    return typeof value === "string" ? value.trim() : "";
  };
  const type = told("resourcetype");
  const modified = Date.parse(text("getlastmodified"));
  const size = /^\d+$/.test(text("getcontentlength")) ? Number(text("getcontentlength")) : null;
  return {
    href,
    item: {
      folder: typeof type === "object" && type !== null && "collection" in type,
      etag: text("getetag") || null,
      size: size !== null && Number.isSafeInteger(size) ? size : null,
      modified: Number.isNaN(modified) ? null : modified,
    },
  };
}

/** So often a file whose content broke off is continued. */
const CONTINUED = 5;
/** Characters of a path segment that need no encoding (RFC 3986, section 3.3). */
const PLAIN = /[A-Za-z0-9\-._~!$&'()*+,;=:@]/;

/** A path below the address, as part of a URL; names are bytes. */
export const encodedPath = (path: ByteString): string =>
  path
    .split("/")
    .map((name) =>
      [...name]
        .map((one) =>
          PLAIN.test(one) ? one : `%${one.charCodeAt(0).toString(16).toUpperCase().padStart(2, "0")}`,
        )
        .join(""),
    )
    .join("/");

/** The bytes of a URL's path; what is no escape stays as it is. */
export const decodedPath = (path: string): ByteString =>
  Buffer.from(path, "utf8")
    .toString("latin1")
    .replaceAll(/%([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));

/** Errors are CodedErrors of the `source.`, `file.`, `folder.` and `restore.` codes. Paths begin with a slash. */
export class LibraryClient {
  private readonly transport: HttpTransport;
  private readonly base: string;

  constructor(
    private readonly place: LibraryPlace,
    patience: Patience = PATIENCE,
  ) {
    this.base = place.address.replace(/\/+$/, "");
    this.transport = new HttpTransport(place.address, place.otherHosts ?? [], patience);
  }

  /** What is in a folder. `problem` is told of names that no file can have. Throws `folder.missing`. */
  async list(path: ByteString, problem: (name: string) => void = () => {}): Promise<LibraryItem[]> {
    const answers = await this.ask(path, true, "1");
    if (!answers) throw new CodedError("folder.missing", path);
    const url = this.urlOf(path, true);
    const own = decodedPath(new URL(url).pathname).replace(/\/+$/, "");
    const items = new Map<ByteString, LibraryItem>();
    for (const { href, item } of answers) {
      if (!URL.canParse(href, url)) {
        problem(href);
        continue;
      }
      const raw = new URL(href, url).pathname.replace(/\/+$/, "");
      const at = decodedPath(raw);
      if (at === own || at === "") continue;
      const name = decodedPath(raw.slice(raw.lastIndexOf("/") + 1));
      // an encoded slash is part of no name that a file can have; and nothing but what lies in the folder is taken
      if (at !== `${own}/${name}` || !isName(name)) problem(at);
      else if (!items.has(name)) items.set(name, { ...item, name });
    }
    return [...items.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
  }

  /** What is at a path; null where nothing is. */
  async look(path: ByteString): Promise<LibraryItem | null> {
    const answers = await this.ask(path, false, "0");
    const first = answers?.[0];
    return first ? { ...first.item, name: path.slice(path.lastIndexOf("/") + 1) } : null;
  }

  /** Begins to read a file. A content that breaks off is continued where the server can. Throws `file.vanished`. */
  async open(path: ByteString): Promise<LibraryFile> {
    const url = this.urlOf(path, false);
    const first = await this.begin(url, {});
    const etag = first.headers.get("etag");
    if (first.status === 404 || first.status === 410) throw new CodedError("file.vanished", path);
    if (first.status !== 200) {
      await first.content.return();
      if (first.status === 403)
        throw new CodedError("file.unreadable", `${new URL(url).host} does not allow reading it (403)`);
      this.refuse(url, first.status);
      throw new CodedError("source.unreadable", `${new URL(url).host} answered ${first.status}`);
    }
    let settle: { resolve: () => void; reject: (error: unknown) => void };
    const ended = new Promise<void>((resolve, reject) => {
      settle = { resolve, reject };
    });
    ended.catch(() => {});
    const self = this;
    async function* content(): AsyncGenerator<Buffer> {
      let passed = 0;
      let streamed = first;
      for (let tries = 0; ; tries += 1) {
        try {
          for await (const part of streamed.content) {
            passed += part.length;
            yield part;
          }
          settle.resolve();
          return;
        } catch (error) {
          // a strong ETag says that what comes now continues what came before (RFC 9110, section 13.1.5)
          if (tries >= CONTINUED || !etag || etag.startsWith("W/")) {
            settle.reject(new CodedError("file.unreadable", (error as Error).message));
            return;
          }
          try {
            streamed = await self.begin(url, { range: `bytes=${passed}-`, "if-range": etag });
            const [, from] = /^bytes (\d+)-/.exec(streamed.headers.get("content-range") ?? "") ?? [];
            if (streamed.status !== 206 || Number(from) !== passed) {
              await streamed.content.return();
              throw new CodedError("file.unreadable", "it was changed while it was read");
            }
          } catch (again) {
            settle.reject(again);
            return;
          }
        }
      }
    }
    return { etag, stream: Readable.from(content(), { objectMode: false }), ended };
  }

  /**
   * Writes a file as a whole. `exists`: the precondition does not hold. Throws `restore.message-rejected` for what concerns
   * this file alone.
   */
  async put(
    path: ByteString,
    size: number,
    content: () => AsyncIterable<Uint8Array>,
    precondition: Precondition,
  ): Promise<"stored" | "exists"> {
    const url = this.urlOf(path, false);
    const headers = {
      "content-type": "application/octet-stream",
      "content-length": String(size),
      ...("etag" in precondition ? { "if-match": precondition.etag } : { "if-none-match": "*" }),
    };
    const answer = await this.signedIn((authorization) =>
      this.transport.ask(url, {
        method: "PUT",
        headers: { ...headers, authorization },
        ...(size === 0 ? { body: "" } : { content }),
        again: "refused",
      }),
    );
    if (answer.status === 412) return "exists";
    this.refuseItem(url, answer);
    return "stored";
  }

  /** Creates a folder. `exists`: something is there. */
  async makeFolder(path: ByteString): Promise<"created" | "exists"> {
    const url = this.urlOf(path, true);
    const answer = await this.signedIn((authorization) =>
      this.transport.ask(url, { method: "MKCOL", headers: { authorization }, again: "refused" }),
    );
    if (answer.status === 405) return "exists";
    this.refuseItem(url, answer);
    return "created";
  }

  private urlOf(path: ByteString, folder: boolean): string {
    const clean = path.replace(/\/+$/, "");
    return `${this.base}${encodedPath(clean)}${folder ? "/" : ""}`;
  }

  private async ask(path: ByteString, folder: boolean, depth: "0" | "1") {
    const url = this.urlOf(path, folder);
    const { status, body } = await this.signedIn((authorization) =>
      this.transport.ask(url, {
        method: "PROPFIND",
        headers: { authorization, depth, "content-type": "application/xml; charset=utf-8" },
        body: PROPFIND,
      }),
    );
    if (status === 404 || status === 410) return null;
    this.refuse(url, status);
    const responses = status === 207 ? responsesIn(body) : null;
    if (!responses)
      throw new CodedError(
        "source.unreadable",
        `${new URL(url).host} does not answer as a WebDAV server: PROPFIND was answered with ${status}`,
      );
    return responses.filter(({ status: own }) => !/ (404|410) /.test(`${own} `)).map(foundIn);
  }

  private begin(url: string, headers: Readonly<Record<string, string>>) {
    return this.signedIn(async (authorization) => {
      const streamed = await this.transport.stream(url, { ...headers, authorization });
      if (streamed.status === 401) await streamed.content.return();
      return streamed;
    });
  }

  /** Asks as the connection; an expired token is requested again once. */
  private async signedIn<T extends { readonly status: number }>(ask: (authorization: string) => Promise<T>) {
    const answer = await ask(await this.place.signIn(false));
    return answer.status === 401 ? ask(await this.place.signIn(true)) : answer;
  }

  /** What an answer to a change says of the one item. */
  private refuseItem(url: string, { status, body }: Answered): void {
    if (status < 300) return;
    if (status === 507)
      throw new CodedError("restore.no-room", "the library says that its quota is used up (507)");
    if ([400, 403, 409, 413, 414, 415, 422, 423].includes(status))
      throw new CodedError("restore.message-rejected", `${status} ${reasonOf(body)}`.trim());
    this.refuse(url, status);
    throw new CodedError("source.unreadable", `${new URL(url).host} answered ${status}`);
  }

  private refuse(url: string, status: number): void {
    if (status < 400) return;
    const { host } = new URL(url);
    if (status === 401) throw new CodedError("source.signin-refused", `${host} refused the sign-in (401)`);
    if (status === 403) throw new CodedError("source.not-allowed", `${host} does not allow it (403)`);
    if (status === 408 || status === 425 || status === 429 || status >= 500)
      throw new CodedError("source.not-reached", `${host} answered ${status}`);
    throw new CodedError("source.unreadable", `${host} answered ${status}`);
  }
}

/** A name that a file can have. */
const isName = (name: ByteString): boolean =>
  name !== "" &&
  name !== "." &&
  name !== ".." &&
  !name.includes("/") &&
  !name.includes("\0") &&
  name.length <= 255;

/** The first words of an answer, for a log. */
const reasonOf = (body: Buffer): string =>
  body
    .toString("utf8", 0, 2000)
    .replaceAll(/<[^>]*>|[\s\p{Cc}]+/gu, " ")
    .replaceAll(/ +/g, " ")
    .trim()
    .slice(0, 200);
