import { type ByteString, showBytes } from "@/store/tree/tree";

/**
 * Names inside an archive. A file's name is one part of a path here and must be one wherever the archive is opened: what
 * some program reads as a separator or a drive is written as a percent escape, and so are, for formats whose names are text,
 * bytes that are no UTF-8. Names that become the same so are told apart.
 */
export class ArchiveNames {
  /** `text`: names are UTF-8, given as text; else they are bytes, given as a byte string. */
  constructor(private readonly text: boolean) {}

  /** Names that hold an escape, by folder: others cannot meet them. */
  private readonly taken = new Set<string>();
  private readonly given = new Map<string, string>();

  /** The name of a part below a folder of the archive; the same for the same part. */
  name(folder: string, part: ByteString): string {
    const key = `${folder}/${part}`;
    const known = this.given.get(key);
    if (known !== undefined) return known;
    const wish = this.text ? textPart(part) : safePart(part);
    if (!wish.includes("%")) return join(folder, wish);
    let name = join(folder, wish);
    for (let number = 2; this.taken.has(name); number += 1) name = join(folder, numbered(wish, number));
    this.taken.add(name);
    this.given.set(key, name);
    return name;
  }
}

const join = (folder: string, part: string): string => (folder ? `${folder}/${part}` : part);

function numbered(part: string, number: number): string {
  const dot = part.lastIndexOf(".");
  return dot > 0 ? `${part.slice(0, dot)} (${number})${part.slice(dot)}` : `${part} (${number})`;
}

const escaped = (char: string): string =>
  [...Buffer.from(char, "latin1")]
    .map((byte) => `%${byte.toString(16).toUpperCase().padStart(2, "0")}`)
    .join("");

/** One part of a path, as text. */
export function textPart(part: ByteString): string {
  const bytes = Buffer.from(part, "latin1");
  const decoded = bytes.toString("utf8");
  const text = Buffer.from(decoded, "utf8").equals(bytes)
    ? decoded
    : // what is no UTF-8 is shown as \xHH
      showBytes(part.replaceAll("\\", "%5C")).replace(
        /\\x([0-9a-f]{2})/g,
        (_, hex: string) => `%${hex.toUpperCase()}`,
      );
  return safePart(text);
}

/** One part of a path that is one part everywhere. */
export function safePart(part: string): string {
  const plain = part
    .replace(/[\\/]/g, escaped)
    // a drive, where the archive is opened on such a system
    .replace(/^([A-Za-z]):/, "$1%3A")
    .replace(/[\u0000-\u001f\u007f]/g, escaped);
  return plain === "." || plain === ".." || plain === "" ? plain.replaceAll(".", "%2E") || "%00" : plain;
}
