import { createHash, randomUUID } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { join } from "node:path";
import { closeServer, listenOnLoopback } from "../loopback";
import { checkSignature, signerOf } from "./signature";

/**
 * S3-compatible storage as the world has it: signatures checked, multipart, conditional put, pages of lists,
 * object lock, versions, storage classes, and faults on demand.
 */
export interface StoredObject {
  readonly bytes: Buffer;
  readonly storageClass: string;
  lockedUntil: Date | null;
}

export interface Faults {
  /** Each answer waits so long, milliseconds. */
  slowMs: number;
  /** So many of the next requests get 503 SlowDown. */
  busy: number;
  /** So many of the next requests have their connection cut after the body was read. */
  cut: number;
  /** Bytes that fit; more gets 507. */
  capacity: number;
  /** Presigned addresses are refused, as from a network that does not let them through. */
  refusePresigned: boolean;
}

export interface BucketOptions {
  readonly region?: string;
  readonly bucket?: string;
  readonly keys?: Readonly<Record<string, { secret: string; mayRead?: boolean; mayWrite?: boolean }>>;
  /** Whether the bucket locks objects: `off` refuses, `ignored` stores without a lock and says nothing. */
  readonly lock?: "on" | "off" | "ignored";
  /** A removal puts a marker over the object, as in every bucket with object lock of the large services. */
  readonly versioned?: boolean;
  /** Objects in a page of a list. */
  readonly page?: number;
  /** Where objects lie between two starts; without it they are in memory alone. */
  readonly folder?: string;
  readonly now?: () => Date;
}

class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
  ) {
    super(code);
  }
}

/** How many of the last requests are remembered. */
const SEEN = 1000;
const STATUS: Record<string, number> = { AuthorizationHeaderMalformed: 400, XAmzContentSHA256Mismatch: 400 };
/** No key ends so: a slash in a key is written as %2F, and a per cent sign as %25. */
const LOCK_ENDING = "%lock";
const xml = (body: string): string => `<?xml version="1.0" encoding="UTF-8"?>\n${body}`;
const etagOf = (bytes: Buffer): string => `"${createHash("md5").update(bytes).digest("hex")}"`;

export class S3Server {
  readonly objects = new Map<string, StoredObject>();
  readonly faults: Faults = {
    slowMs: 0,
    busy: 0,
    cut: 0,
    capacity: Number.POSITIVE_INFINITY,
    refusePresigned: false,
  };
  /** Each request: its method, whether it came by a presigned address, and its path. */
  readonly seen: string[] = [];
  requests = 0;
  readonly uploads = new Map<
    string,
    { key: string; parts: Map<number, Buffer>; lockedUntil: Date | null; storageClass: string }
  >();
  /** In a bucket with versions: what lies below markers, and the markers (null). */
  readonly hidden: { readonly key: string; readonly id: string; readonly object: StoredObject | null }[] = [];
  private readonly server: Server;
  private readonly region: string;
  private readonly bucket: string;
  private readonly page: number;
  private readonly now: () => Date;

  constructor(private readonly options: BucketOptions = {}) {
    this.region = options.region ?? "north-harbour";
    this.bucket = options.bucket ?? "keep";
    this.page = options.page ?? 1000;
    this.now = options.now ?? (() => new Date());
    this.load();
    this.server = createServer((request, response) => void this.answer(request, response));
  }

  private load(): void {
    const { folder } = this.options;
    if (!folder) return;
    mkdirSync(folder, { recursive: true, mode: 0o700 });
    for (const name of readdirSync(folder)) {
      if (name.endsWith(LOCK_ENDING)) continue;
      const lock = join(folder, name + LOCK_ENDING);
      this.objects.set(decodeURIComponent(name), {
        bytes: readFileSync(join(folder, name)),
        storageClass: "STANDARD",
        lockedUntil: existsSync(lock) ? new Date(readFileSync(lock, "utf8")) : null,
      });
    }
  }
  private fileOf = (key: string): string => join(this.options.folder!, encodeURIComponent(key));

  /** A lock is kept beside its object, so that the next start knows it too. */
  private keepLock(key: string, { lockedUntil }: Pick<StoredObject, "lockedUntil">): void {
    if (!this.options.folder) return;
    const lock = this.fileOf(key) + LOCK_ENDING;
    if (lockedUntil) writeFileSync(lock, lockedUntil.toISOString());
    else rmSync(lock, { force: true });
  }

  /** Listens on loopback; with port 0 on a free one. Returns its origin. */
  listen = (port = 0): Promise<string> => listenOnLoopback(this.server, port);
  close = (): Promise<void> => closeServer(this.server);

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    this.requests += 1;
    const url = new URL(request.url ?? "/", `http://${request.headers.host}`);
    const presigned = url.searchParams.has("X-Amz-Signature");
    this.seen.push(`${request.method} ${presigned ? "presigned" : "signed"} ${url.pathname}`);
    if (this.seen.length > SEEN) this.seen.shift();
    try {
      const body = await bodyOf(request);
      if (this.faults.slowMs) await new Promise((next) => setTimeout(next, this.faults.slowMs));
      if (this.faults.cut > 0) {
        this.faults.cut -= 1;
        request.socket.destroy();
        return;
      }
      if (this.faults.busy > 0) {
        this.faults.busy -= 1;
        throw new Refusal(503, "SlowDown");
      }
      if (presigned && this.faults.refusePresigned) throw new Refusal(403, "AccessDenied");
      const keys = this.options.keys ?? { "deep-keep": { secret: "harbour" } };
      const wrong = checkSignature(request, url, body, this.region, (id) => keys[id]?.secret, this.now());
      if (wrong) throw new Refusal(STATUS[wrong] ?? 403, wrong);
      const accessKeyId = signerOf(request, url)!;
      const rights = { mayRead: true, mayWrite: true, ...keys[accessKeyId] };
      const [, bucket, ...rest] = url.pathname.split("/");
      if (bucket !== this.bucket) throw new Refusal(404, "NoSuchBucket");
      const key = rest.map(decodeURIComponent).join("/");
      const reads = request.method === "GET" || request.method === "HEAD";
      if (reads ? !rights.mayRead : !rights.mayWrite) throw new Refusal(403, "AccessDenied");
      this.serve(request, response, url, key, body);
    } catch (error) {
      const { status, code } = error instanceof Refusal ? error : new Refusal(500, "InternalError");
      if (!(error instanceof Refusal)) console.error(error);
      const more = code === "AuthorizationHeaderMalformed" ? `<Region>${this.region}</Region>` : "";
      response.writeHead(status, { "content-type": "application/xml" });
      response.end(
        request.method === "HEAD"
          ? undefined
          : xml(`<Error><Code>${code}</Code><Message>${code}</Message>${more}</Error>`),
      );
    }
  }

  private serve(
    request: IncomingMessage,
    response: ServerResponse,
    url: URL,
    key: string,
    body: Buffer,
  ): unknown {
    const ask = url.searchParams;
    const uploadId = ask.get("uploadId");
    const method = request.method!;
    if (method === "GET" && key === "") {
      if (ask.has("object-lock")) return this.describeLock(response);
      if (ask.has("uploads")) return this.listUploads(response, ask);
      if (ask.has("versions")) return this.listVersions(response, ask);
      return this.list(response, ask);
    }
    if (this.options.lock === "off" && request.headers["x-amz-object-lock-mode"])
      throw new Refusal(400, "InvalidRequest");
    if (method === "POST" && ask.has("uploads")) {
      const id = randomUUID();
      this.uploads.set(id, { key, parts: new Map(), ...this.wishesOf(request) });
      return send(
        response,
        `<InitiateMultipartUploadResult><UploadId>${id}</UploadId></InitiateMultipartUploadResult>`,
      );
    }
    if (uploadId) {
      const upload = this.uploads.get(uploadId);
      if (!upload || upload.key !== key) throw new Refusal(404, "NoSuchUpload");
      if (method === "PUT") {
        this.roomFor(body.length);
        upload.parts.set(Number(ask.get("partNumber")), body);
        return response.writeHead(200, { etag: etagOf(body) }).end();
      }
      this.uploads.delete(uploadId);
      if (method === "DELETE") {
        return response.writeHead(204).end();
      }
      const bytes = Buffer.concat([...upload.parts].sort(([a], [b]) => a - b).map(([, part]) => part));
      this.store(request, key, bytes, upload);
      return send(
        response,
        `<CompleteMultipartUploadResult><ETag>${etagOf(bytes)}</ETag></CompleteMultipartUploadResult>`,
      );
    }
    if (method === "PUT" && ask.has("retention") && (this.options.lock ?? "on") !== "on")
      throw new Refusal(400, "InvalidRequest");
    if (method === "PUT" && ask.has("retention")) return this.retain(response, key, body);
    if (method === "PUT") {
      this.roomFor(body.length);
      this.store(request, key, body, this.wishesOf(request));
      return response.writeHead(200, { etag: etagOf(body) }).end();
    }
    const object = this.objects.get(key);
    if (method === "DELETE" && ask.has("versionId"))
      return this.removeVersion(response, key, ask.get("versionId")!);
    if (method === "DELETE" && this.options.versioned) {
      const id = randomUUID();
      if (object) this.hidden.push({ key, id: randomUUID(), object });
      this.hidden.push({ key, id, object: null });
      this.objects.delete(key);
      return response.writeHead(204, { "x-amz-delete-marker": "true", "x-amz-version-id": id }).end();
    }
    if (method === "DELETE") {
      if (object?.lockedUntil && object.lockedUntil > this.now()) throw new Refusal(403, "AccessDenied");
      if (this.options.folder)
        for (const ending of ["", LOCK_ENDING]) rmSync(this.fileOf(key) + ending, { force: true });
      this.objects.delete(key);
      return response.writeHead(204).end();
    }
    if (!object) throw new Refusal(404, "NoSuchKey");
    return this.give(request, response, object);
  }

  private removeVersion(response: ServerResponse, key: string, id: string): unknown {
    const at = this.hidden.findIndex((one) => one.key === key && one.id === id);
    const object = this.hidden[at]?.object;
    if (object?.lockedUntil && object.lockedUntil > this.now()) throw new Refusal(403, "AccessDenied");
    if (at >= 0) this.hidden.splice(at, 1);
    // without a marker above it the newest version is in sight again
    const left = this.hidden.filter((one) => one.key === key);
    const newest = left.at(-1);
    if (newest?.object && !left.some((one) => one.object === null)) {
      this.hidden.splice(this.hidden.indexOf(newest), 1);
      this.objects.set(key, newest.object);
    }
    return response.writeHead(204).end();
  }

  private describeLock(response: ServerResponse): void {
    if ((this.options.lock ?? "on") === "on")
      send(
        response,
        "<ObjectLockConfiguration><ObjectLockEnabled>Enabled</ObjectLockEnabled></ObjectLockConfiguration>",
      );
    else throw new Refusal(404, "ObjectLockConfigurationNotFoundError");
  }

  private listUploads(response: ServerResponse, ask: URLSearchParams): void {
    const prefix = ask.get("prefix") ?? "";
    const rows = [...this.uploads]
      .filter(([, { key }]) => key.startsWith(prefix))
      .map(([id, { key }]) => `<Upload><Key>${key}</Key><UploadId>${id}</UploadId></Upload>`);
    send(
      response,
      `<ListMultipartUploadsResult><IsTruncated>false</IsTruncated>${rows.join("")}</ListMultipartUploadsResult>`,
    );
  }

  private listVersions(response: ServerResponse, ask: URLSearchParams): void {
    const prefix = ask.get("prefix") ?? "";
    const rows = this.hidden
      .filter(({ key }) => key.startsWith(prefix))
      .map(({ key, id, object }) => {
        const kind = object ? "Version" : "DeleteMarker";
        return `<${kind}><Key>${key}</Key><VersionId>${id}</VersionId></${kind}>`;
      });
    send(
      response,
      `<ListVersionsResult><IsTruncated>false</IsTruncated>${rows.join("")}</ListVersionsResult>`,
    );
  }

  private wishesOf(request: IncomingMessage): { lockedUntil: Date | null; storageClass: string } {
    const until =
      this.options.lock === "ignored" ? null : request.headers["x-amz-object-lock-retain-until-date"];
    return {
      lockedUntil: until ? new Date(String(until)) : null,
      storageClass: String(request.headers["x-amz-storage-class"] ?? "STANDARD"),
    };
  }

  private give(
    request: IncomingMessage,
    response: ServerResponse,
    { bytes, lockedUntil }: StoredObject,
  ): void {
    const range = /^bytes=(\d+)-(\d+)$/.exec(request.headers.range ?? "");
    if (range && Number(range[1]) >= bytes.length) throw new Refusal(416, "InvalidRange");
    const part = range ? bytes.subarray(Number(range[1]), Number(range[2]) + 1) : bytes;
    response.writeHead(range ? 206 : 200, {
      "content-length": part.length,
      etag: etagOf(bytes),
      ...(lockedUntil && {
        "x-amz-object-lock-mode": "COMPLIANCE",
        "x-amz-object-lock-retain-until-date": lockedUntil.toISOString(),
      }),
    });
    response.end(request.method === "HEAD" ? undefined : part);
  }

  /** A retention in compliance mode grows; nobody shortens it. */
  private retain(response: ServerResponse, key: string, body: Buffer): void {
    const object = this.objects.get(key);
    if (!object) throw new Refusal(404, "NoSuchKey");
    const text = /<RetainUntilDate>([^<]+)<\/RetainUntilDate>/.exec(body.toString("utf8"))?.[1];
    const until = new Date(text ?? "");
    if (Number.isNaN(until.getTime())) throw new Refusal(400, "MalformedXML");
    if (object.lockedUntil && object.lockedUntil > until) throw new Refusal(403, "AccessDenied");
    object.lockedUntil = until;
    this.keepLock(key, object);
    response.writeHead(200).end();
  }

  private roomFor(bytes: number): void {
    let used = bytes;
    for (const object of this.objects.values()) used += object.bytes.length;
    for (const upload of this.uploads.values()) for (const part of upload.parts.values()) used += part.length;
    if (used > this.faults.capacity) throw new Refusal(507, "InsufficientStorage");
  }

  private store(
    request: IncomingMessage,
    key: string,
    bytes: Buffer,
    wishes: { lockedUntil: Date | null; storageClass: string },
  ): void {
    if (request.headers["if-none-match"] === "*" && this.objects.has(key))
      throw new Refusal(412, "PreconditionFailed");
    const there = this.objects.get(key);
    if (there?.lockedUntil && there.lockedUntil > this.now()) throw new Refusal(403, "AccessDenied");
    if (this.options.folder) writeFileSync(this.fileOf(key), bytes);
    this.keepLock(key, wishes);
    this.objects.set(key, { bytes, ...wishes });
  }

  private list(response: ServerResponse, ask: URLSearchParams): void {
    const prefix = ask.get("prefix") ?? "";
    const after = ask.get("continuation-token") ?? "";
    const keys = [...this.objects.keys()].filter((key) => key.startsWith(prefix) && key > after).sort();
    const page = keys.slice(0, this.page);
    const more = keys.length > page.length;
    send(
      response,
      `<ListBucketResult><IsTruncated>${more}</IsTruncated>${
        more ? `<NextContinuationToken>${page.at(-1)}</NextContinuationToken>` : ""
      }${page
        .map(
          (key) =>
            `<Contents><Key>${key}</Key><Size>${this.objects.get(key)!.bytes.length}</Size></Contents>`,
        )
        .join("")}</ListBucketResult>`,
    );
  }
}

function send(response: ServerResponse, body: string): void {
  response.writeHead(200, { "content-type": "application/xml" });
  response.end(xml(body));
}

async function bodyOf(request: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of request) parts.push(part as Buffer);
  return Buffer.concat(parts);
}
