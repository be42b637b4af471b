/**
 * Messages one after another in one file (RFC 4155): each after a line with its sender and time of receipt, in UTC. Lines
 * end with a line feed; a line of a message that could be taken for such a beginning gets a `>` in front, as do lines that
 * have one already, so that a reader can take it away again.
 */
const LF = 0x0a;
const CR = 0x0d;
const QUOTED = /^>*From /;

const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const two = (number: number): string => String(number).padStart(2, "0");

/** The line before a message. */
function mboxLine(sender: string, at: Date): string {
  const day = `${DAYS[at.getUTCDay()]} ${MONTHS[at.getUTCMonth()]} ${String(at.getUTCDate()).padStart(2)}`;
  const time = [at.getUTCHours(), at.getUTCMinutes(), at.getUTCSeconds()].map(two).join(":");
  return `From ${sender} ${day} ${time} ${at.getUTCFullYear()}\n`;
}

/** The address of a message's sender, from the beginning of it; what RFC 5321 calls nobody where it has none. */
function senderOf(begin: Buffer): string {
  const head = begin.toString("latin1").split(/\r?\n\r?\n/, 1)[0]!;
  const from = /^from:((?:[^\r\n]|\r?\n[ \t])*)/im.exec(head)?.[1] ?? "";
  return /([^\s<>,;:"()]+@[^\s<>,;:"()]+)/.exec(from)?.[1] ?? "MAILER-DAEMON";
}

/** One message as it stands in the file, piece by piece as its content comes. */
export async function* mboxMessage(content: AsyncIterable<Buffer>, received: Date): AsyncGenerator<Buffer> {
  let rest: Buffer = Buffer.alloc(0);
  let begun = false;
  for await (const piece of content) {
    if (!begun) yield Buffer.from(mboxLine(senderOf(piece), received), "latin1");
    begun = true;
    const bytes = rest.length ? Buffer.concat([rest, piece]) : piece;
    const end = bytes.lastIndexOf(LF) + 1;
    if (end > 0) yield mboxLines(bytes.subarray(0, end));
    rest = bytes.subarray(end);
  }
  if (!begun) yield Buffer.from(mboxLine("MAILER-DAEMON", received), "latin1");
  yield rest.length ? Buffer.concat([mboxLines(rest), Buffer.from("\n\n")]) : Buffer.from("\n");
}

/** Whole lines, but the last may lack its end. */
function mboxLines(bytes: Buffer): Buffer {
  const parts: Buffer[] = [];
  for (let at = 0; at < bytes.length; ) {
    const end = bytes.indexOf(LF, at);
    const next = end < 0 ? bytes.length : end + 1;
    const line = bytes.subarray(at, end > at && bytes[end - 1] === CR ? end - 1 : end < 0 ? next : end);
    if (QUOTED.test(line.toString("latin1", 0, Math.min(line.length, 1000)))) parts.push(Buffer.from(">"));
    parts.push(line);
    if (end >= 0) parts.push(Buffer.from("\n"));
    at = next;
  }
  return Buffer.concat(parts);
}
