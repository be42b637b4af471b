import {
  AbortMultipartUploadCommand,
  CompleteMultipartUploadCommand,
  CreateMultipartUploadCommand,
  DeleteObjectCommand,
  GetObjectCommand,
  GetObjectLockConfigurationCommand,
  HeadObjectCommand,
  ListMultipartUploadsCommand,
  type ListMultipartUploadsCommandOutput,
  ListObjectsV2Command,
  ListObjectVersionsCommand,
  type ListObjectVersionsCommandOutput,
  type ObjectLockMode,
  PutObjectCommand,
  PutObjectRetentionCommand,
  S3Client,
  type S3ServiceException,
  type StorageClass,
  UploadPartCommand,
} from "@aws-sdk/client-s3";
import { getSignedUrl } from "@aws-sdk/s3-request-presigner";
import type { BucketPlace } from "@/core/bucket";
import { type Code, CodedError } from "@/core/codes";
import type { Leave, LeavingPlace, LockSupport, Unfinished } from "./place";
import { allowedAgents, refuseForbidden } from "./reach";

// the lock file holds a version that runs here; whoever starts a console need not read of later ones
process.env.AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED ??= "true";

/** What is put at once; more is put in parts of this size, so that no whole pack is held. S3 wants 5 MiB at least. */
const PART_BYTES = 8 * 1024 * 1024;

/** What servers of this protocol say, in our words. */
const CODE_OF_ERROR: Readonly<Record<string, Code>> = {
  NoSuchKey: "not-found",
  NotFound: "not-found",
  NoSuchBucket: "depot.no-bucket",
  PreconditionFailed: "request.conflict",
  ConditionalRequestConflict: "request.conflict",
  InvalidAccessKeyId: "depot.signin-refused",
  SignatureDoesNotMatch: "depot.signin-refused",
  AccessDenied: "depot.not-allowed",
  PermanentRedirect: "depot.other-region",
  AuthorizationHeaderMalformed: "depot.other-region",
  RequestTimeTooSkewed: "depot.clock-wrong",
  QuotaExceeded: "depot.full",
  InsufficientStorage: "depot.full",
  EntityTooLarge: "depot.full",
};
const CODE_OF_STATUS: Readonly<Record<number, Code>> = {
  301: "depot.other-region",
  403: "depot.not-allowed",
  404: "not-found",
  412: "request.conflict",
  507: "depot.full",
};

/** What servers answer that know no lock, or not in this bucket. */
const NO_LOCK = new Set([
  "InvalidRequest",
  "InvalidArgument",
  "NotImplemented",
  "MethodNotAllowed",
  "ObjectLockConfigurationNotFoundError",
  "InvalidBucketState",
]);
const lockless = (error: unknown): boolean =>
  NO_LOCK.has((error as Error).name) || (error as S3ServiceException).$metadata?.httpStatusCode === 501;

/** A server's refusal as an error of ours. `locking`: a lock was asked for, which may be what it refuses. */
function coded(error: unknown, name: string, locking = false): Error {
  if (error instanceof CodedError) return error;
  if (locking && lockless(error))
    return new CodedError("depot.lock-refused", `${name}: ${(error as Error).message}`, { cause: error });
  const { name: kind, message, $metadata } = error as S3ServiceException;
  const code = CODE_OF_ERROR[kind] ?? CODE_OF_STATUS[$metadata?.httpStatusCode ?? 0] ?? "depot.not-reached";
  const region = code === "depot.other-region" ? regionOf(error) : null;
  const where = region ? `its server says ${region}` : `${name}: ${message || kind}`;
  return new CodedError(code, where, { cause: error });
}

/** The region that a server names beside its refusal: most do, in the body or in a header. */
function regionOf(error: unknown): string | null {
  const { Region, $response } = error as { Region?: string; $response?: { headers: Record<string, string> } };
  return Region ?? $response?.headers["x-amz-bucket-region"] ?? null;
}

/** How long a leave to write or read one object lasts. */
const LEAVE_SECONDS = 15 * 60;

const lockOf = (lockedUntil: Date | undefined) =>
  lockedUntil
    ? { ObjectLockMode: "COMPLIANCE" as ObjectLockMode, ObjectLockRetainUntilDate: lockedUntil }
    : {};

const SAFE_NAME = /^[A-Za-z0-9.-]+(\/[A-Za-z0-9.-]+)*$/;

/** A bucket of S3-compatible storage as a place. Objects are never overwritten: each is put on condition that it is new. */
export class S3Bucket implements LeavingPlace {
  private readonly client: S3Client;
  /** An object was seen with the lock that was asked for. */
  private lockSeen = false;

  constructor(
    private readonly settings: BucketPlace,
    secretAccessKey: string,
  ) {
    refuseForbidden(new URL(settings.endpoint).hostname);
    this.client = new S3Client({
      requestHandler: allowedAgents(),
      endpoint: settings.endpoint,
      region: settings.region,
      forcePathStyle: settings.pathStyle,
      credentials: { accessKeyId: settings.accessKeyId, secretAccessKey },
      // not every server knows the newer check sums; every object of ours is sealed and checks itself
      requestChecksumCalculation: "WHEN_REQUIRED",
      responseChecksumValidation: "WHEN_REQUIRED",
      maxAttempts: 4,
    });
  }

  private key(name: string): { Bucket: string; Key: string } {
    if (!SAFE_NAME.test(name) || name.split("/").some((part) => part === "." || part === ".."))
      throw new CodedError("request.invalid", `${JSON.stringify(name)} is no name of an object`);
    return { Bucket: this.settings.bucket, Key: `${this.settings.prefix}${name}` };
  }

  private get storage(): { StorageClass?: StorageClass } {
    return this.settings.storageClass ? { StorageClass: this.settings.storageClass as StorageClass } : {};
  }

  async put(
    name: string,
    content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
    lockedUntil?: Date,
  ): Promise<number> {
    const key = this.key(name);
    const lock = lockOf(lockedUntil);
    try {
      let upload: Upload | null = null;
      let total = 0;
      try {
        for await (const { part, last } of inParts(content, PART_BYTES)) {
          total += part.length;
          if (!upload && last) {
            await this.client.send(
              new PutObjectCommand({ ...key, ...this.storage, ...lock, Body: part, IfNoneMatch: "*" }),
            );
            if (lockedUntil) await this.seeLock(name, lockedUntil);
            return total;
          }
          upload ??= await this.beginUpload(key, lock);
          const { ETag } = await this.client.send(
            new UploadPartCommand({
              ...key,
              UploadId: upload.id,
              PartNumber: upload.parts.length + 1,
              Body: part,
            }),
          );
          upload.parts.push({ ETag, PartNumber: upload.parts.length + 1 });
        }
        await this.client.send(
          new CompleteMultipartUploadCommand({
            ...key,
            UploadId: upload!.id,
            MultipartUpload: { Parts: upload!.parts },
            IfNoneMatch: "*",
          }),
        );
        if (lockedUntil) await this.seeLock(name, lockedUntil);
        return total;
      } catch (error) {
        if (upload)
          await this.client
            .send(new AbortMultipartUploadCommand({ ...key, UploadId: upload.id }))
            .catch(() => {});
        throw error;
      }
    } catch (error) {
      throw coded(error, name, lockedUntil !== undefined);
    }
  }

  /**
   * Looks, once, whether an object has the lock that it was put with: a server that does not know locks may ignore the wish
   * and say nothing. What is not locked is removed again. Throws `depot.lock-refused`.
   */
  private async seeLock(name: string, lockedUntil: Date): Promise<void> {
    if (this.lockSeen) return;
    const head = await this.client.send(new HeadObjectCommand(this.key(name)));
    // a second is the finest that the protocol has
    if ((head.ObjectLockRetainUntilDate?.getTime() ?? 0) + 1000 <= lockedUntil.getTime()) {
      await this.remove(name).catch(() => {});
      throw new CodedError("depot.lock-refused", `${name} was stored without the lock that was asked for`);
    }
    this.lockSeen = true;
  }

  private async beginUpload(key: { Bucket: string; Key: string }, lock: object): Promise<Upload> {
    const { UploadId } = await this.client.send(
      new CreateMultipartUploadCommand({ ...key, ...this.storage, ...lock }),
    );
    return { id: UploadId!, parts: [] };
  }

  async leaveToPut(name: string, lockedUntil?: Date): Promise<Leave> {
    const headers: Record<string, string> = { "if-none-match": "*" };
    if (this.settings.storageClass) headers["x-amz-storage-class"] = this.settings.storageClass;
    if (lockedUntil) {
      headers["x-amz-object-lock-mode"] = "COMPLIANCE";
      headers["x-amz-object-lock-retain-until-date"] = lockedUntil.toISOString();
    }
    const command = new PutObjectCommand({
      ...this.key(name),
      ...this.storage,
      ...lockOf(lockedUntil),
      IfNoneMatch: "*",
    });
    const url = await getSignedUrl(this.client, command, {
      expiresIn: LEAVE_SECONDS,
      unhoistableHeaders: new Set(Object.keys(headers)),
    });
    return { url, headers };
  }

  async leaveToRead(name: string): Promise<Leave> {
    const url = await getSignedUrl(this.client, new GetObjectCommand(this.key(name)), {
      expiresIn: LEAVE_SECONDS,
    });
    return { url, headers: {} };
  }

  async size(name: string): Promise<number> {
    const head = await this.client
      .send(new HeadObjectCommand(this.key(name)))
      .catch((error) => Promise.reject(coded(error, name)));
    return head.ContentLength ?? 0;
  }

  async read(name: string, offset: number, length: number): Promise<Buffer> {
    if (length === 0) return Buffer.alloc(0);
    try {
      const { Body } = await this.client.send(
        new GetObjectCommand({ ...this.key(name), Range: `bytes=${offset}-${offset + length - 1}` }),
      );
      return Buffer.from(await Body!.transformToByteArray());
    } catch (error) {
      // nothing of the object lies in that range
      if ((error as S3ServiceException).$metadata?.httpStatusCode === 416) return Buffer.alloc(0);
      throw coded(error, name);
    }
  }

  async *list(prefix: string): AsyncIterable<string> {
    const before = this.settings.prefix.length;
    let token: string | undefined;
    do {
      const page = await this.client
        .send(
          new ListObjectsV2Command({
            Bucket: this.settings.bucket,
            Prefix: `${this.settings.prefix}${prefix}`,
            ContinuationToken: token,
          }),
        )
        .catch((error) => Promise.reject(coded(error, prefix)));
      for (const object of page.Contents ?? []) yield object.Key!.slice(before);
      token = page.NextContinuationToken;
    } while (token);
  }

  async extendLock(name: string, until: Date): Promise<void> {
    await this.client
      .send(
        new PutObjectRetentionCommand({
          ...this.key(name),
          Retention: { Mode: "COMPLIANCE", RetainUntilDate: until },
        }),
      )
      .catch((error) => Promise.reject(coded(error, name, true)));
  }

  async lockSupport(): Promise<LockSupport> {
    try {
      const { ObjectLockConfiguration } = await this.client.send(
        new GetObjectLockConfigurationCommand({ Bucket: this.settings.bucket }),
      );
      return ObjectLockConfiguration?.ObjectLockEnabled === "Enabled"
        ? { state: "available", said: null }
        : { state: "missing", said: "object lock is off for the bucket" };
    } catch (error) {
      const { name, message } = error as Error;
      if (lockless(error) || (error as S3ServiceException).$metadata?.httpStatusCode === 404)
        return { state: "missing", said: message || name };
      const refused = coded(error, this.settings.bucket);
      if ((refused as CodedError).code === "depot.not-allowed")
        return { state: "unknown", said: "the key may not ask whether the bucket locks objects" };
      throw refused;
    }
  }

  /** Uploads in parts that nobody completed; none where a server does not list them. */
  async *listUnfinished(prefix: string): AsyncIterable<Unfinished> {
    const before = this.settings.prefix.length;
    let markers: { KeyMarker?: string; UploadIdMarker?: string } | null = {};
    while (markers) {
      const page: ListMultipartUploadsCommandOutput | null = await this.client
        .send(
          new ListMultipartUploadsCommand({
            Bucket: this.settings.bucket,
            Prefix: `${this.settings.prefix}${prefix}`,
            ...markers,
          }),
        )
        .catch((error) => (lockless(error) ? null : Promise.reject(coded(error, prefix))));
      for (const { Key, UploadId } of page?.Uploads ?? []) {
        if (!Key?.startsWith(`${this.settings.prefix}${prefix}`)) continue;
        const remove = async () => {
          await this.client
            .send(new AbortMultipartUploadCommand({ Bucket: this.settings.bucket, Key, UploadId }))
            .catch((error) =>
              (error as Error).name === "NoSuchUpload" ? null : Promise.reject(coded(error, Key)),
            );
        };
        yield { name: Key.slice(before), remove };
      }
      markers = page?.IsTruncated
        ? { KeyMarker: page.NextKeyMarker, UploadIdMarker: page.NextUploadIdMarker }
        : null;
    }
  }

  /**
   * In a bucket with versions, which every one with object lock is, a plain removal puts a marker over the object and frees
   * nothing: the versions below it are removed, too. Where one of them is locked the marker goes again, so that the object
   * stays in sight, and `depot.not-allowed` is thrown.
   */
  async remove(name: string): Promise<void> {
    const key = this.key(name);
    const without = (versionId?: string) =>
      this.client
        .send(new DeleteObjectCommand({ ...key, VersionId: versionId }))
        .catch((error) => Promise.reject(coded(error, name)));
    const { DeleteMarker, VersionId } = await without();
    if (!DeleteMarker || !VersionId) return;
    try {
      for (const id of await this.versionsOf(key)) if (id !== VersionId) await without(id);
    } finally {
      await without(VersionId);
    }
  }

  private async versionsOf({ Bucket, Key }: { Bucket: string; Key: string }): Promise<string[]> {
    const ids: string[] = [];
    let markers: { KeyMarker?: string; VersionIdMarker?: string } | null = {};
    while (markers) {
      const page: ListObjectVersionsCommandOutput = await this.client
        .send(new ListObjectVersionsCommand({ Bucket, Prefix: Key, ...markers }))
        .catch((error) => Promise.reject(coded(error, Key)));
      for (const one of [...(page.Versions ?? []), ...(page.DeleteMarkers ?? [])])
        if (one.Key === Key && one.VersionId) ids.push(one.VersionId);
      markers = page.IsTruncated
        ? { KeyMarker: page.NextKeyMarker, VersionIdMarker: page.NextVersionIdMarker }
        : null;
    }
    return ids;
  }
}

interface Upload {
  readonly id: string;
  readonly parts: { ETag: string | undefined; PartNumber: number }[];
}

/** Regroups content into parts of `size` bytes; the last one may be shorter, and there is always one. */
async function* inParts(
  content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
  size: number,
): AsyncGenerator<{ part: Buffer; last: boolean }> {
  let held: Uint8Array[] = [];
  let length = 0;
  for await (let piece of content) {
    while (length + piece.length > size) {
      const room = size - length;
      yield { part: Buffer.concat([...held, piece.subarray(0, room)]), last: false };
      piece = piece.subarray(room);
      held = [];
      length = 0;
    }
    // the giver may use its memory again
    held.push(Buffer.from(piece));
    length += piece.length;
  }
  yield { part: Buffer.concat(held), last: true };
}
