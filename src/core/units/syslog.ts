/** Messages of the Syslog Protocol (RFC 5424), framed for a stream (RFC 6587, 3.4.1, as RFC 5425 has it). */

/** Facility 13, “log audit”, with severity 6, “informational”. */
const PRIORITY = 13 * 8 + 6;
const BOM = "\ufeff";
/** What a field of the header may hold: printable ASCII without spaces. */
const field = (text: string, most: number): string => text.replace(/[^!-~]/g, "").slice(0, most) || "-";

/** One message, UTF-8, without its frame. `message` says what happened; `kind` what sort of message it is. */
export function syslogMessage(
  at: Date,
  host: string,
  program: string,
  kind: string,
  message: string,
): string {
  return `<${PRIORITY}>1 ${at.toISOString()} ${field(host, 255)} ${field(program, 48)} - ${field(kind, 32)} - ${BOM}${message}`;
}

/** The bytes of a message on a stream: its length in octets, a space, and the message. */
export function framed(message: string): Uint8Array {
  const bytes = new TextEncoder().encode(message);
  const head = new TextEncoder().encode(`${bytes.length} `);
  const frame = new Uint8Array(head.length + bytes.length);
  frame.set(head);
  frame.set(bytes, head.length);
  return frame;
}
