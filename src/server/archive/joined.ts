import { JOINED_FORMATS } from "@/core/units/download-formats";
import { mboxMessage } from "./mbox";

export type JoinedFormat = (typeof JOINED_FORMATS)[number];

/** A file that items are joined in. */
export interface JoinedFile {
  /** What the names of its items end with. */
  readonly extension: string;
  readonly begin: string;
  /** An item as it stands in the file. `received`: of a message. */
  readonly item: (content: AsyncIterable<Buffer>, received: Date) => AsyncIterable<Buffer>;
  readonly end: string;
}

async function whole(content: AsyncIterable<Buffer>): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of content) parts.push(part);
  return Buffer.concat(parts);
}

/** Components of an iCalendar object (RFC 5545, section 3.6), each with its lines as they stand. */
export function* calendarComponents(
  text: string,
): Generator<{ readonly name: string; readonly lines: readonly string[] }> {
  let open: string[] = [];
  let lines: string[] = [];
  for (const line of text.split(/\r?\n/)) {
    const begun = /^BEGIN:(.*)$/i.exec(line)?.[1]?.trim().toUpperCase();
    const ended = /^END:(.*)$/i.exec(line)?.[1]?.trim().toUpperCase();
    if (begun === "VCALENDAR" && open.length === 0) continue;
    if (ended === "VCALENDAR" && open.length === 0) continue;
    if (begun) open.push(begun);
    if (open.length) lines.push(line);
    if (ended && open.at(-1) === ended) {
      open.pop();
      if (open.length === 0) {
        yield { name: ended, lines };
        lines = [];
      }
    } else if (ended) {
      // an end without its beginning: what was begun is not whole
      open = [];
      lines = [];
    }
  }
}

/** One iCalendar object of all entries; a time zone that several of them bring along stands in it once. */
function icsFile(): JoinedFile {
  const zones = new Set<string>();
  return {
    extension: ".ics",
    begin: "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Deep Keep//Restored calendar//EN\r\n",
    async *item(content) {
      for (const { name, lines } of calendarComponents((await whole(content)).toString("utf8"))) {
        const id = lines.find((line) => /^TZID[;:]/i.test(line));
        if (name === "VTIMEZONE" && id) {
          if (zones.has(id)) continue;
          zones.add(id);
        }
        yield Buffer.from(`${lines.join("\r\n")}\r\n`, "utf8");
      }
    },
    end: "END:VCALENDAR\r\n",
  };
}

/** Contacts one after another (RFC 6350, section 3.3). */
const VCF_FILE: JoinedFile = {
  extension: ".vcf",
  begin: "",
  async *item(content) {
    const bytes = await whole(content);
    yield bytes;
    if (bytes.at(-1) !== 0x0a) yield Buffer.from("\r\n");
  },
  end: "",
};

const MBOX_FILE: JoinedFile = { extension: ".eml", begin: "", item: mboxMessage, end: "" };

/** A file of a format, to be written once. */
export const joinedFile = (format: JoinedFormat): JoinedFile =>
  format === "ics" ? icsFile() : format === "vcf" ? VCF_FILE : MBOX_FILE;

export const isJoined = (format: string): format is JoinedFormat =>
  JOINED_FORMATS.includes(format as JoinedFormat);
