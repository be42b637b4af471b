import type { ByteString } from "@/store/tree/tree";
import { invalid } from "../base/problem";

/**
 * Paths of any bytes in JSON and addresses: `/…` is the path in UTF-8; `~` and base64url carries one that is no UTF-8.
 */
export function pathToText(path: ByteString): string {
  const bytes = Buffer.from(path, "latin1");
  const text = bytes.toString("utf8");
  return Buffer.from(text, "utf8").equals(bytes) ? text : `~${bytes.toString("base64url")}`;
}

/** Throws a problem of the field for anything that is no absolute path inside a recovery point. */
export function pathFromText(text: string, field = "path"): ByteString {
  const path = text.startsWith("~")
    ? Buffer.from(text.slice(1), "base64url").toString("latin1")
    : Buffer.from(text, "utf8").toString("latin1");
  if (!path.startsWith("/")) throw invalid(field, "A path begins with a slash.");
  if (path.includes("\0") || path.split("/").some((name) => name === ".." || name === ".")) {
    throw invalid(field, "A path has no “.”, “..” or NUL in it.");
  }
  return path.length > 1 ? path.replace(/\/+$/, "") : path;
}
