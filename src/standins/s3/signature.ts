import { createHash, createHmac, timingSafeEqual } from "node:crypto";
import type { IncomingMessage } from "node:http";

/** Checks requests signed with Signature Version 4, in the header or as a presigned address, with signed or unsigned payloads. */
export type SignatureError =
  | "AccessDenied"
  | "InvalidAccessKeyId"
  | "SignatureDoesNotMatch"
  | "AuthorizationHeaderMalformed"
  | "RequestTimeTooSkewed"
  | "XAmzContentSHA256Mismatch";

const hmac = (key: Buffer | string, text: string): Buffer => createHmac("sha256", key).update(text).digest();
const sha256 = (bytes: Buffer | string): string => createHash("sha256").update(bytes).digest("hex");
/** RFC 3986, as the signature wants it: more is escaped than encodeURIComponent does. */
const escaped = (text: string): string =>
  encodeURIComponent(text).replace(/[!'()*]/g, (char) => `%${char.charCodeAt(0).toString(16).toUpperCase()}`);

const SKEW_MS = 15 * 60_000;

export interface Signed {
  readonly accessKeyId: string;
  readonly day: string;
  readonly signedRegion: string;
  readonly signedHeaders: string;
  readonly signature: string;
  readonly stamp: string;
  /** Seconds for which a presigned address lasts; null for a request signed in its header. */
  readonly lasts: number | null;
}

function signedInHeader(request: IncomingMessage): Signed | null {
  const parsed =
    /^AWS4-HMAC-SHA256 Credential=([^/]+)\/(\d{8})\/([^/]+)\/s3\/aws4_request, ?SignedHeaders=([^,]+), ?Signature=([0-9a-f]{64})$/.exec(
      request.headers.authorization ?? "",
    );
  if (!parsed) return null;
  const [, accessKeyId, day, signedRegion, signedHeaders, signature] = parsed as unknown as string[];
  return {
    accessKeyId: accessKeyId!,
    day: day!,
    signedRegion: signedRegion!,
    signedHeaders: signedHeaders!,
    signature: signature!,
    stamp: String(request.headers["x-amz-date"] ?? ""),
    lasts: null,
  };
}

function signedInQuery(url: URL): Signed | null {
  const ask = (name: string) => url.searchParams.get(`X-Amz-${name}`) ?? "";
  const credential = /^([^/]+)\/(\d{8})\/([^/]+)\/s3\/aws4_request$/.exec(ask("Credential"));
  const signature = ask("Signature");
  if (ask("Algorithm") !== "AWS4-HMAC-SHA256" || !credential || !/^[0-9a-f]{64}$/.test(signature))
    return null;
  return {
    accessKeyId: credential[1]!,
    day: credential[2]!,
    signedRegion: credential[3]!,
    signedHeaders: ask("SignedHeaders"),
    signature,
    stamp: ask("Date"),
    lasts: Number(ask("Expires")),
  };
}

/** Who signed a request, or null where nobody did. */
export const signerOf = (request: IncomingMessage, url: URL): string | null =>
  (signedInHeader(request) ?? signedInQuery(url))?.accessKeyId ?? null;

/** Null when the request is signed rightly for this region; otherwise what is wrong. */
export function checkSignature(
  request: IncomingMessage,
  url: URL,
  body: Buffer,
  region: string,
  secretOf: (accessKeyId: string) => string | undefined,
  now: Date,
): SignatureError | null {
  const signed = signedInHeader(request) ?? signedInQuery(url);
  if (!signed) return "AccessDenied";
  const { accessKeyId, day, signedRegion, signedHeaders, signature, stamp, lasts } = signed;
  const secret = secretOf(accessKeyId);
  if (!secret) return "InvalidAccessKeyId";
  if (signedRegion !== region) return "AuthorizationHeaderMalformed";
  const at = Date.parse(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, "$1-$2-$3T$4:$5:$6Z"));
  const age = now.getTime() - at;
  if (!(age >= -SKEW_MS) || (lasts === null && age > SKEW_MS)) return "RequestTimeTooSkewed";
  if (lasts !== null && !(age <= lasts * 1000)) return "AccessDenied";
  const payload = String(request.headers["x-amz-content-sha256"] ?? "UNSIGNED-PAYLOAD");
  if (payload !== "UNSIGNED-PAYLOAD" && payload !== sha256(body)) return "XAmzContentSHA256Mismatch";
  const query = [...url.searchParams]
    .filter(([name]) => name !== "X-Amz-Signature")
    .map(([name, value]) => `${escaped(name)}=${escaped(value)}`)
    .sort()
    .join("&");
  const headers = signedHeaders
    .split(";")
    .map(
      (name) =>
        `${name}:${String(request.headers[name] ?? "")
          .trim()
          .replace(/\s+/g, " ")}\n`,
    )
    .join("");
  const path = url.pathname
    .split("/")
    .map((part) => escaped(decodeURIComponent(part)))
    .join("/");
  const canonical = [request.method, path, query, headers, signedHeaders, payload].join("\n");
  const scope = `${day}/${signedRegion}/s3/aws4_request`;
  const toSign = ["AWS4-HMAC-SHA256", stamp, scope, sha256(canonical)].join("\n");
  const key = hmac(hmac(hmac(hmac(`AWS4${secret}`, day), signedRegion), "s3"), "aws4_request");
  const right = hmac(key, toSign);
  return timingSafeEqual(right, Buffer.from(signature, "hex")) ? null : "SignatureDoesNotMatch";
}
