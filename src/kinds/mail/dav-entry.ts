import { type DavKind, EXTENSION } from "./dav-kinds";

/** What is known of a calendar entry or a contact without a parser for the whole: for lists, and to tell items apart. */
export interface DavHead {
  /** The same in every calendar (RFC 7986, section 5.3); null where there is none. */
  readonly uid: string | null;
  readonly title: string;
  /** Of a calendar entry: when it begins, as written, such as `20261201T090000Z` or `20261201`. */
  readonly start: string | null;
}

/** So much of an item is looked at for its head; attachments and photographs may make it large. */
const LOOKED_AT = 512 * 1024;

const unescaped = (text: string): string =>
  text.replaceAll(/\\([nN,;\\])/g, (_, character: string) =>
    character.toLowerCase() === "n" ? " " : character,
  );

/** Reads the head of a calendar entry or contact. Takes any bytes; what is missing is null, or an empty title. */
export function davHead(bytes: Buffer, kind: DavKind): DavHead {
  const lines = bytes
    .toString("utf8", 0, LOOKED_AT)
    .replaceAll(/\r?\n[ \t]/g, "")
    .split(/\r?\n/);
  const parts = kind === "calendar" ? ["VEVENT", "VTODO", "VJOURNAL"] : ["VCARD"];
  const wanted = kind === "calendar" ? ["UID", "SUMMARY", "DTSTART", "DUE"] : ["UID", "FN"];
  const found = new Map<string, string>();
  const open: string[] = [];
  for (const line of lines) {
    const [, name, value] =
      /^(?:[A-Za-z0-9-]+\.)?([A-Za-z-]+)(?:;(?:"[^"]*"|[^":])*)?:(.*)$/.exec(line) ?? [];
    if (name === undefined) continue;
    const property = name.toUpperCase();
    if (property === "BEGIN") open.push(value!.trim().toUpperCase());
    else if (property === "END") open.pop();
    else if (parts.includes(open.at(-1) ?? "") && wanted.includes(property) && !found.has(property))
      found.set(property, value!.trim());
  }
  return {
    uid: found.get("UID") || null,
    title: unescaped(found.get(kind === "calendar" ? "SUMMARY" : "FN") ?? "").trim(),
    start: found.get("DTSTART") ?? found.get("DUE") ?? null,
  };
}

/** The name of an item's file from its address. */
export function davFileName(url: string, kind: DavKind): string {
  const last = new URL(url).pathname.replace(/\/+$/, "").split("/").at(-1) ?? "";
  let name = last;
  try {
    name = decodeURIComponent(last);
  } catch {
    // as it stands in the address
  }
  return name.toLowerCase().endsWith(`.${EXTENSION[kind]}`) ? name : `${name}.${EXTENSION[kind]}`;
}
