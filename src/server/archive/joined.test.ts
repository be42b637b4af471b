import { execFileSync } from "node:child_process";
import { describe, expect, it } from "vitest";
import { calendarComponents, joinedFile } from "./joined";

async function joined(format: "ics" | "vcf" | "mbox", items: readonly string[]): Promise<string> {
  const { begin, item, end } = joinedFile(format);
  const parts: Buffer[] = [Buffer.from(begin)];
  for (const text of items) {
    async function* content() {
      // in pieces, as the store gives it
      for (let at = 0; at < text.length; at += 7) yield Buffer.from(text.slice(at, at + 7));
    }
    for await (const part of item(content(), new Date(0))) parts.push(part);
  }
  return Buffer.concat([...parts, Buffer.from(end)]).toString();
}

const ZONE =
  "BEGIN:VTIMEZONE\r\nTZID:Europe/Lisbon\r\nBEGIN:STANDARD\r\nDTSTART:19701025T020000\r\nTZOFFSETFROM:+0100\r\nTZOFFSETTO:+0000\r\nEND:STANDARD\r\nEND:VTIMEZONE\r\n";
const entry = (uid: string, zone = "") =>
  `BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\nMETHOD:REQUEST\r\n${zone}BEGIN:VEVENT\r\nUID:${uid}\r\nDESCRIPTION:BEGIN:VALARM is text\r\n  that is folded\r\nBEGIN:VALARM\r\nACTION:DISPLAY\r\nEND:VALARM\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n`;

describe("a file of calendar entries", () => {
  it("has each entry whole, a zone once, and nothing of how entries were sent", async () => {
    const text = await joined("ics", [entry("a", ZONE), entry("b", ZONE), entry("c")]);
    expect(text.match(/^BEGIN:VCALENDAR/gm)).toHaveLength(1);
    expect(text.match(/^BEGIN:VTIMEZONE/gm)).toHaveLength(1);
    expect(text.match(/^METHOD/gm)).toBeNull();
    expect([...calendarComponents(text)].map(({ name }) => name)).toEqual([
      "VTIMEZONE",
      "VEVENT",
      "VEVENT",
      "VEVENT",
    ]);
    expect(text.match(/^UID:.$/gm)).toEqual(["UID:a", "UID:b", "UID:c"]);
    expect(text).toContain("DESCRIPTION:BEGIN:VALARM is text\r\n  that is folded\r\n");
    expect(text.endsWith("END:VEVENT\r\nEND:VCALENDAR\r\n")).toBe(true);
  });

  it("is valid without entries, and leaves out what is not whole", async () => {
    expect([...calendarComponents(await joined("ics", []))]).toEqual([]);
    for (const odd of [
      "",
      "nonsense",
      "BEGIN:VEVENT\r\nUID:x",
      "END:VEVENT\r\n",
      "BEGIN:VEVENT\r\nEND:VALARM\r\nEND:VEVENT\r\n",
    ]) {
      const text = await joined("ics", [odd, entry("good")]);
      expect([...calendarComponents(text)].map(({ name }) => name)).toEqual(["VEVENT"]);
      expect(text).toContain("UID:good");
    }
  });
});

it("a file of contacts has one after another, each with its end of a line", async () => {
  expect(await joined("vcf", ["BEGIN:VCARD\r\nEND:VCARD", "BEGIN:VCARD\r\nEND:VCARD\r\n"])).toBe(
    "BEGIN:VCARD\r\nEND:VCARD\r\nBEGIN:VCARD\r\nEND:VCARD\r\n",
  );
});

it("an mbox file of this module is one that Python reads", async () => {
  const text = await joined("mbox", ["Subject: a\r\n\r\nFrom here\r\n", "Subject: b\r\n\r\nx"]);
  const program =
    "import mailbox,sys,tempfile\nf=tempfile.NamedTemporaryFile(delete=False)\nf.write(sys.stdin.buffer.read());f.close()\nprint([m['subject'] for m in mailbox.mbox(f.name)])";
  expect(execFileSync("python3", ["-c", program], { input: text }).toString().trim()).toBe("['a', 'b']");
});
