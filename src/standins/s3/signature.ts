import { createHash, createHmac, timingSafeEqual } from "node:crypto";
import type { IncomingMessage } from "node:http";

/** Checks requests signed with Signature Version 4, the header form, with signed or unsigned payloads. */
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

/** Null when the request is signed rightly for this region; otherwise what is wrong. */
export function checkSignature(
  request: IncomingMessage,
  url: URL,
  body: Buffer,
  region: string,
  secretOf: (accessKeyId: string) => string | undefined,
  now: Date,
): SignatureError | null {
  const header = request.headers.authorization;
  const parsed =
    /^AWS4-HMAC-SHA256 Credential=([^/]+)\/(\d{8})\/([^/]+)\/s3\/aws4_request, ?SignedHeaders=([^,]+), ?Signature=([0-9a-f]{64})$/.exec(
      header ?? "",
    );
  if (!parsed) return "AccessDenied";
  const [, accessKeyId, day, signedRegion, signedHeaders, signature] = parsed as unknown as string[];
  const secret = secretOf(accessKeyId!);
  if (!secret) return "InvalidAccessKeyId";
  if (signedRegion !== region) return "AuthorizationHeaderMalformed";
  const stamp = String(request.headers["x-amz-date"] ?? "");
  const at = Date.parse(stamp.replace(/^(\d{4})(\d\d)(\d\d)T(\d\d)(\d\d)(\d\d)Z$/, "$1-$2-$3T$4:$5:$6Z"));
  if (!(Math.abs(at - now.getTime()) <= SKEW_MS)) return "RequestTimeTooSkewed";
  const payload = String(request.headers["x-amz-content-sha256"] ?? "UNSIGNED-PAYLOAD");
  if (payload !== "UNSIGNED-PAYLOAD" && payload !== sha256(body)) return "XAmzContentSHA256Mismatch";
  const query = [...url.searchParams]
    .map(([name, value]) => `${escaped(name)}=${escaped(value)}`)
    .sort()
    .join("&");
  const headers = signedHeaders!
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
  const key = hmac(hmac(hmac(hmac(`AWS4${secret}`, day!), signedRegion!), "s3"), "aws4_request");
  const right = hmac(key, toSign);
  return timingSafeEqual(right, Buffer.from(signature!, "hex")) ? null : "SignatureDoesNotMatch";
}
