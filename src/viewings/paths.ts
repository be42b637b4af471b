import { type ByteString, byteString, showBytes } from "@/store/tree/tree";

/**
 * Paths of any bytes in addresses (RFC 3986): each byte that is not unreserved is written as `%HH`. Many programs take
 * every address for UTF-8 and break on others: a name that is none is written as people are shown it, with `\\xHH`.
 */

const UNRESERVED = /[A-Za-z0-9._~-]/;

const inUtf8 = (name: ByteString): ByteString =>
  byteString(Buffer.from(name, "latin1").toString("utf8")) === name ? name : byteString(showBytes(name));

export const hrefOf = (path: ByteString): string => {
  let href = "";
  for (const char of path.split("/").map(inUtf8).join("/"))
    href +=
      char === "/" || UNRESERVED.test(char)
        ? char
        : `%${char.charCodeAt(0).toString(16).toUpperCase().padStart(2, "0")}`;
  return href;
};

/**
 * The path of an address, begins with `/` and ends without one; null for what names nothing: a bad `%HH`, a NUL, `.`,
 * `..`, or a slash within a name.
 */
export function pathOf(href: string): ByteString | null {
  const names: string[] = [];
  for (const part of href.split("/")) {
    if (part === "") continue;
    if (/%(?![0-9A-Fa-f]{2})/.test(part)) return null;
    const name = Buffer.from(part, "utf8")
      .toString("latin1")
      .replace(/%([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));
    if (name === "." || name === ".." || /[/\0]/.test(name)) return null;
    names.push(name);
  }
  return `/${names.join("/")}`;
}
