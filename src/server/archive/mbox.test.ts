import { execFileSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import { join } from "node:path";
import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { freshFolder } from "../../../tests/depot";
import { mboxMessage } from "./mbox";

/** Python reads the file: of each message its separator, and its bytes with the quoting taken away. */
const SCRIPT = `
import mailbox, re, sys, json
box = mailbox.mbox(sys.argv[1])
out = []
for key in box.keys():
    bytes = re.sub(rb'^>(>*From )', rb'\\1', box.get_bytes(key), flags=re.M)
    out.append([box[key].get_from(), bytes.decode('latin1')])
print(json.dumps(out))
`;
function readBack(file: Buffer): [separator: string, text: string][] {
  const path = join(freshFolder("mbox"), "all.mbox");
  writeFileSync(path, file);
  return JSON.parse(execFileSync("python3", ["-c", SCRIPT, path], { encoding: "utf8", maxBuffer: 1e9 }));
}

/** The messages in one file, each given in pieces of so many bytes. */
async function mboxOf(messages: readonly string[], size: number): Promise<Buffer> {
  const parts: Buffer[] = [];
  for (const [n, text] of messages.entries()) {
    const bytes = Buffer.from(text, "latin1");
    const pieces = async function* () {
      for (let at = 0; at < bytes.length; at += size) yield bytes.subarray(at, at + size);
    };
    for await (const part of mboxMessage(pieces(), new Date(Date.UTC(2026, 10, 1 + n, 8, 5, 9))))
      parts.push(part);
  }
  return Buffer.concat(parts);
}
const asLines = (text: string) => text.replaceAll("\r\n", "\n");
const HEAD = "From: Maren Pell <maren@quillmere.example>\r\nSubject: x\r\n\r\n";

describe("an mbox file", () => {
  it("is read by Python as the messages that it was made of, wherever the pieces are cut", async () => {
    const line = fc.constantFrom(
      "From here on",
      ">From there",
      ">>From",
      "plain",
      "",
      "From",
      "\u00ff\u0000",
      "a\rb",
      "From: no",
    );
    const message = fc.array(line, { maxLength: 8 }).map((lines) => `${HEAD}${lines.join("\r\n")}\r\n`);
    await fc.assert(
      fc.asyncProperty(
        fc.array(message, { minLength: 1, maxLength: 5 }),
        fc.integer({ min: 1, max: 40 }),
        async (messages, size) => {
          // the sender is taken from the first piece
          const read = readBack(await mboxOf(messages, Math.max(size, 1)));
          expect(read.map(([, text]) => text)).toEqual(messages.map(asLines));
        },
      ),
      { numRuns: 40 },
    );
  });

  it("says who sent each message, and when it was received", async () => {
    const read = readBack(
      await mboxOf([`${HEAD}one\r\n`, "Subject: nobody\r\n\r\ntwo\r\n", "From: a b\r\n\r\n"], 4096),
    );
    expect(read.map(([separator]) => separator)).toEqual([
      "maren@quillmere.example Sun Nov  1 08:05:09 2026",
      "MAILER-DAEMON Mon Nov  2 08:05:09 2026",
      "MAILER-DAEMON Tue Nov  3 08:05:09 2026",
    ]);
  });

  it("ends a message whose last line has no end, and holds an empty one", async () => {
    const read = readBack(await mboxOf([`${HEAD}no end`, "", `${HEAD}next\r\n`], 4096));
    expect(read.length).toBe(3);
    expect(read[0]![1].trimEnd()).toBe(asLines(`${HEAD}no end`));
    expect(read[2]![1]).toBe(asLines(`${HEAD}next\r\n`));
  });
});
