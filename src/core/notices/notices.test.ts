import fc from "fast-check";
import { DateTime } from "luxon";
import { describe, expect, it } from "vitest";
import type { Code } from "../codes";
import { causeOf, GATHER_MS, noticeDue } from "./due";
import { type NoticeCause, noticeSubject, noticeText, type Told } from "./text";

const ZONES = ["Europe/London", "Pacific/Auckland", "America/St_Johns", "Australia/Lord_Howe", "UTC"];
const moments = fc
  .date({ min: new Date("2026-01-01T00:00:00Z"), max: new Date("2028-01-01T00:00:00Z"), noInvalidDate: true })
  .map((moment) => new Date(Math.floor(moment.getTime() / 1000) * 1000));
const clocks = fc
  .nat(1439)
  .map(
    (minute) => `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`,
  );

describe("when a notice is due", () => {
  it("with a digest: at its time of the client's clock, at most a day and a clock change ahead", () => {
    fc.assert(
      fc.property(moments, fc.constantFrom(...ZONES), clocks, (now, zone, digestAt) => {
        const due = noticeDue({ digestAt, quiet: null }, zone, now);
        const ahead = (due.getTime() - now.getTime()) / 3_600_000;
        expect(ahead).toBeGreaterThan(0);
        expect(ahead).toBeLessThanOrEqual(25);
        const shown = DateTime.fromJSDate(due, { zone });
        // a time that a clock change removes is told when the clock goes on
        const removed = shown.minus({ minutes: 1 }).offset !== shown.offset;
        if (!removed) expect(shown.toFormat("HH:mm")).toBe(digestAt);
      }),
    );
  });

  it("in quiet hours: when they are over; outside them: as soon as others of its cause had time to come", () => {
    fc.assert(
      fc.property(moments, fc.constantFrom(...ZONES), clocks, clocks, (now, zone, from, to) => {
        fc.pre(from !== to);
        const due = noticeDue({ digestAt: null, quiet: { from, to } }, zone, now);
        const clock = DateTime.fromJSDate(now, { zone });
        const at = clock.toFormat("HH:mm");
        const quiet = from < to ? at >= from && at < to : at >= from || at < to;
        // near a clock change the hours are longer or shorter than they look
        const steady = clock.minus({ days: 1 }).offset === clock.plus({ days: 1 }).offset;
        if (!steady) return;
        if (quiet) expect(DateTime.fromJSDate(due, { zone }).toFormat("HH:mm")).toBe(to);
        else expect(due.getTime() - now.getTime()).toBe(GATHER_MS);
      }),
    );
  });

  it("without either: as soon as others of its cause had time to come", () => {
    const now = new Date("2026-11-26T07:30:00Z");
    expect(noticeDue({ digestAt: null, quiet: null }, "UTC", now).getTime()).toBe(now.getTime() + GATHER_MS);
  });
});

describe("what a run that ended is told by", () => {
  const base = {
    clientId: "quillmere",
    sourceId: "lt-04",
    outcome: "failed" as const,
    code: "depot.not-reached" as Code,
    depotId: "harbour",
    connectionId: null,
  };
  const same = (a: object, b: object) => causeOf({ ...base, ...a }) === causeOf({ ...base, ...b });

  it.each([
    ["sources of one depot that is not reached", {}, { sourceId: "lt-07", clientId: "saltrow" }, true],
    ["sources of two depots", {}, { depotId: "quay" }, false],
    ["one depot that is full and not reached", {}, { code: "depot.full" }, false],
    [
      "mailboxes of one tenant whose secret ran out",
      { code: "source.signin-refused", connectionId: "bakery" },
      { code: "source.signin-refused", connectionId: "bakery", sourceId: "greta" },
      true,
    ],
    [
      "mailboxes of two tenants",
      { code: "source.signin-refused", connectionId: "bakery" },
      { code: "source.signin-refused", connectionId: "dentist" },
      false,
    ],
    [
      "sources of a client whose key is not confirmed",
      { code: "key.not-confirmed" },
      { code: "key.not-confirmed", sourceId: "x" },
      true,
    ],
    [
      "machines that do not answer",
      { code: "machine.silent" },
      { code: "machine.silent", sourceId: "x" },
      false,
    ],
    [
      "clean runs of one client",
      { outcome: "clean", code: null },
      { outcome: "clean", code: null, sourceId: "x" },
      true,
    ],
    ["a failure and a caution of the same", {}, { outcome: "caution" }, false],
  ])("%s", (_what, a, b, together) => {
    expect(same(a, b)).toBe(together);
  });
});

describe("a message", () => {
  const at = new Date("2026-11-26T02:14:00Z");
  const cause = (change: Partial<NoticeCause> = {}): NoticeCause => ({
    outcome: "failed",
    code: "depot.not-reached",
    sources: ["voss-lt-01 files"],
    first: at,
    last: at,
    ...change,
  });
  const told = (causes: NoticeCause[], lasting: Told["lasting"] = []): Told => ({
    clientName: "Vossel & Daughters Bakery",
    zone: "Europe/London",
    causes,
    lasting,
  });

  it.each([
    [[cause()], "Vossel & Daughters Bakery: The depot could not be reached (voss-lt-01 files)"],
    [
      [cause({ sources: ["a", "b", "c"] })],
      "Vossel & Daughters Bakery: The depot could not be reached (3 sources)",
    ],
    [
      [cause(), cause({ code: "depot.full" }), cause({ outcome: "clean", code: null })],
      "Vossel & Daughters Bakery: 2 causes since yesterday",
    ],
    [
      [cause({ outcome: "clean", code: null }), cause({ outcome: "clean", code: null })],
      "Vossel & Daughters Bakery: all clean since yesterday",
    ],
    [
      [cause({ outcome: "missed", code: null })],
      "Vossel & Daughters Bakery: A run ended: missed (voss-lt-01 files)",
    ],
  ])("has a subject that says whose and what: %#", (causes, subject) => {
    expect(noticeSubject(told(causes))).toBe(subject);
  });

  it("tells what failed before what is well, each with why, what now, where and when", () => {
    const text = noticeText(
      told([
        cause({ outcome: "clean", code: null, sources: ["voss-lt-02 files"] }),
        cause({ last: new Date(at.getTime() + 3_600_000) }),
      ]),
    );
    expect(text.indexOf("The depot could not be reached (failed)")).toBeLessThan(
      text.indexOf("Runs ended clean"),
    );
    for (const line of [/^Why: \w/m, /^What now: \w/m, /^Source: voss-lt-01 files$/m])
      expect(text).toMatch(line);
    expect(text).toContain("When: 26 Nov 2026, 02:14 to 26 Nov 2026, 03:14 (Europe/London)");
    expect(text).not.toContain("Reported before");
  });

  it("names forty sources, and how many more there are", () => {
    const sources = Array.from({ length: 43 }, (_, i) => `lt-${i}`);
    const text = noticeText(told([cause({ sources })]));
    expect(text).toContain("lt-39 and 3 more");
    expect(text).not.toContain("lt-40");
  });

  it("says in a line each what was told before and lasts, with the day by the client's clock", () => {
    // late in the evening of the day before, in London
    const toldAt = new Date("2026-11-18T23:30:00Z");
    const lasting = [{ ...cause({ code: "machine.silent", sources: ["pend-lt-07 files"] }), toldAt }];
    const text = noticeText({ ...told([cause()], lasting), zone: "Pacific/Auckland" });
    expect(text).toMatch(
      /\nReported before, still open:\n- .+: pend-lt-07 files \(reported on 19 Nov 2026\)\n$/,
    );
    expect(noticeSubject(told([cause()], lasting))).not.toContain("pend-lt-07");
  });
});
