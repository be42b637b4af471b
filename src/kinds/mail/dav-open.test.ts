import { describe, expect, it } from "vitest";
import { cardOf, eventOf } from "../../../tests/radicale";
import { openEntry } from "./dav-open";

const calendar = (text: string, zone = "Europe/Lisbon") => openEntry(Buffer.from(text), "calendar", zone);
const value = (fields: readonly { label: string; value: string }[], label: string) =>
  fields.find((one) => one.label === label)?.value;

describe("a calendar entry that is looked at", () => {
  it("has times of UTC in the zone of whoever looks, and other times with the zone they name", () => {
    const utc = calendar(eventOf("a", "Summer", "20260701T080000Z"));
    expect(value(utc.fields, "Begins")).toBe("Wed 1 July 2026, 09:00");
    const named = calendar(
      eventOf("a", "Kran", "X").replace("DTSTART:X", "DTSTART;TZID=Europe/Vienna:20260701T080000"),
    );
    expect(value(named.fields, "Begins")).toBe("Wed 1 July 2026, 08:00 (Europe/Vienna)");
    const day = calendar(eventOf("a", "Fete", "X").replace("DTSTART:X", "DTSTART;VALUE=DATE:20260701"));
    expect(value(day.fields, "Begins")).toBe("Wed 1 July 2026");
  });

  it("says who takes part, how it repeats, and what was changed of a series", () => {
    const series = eventOf("a", "Board\\, monthly", "20260701T080000Z", [
      "RRULE:FREQ=MONTHLY;INTERVAL=2;BYDAY=1TU;UNTIL=20270101T000000Z",
      "ORGANIZER;CN=Ada Orrin:mailto:ada@orrin.example",
      "ATTENDEE;CN=Till;PARTSTAT=NEEDS-ACTION:mailto:till@orrin.example",
      "ATTENDEE:mailto:corin@orrin.example",
      "DESCRIPTION:Line one\\nLine two",
      "STATUS:CONFIRMED",
    ]).replace(
      "END:VCALENDAR",
      "BEGIN:VEVENT\r\nUID:a\r\nRECURRENCE-ID:20260901T080000Z\r\nDTSTART:20260902T080000Z\r\nSUMMARY:Moved\r\nEND:VEVENT\r\nEND:VCALENDAR",
    );
    const { title, text, fields } = calendar(series);
    expect([title, text]).toEqual(["Board, monthly", "Line one\nLine two"]);
    expect(fields).toEqual([
      { label: "Begins", value: "Wed 1 July 2026, 09:00" },
      { label: "Duration", value: "1 hour" },
      { label: "Repeats", value: "every 2 months on 1TU, until 1 January 2027" },
      { label: "Changed occurrences", value: "1" },
      { label: "Status", value: "confirmed" },
      { label: "Organiser", value: "Ada Orrin <ada@orrin.example>" },
      { label: "Attendee", value: "Till <till@orrin.example>, needs action" },
      { label: "Attendee", value: "corin@orrin.example" },
    ]);
  });

  it("is refused in words where it is none, and cut where it is large", () => {
    for (const odd of ["", "nonsense", "BEGIN:VCALENDAR\r\nBEGIN:VEVENT"])
      expect(() => calendar(odd), odd).toThrow(/cannot be parsed/);
    const many = calendar(
      eventOf(
        "a",
        "x".repeat(10_000),
        "20260701T080000Z",
        Array.from({ length: 1000 }, (_, n) => `ATTENDEE:mailto:${n}@orrin.example`),
      ),
    );
    expect([many.title.length, many.fields.length]).toEqual([2000, 200]);
    expect(calendar("BEGIN:VCALENDAR\r\nEND:VCALENDAR").title).toBe("");
  });
});

describe("a contact that is looked at", () => {
  it("has its fields with their kinds, whatever version wrote it", () => {
    const opened = openEntry(
      Buffer.from(
        cardOf("p", "Ada Orrin", [
          "ORG:Orrin\\, Sons;Yard",
          "EMAIL;TYPE=INTERNET,WORK:ada@orrin.example",
          "TEL;TYPE=CELL:+00 555 0101",
          "ADR;TYPE=HOME:;;Quay 4;Tern;;1234;Mar",
          "NOTE:Likes tea",
          "PHOTO;ENCODING=b;TYPE=PNG:iVBORw0KGgo=",
        ]),
      ),
      "addressbook",
      "UTC",
    );
    expect(opened).toEqual({
      title: "Ada Orrin",
      text: "Likes tea",
      fields: [
        { label: "Organisation", value: "Orrin, Sons, Yard" },
        { label: "Email", value: "ada@orrin.example (work)" },
        { label: "Telephone", value: "+00 555 0101 (mobile)" },
        { label: "Address", value: "Quay 4, Tern, 1234, Mar (home)" },
        { label: "Photograph", value: "included" },
      ],
    });
    const fourth = openEntry(
      Buffer.from(
        "BEGIN:VCARD\r\nVERSION:4.0\r\nFN:Till\r\nTEL;VALUE=uri:tel:+00-555\r\nEND:VCARD\r\nBEGIN:VCARD\r\nVERSION:4.0\r\nFN:Second\r\nEND:VCARD\r\n",
      ),
      "addressbook",
      "UTC",
    );
    expect([fourth.title, value(fourth.fields, "Telephone")]).toEqual(["Till", "+00-555"]);
  });
});
