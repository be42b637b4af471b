import fc from "fast-check";
import { expect, test } from "vitest";
import { framed, syslogMessage } from "./syslog";

const AT = new Date("2026-11-26T07:30:00.250Z");

test("a message has the header of RFC 5424, then its text in UTF-8", () => {
  expect(syslogMessage(AT, "keep.example", "deep-keep", "trail", '{"who":"Ines"}')).toBe(
    '<110>1 2026-11-26T07:30:00.250Z keep.example deep-keep - trail - \ufeff{"who":"Ines"}',
  );
  // nothing in the header ends it early
  expect(syslogMessage(AT, "a b\nc", "", "trail", "x")).toContain("Z abc - - trail - ");
});

test("a stream of frames falls apart into the messages that went in", () => {
  fc.assert(
    fc.property(fc.array(fc.string({ unit: "binary" }), { maxLength: 6 }), (texts) => {
      const whole = texts.map((text) => text.replace(/\p{Surrogate}/gu, ""));
      const stream = Buffer.concat(whole.map((text) => Buffer.from(framed(text))));
      const found: string[] = [];
      for (let at = 0; at < stream.length; ) {
        const space = stream.indexOf(" ", at);
        const length = Number(stream.subarray(at, space).toString("ascii"));
        found.push(stream.subarray(space + 1, space + 1 + length).toString("utf8"));
        at = space + 1 + length;
      }
      expect(found).toEqual(whole);
    }),
  );
});
