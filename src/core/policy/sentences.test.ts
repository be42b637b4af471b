import { describe, expect, it } from "vitest";
import { capAt } from "./bandwidth";
import { bandwidthWords, conductClause, conductSentence } from "./conduct";
import { noticesClause, noticesSentence } from "./notices";
import { whenClause, whenSentence } from "./when";
import { furtherDepots, runDepots, whereClause, whereSentence } from "./where";

/** Clauses as people read them: what they say is what a technician agrees to. */
const HARBOUR = "0b9e6a52-5b44-4a4e-8a0e-0f3f3a1d1a01";
const QUAY = "0b9e6a52-5b44-4a4e-8a0e-0f3f3a1d1a02";
const BUCKET = "0b9e6a52-5b44-4a4e-8a0e-0f3f3a1d1a03";
const NAMES: Record<string, string> = { [HARBOUR]: "Harbour", [QUAY]: "Quay", [BUCKET]: "South bucket" };

describe("Where", () => {
  const where = (more: object = {}) => whereClause.parse({ depotId: HARBOUR, ...more });
  it.each([
    [{}, "Harbour"],
    [{ beside: [QUAY] }, "Harbour and at the same time Quay"],
    [{ beside: [QUAY], atOnce: 1 }, "Harbour and in turn Quay"],
    [{ beside: [QUAY, BUCKET] }, "Harbour and in turn Quay and South bucket"],
    [{ carryTo: [BUCKET] }, "Harbour, then carried to South bucket"],
    [
      { beside: [QUAY], carryTo: [BUCKET], whenAway: "others" },
      "Harbour and at the same time Quay, then carried to South bucket; while it is absent, runs use the others",
    ],
  ])("%j", (more, sentence) => {
    expect(whereSentence(where(more), (id) => NAMES[id]!)).toBe(sentence);
  });

  it("goes to the others only where that is said", () => {
    const both = { beside: [QUAY], carryTo: [BUCKET] };
    expect(furtherDepots(where(both))).toEqual([QUAY, BUCKET]);
    expect(runDepots(where(both))).toEqual([HARBOUR]);
    expect(runDepots(where({ ...both, whenAway: "others" }))).toEqual([HARBOUR, QUAY, BUCKET]);
  });

  it.each([
    [{ beside: [HARBOUR] }, "beside"],
    [{ carryTo: [QUAY, QUAY] }, "carryTo"],
    [{ beside: [QUAY], carryTo: [QUAY] }, "carryTo"],
    [{ whenAway: "others" }, "whenAway"],
    [{ atOnce: 0 }, "atOnce"],
    [{ beside: ["the big one"] }, "beside.0"],
  ])("refuses %j beside its field", (more, field) => {
    const found = whereClause.safeParse({ depotId: HARBOUR, ...more });
    expect(found.error?.issues[0]?.path.join(".")).toBe(field);
  });
});

describe("Conduct", () => {
  const conduct = (more: object) => conductSentence(conductClause.parse(more));
  it.each([
    [
      {},
      "Compressed fast; as fast as the link allows; a failed run is tried again 2 times, 10 minutes apart; a drill every 30 days",
    ],
    [
      { compression: "none", retries: 0, drillDays: null },
      "Not compressed; as fast as the link allows; a failed run is not tried again; no drills",
    ],
    [
      { compression: "strong", retries: 1, retryMinutes: 5, drillDays: 1, snapshot: "required" },
      "Compressed strongly; as fast as the link allows; a snapshot first, or the run fails; a failed run is tried again once, 5 minutes apart; a drill every day",
    ],
    [
      {
        before: { line: "systemctl stop ledger", seconds: 60, failing: "fail" },
        after: { line: "systemctl start ledger", seconds: 60, failing: "caution" },
        snapshot: "none",
        drillDays: 7,
      },
      "Compressed fast; as fast as the link allows; files are read as they are; first “systemctl stop ledger”; afterwards “systemctl start ledger”; a failed run is tried again 2 times, 10 minutes apart; a drill every 7 days",
    ],
  ])("%j", (more, sentence) => {
    expect(conduct(more)).toBe(sentence);
  });

  const limits = conductClause.parse({
    bandwidth: [
      { kibPerSecond: 4096 },
      { kibPerSecond: 512, hours: { days: [1, 2, 3, 4, 5], from: "08:00", to: "18:00" } },
      { kibPerSecond: 1536, hours: { days: [], from: "12:00", to: "13:00" } },
    ],
  }).bandwidth;

  it("says limits of the link in the unit that fits", () => {
    expect(bandwidthWords(limits)).toMatch(
      /^4 MiB\/s, 512 KiB\/s .*08:00.*18:00.*, 1\.5 MiB\/s .*12:00.*13:00/,
    );
  });

  it.each([
    // a Thursday and a Sunday, by the clock of the zone
    ["2026-11-26T07:59:00Z", "UTC", 4096],
    ["2026-11-26T08:00:00Z", "UTC", 512],
    ["2026-11-26T12:30:00Z", "UTC", 512],
    ["2026-11-26T18:00:00Z", "UTC", 4096],
    ["2026-11-29T10:00:00Z", "UTC", 4096],
    ["2026-11-29T12:30:00Z", "UTC", 1536],
    ["2026-11-25T19:30:00Z", "Pacific/Auckland", 512],
  ])("holds the lowest that counts at %s in %s", (at, zone, kib) => {
    expect(capAt(limits, zone, new Date(at))).toBe(kib * 1024);
  });

  it("has no limit where none is set", () => {
    expect(capAt([], "UTC", new Date())).toBeNull();
    expect(capAt(limits.slice(1, 2), "UTC", new Date("2026-11-29T10:00:00Z"))).toBeNull();
  });
});

describe("Notices", () => {
  const webhook = "0b9e6a52-5b44-4a4e-8a0e-0f3f3a1d1a09";
  const notices = (more: object) => noticesSentence(noticesClause.parse(more));
  it.each([
    [{}, "Shown in the console only"],
    [{ on: ["failed"] }, "Shown in the console only"],
    [
      { on: ["failed", "missed"], mail: ["desk@lanternfold.example"] },
      "failed, missed to desk@lanternfold.example, once for each cause",
    ],
    [
      {
        on: ["failed"],
        mail: ["desk@lanternfold.example"],
        webhooks: [webhook],
        digestAt: "07:15",
        quiet: { from: "22:00", to: "06:00" },
      },
      "failed to desk@lanternfold.example, a webhook, in one message at 07:15; quiet from 22:00 to 06:00",
    ],
    [{ on: ["caution"], webhooks: [webhook, HARBOUR] }, "caution to 2 webhooks, once for each cause"],
  ])("%j", (more, sentence) => {
    expect(notices(more)).toBe(sentence);
  });
});

describe("When", () => {
  const daily = { schedules: [{ rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30" }], targetHours: 26 };
  const when = (more: object) => whenSentence(whenClause.parse({ ...daily, ...more }));
  it.each([
    [{}, /21:30; no recovery point older than 26 hours$/],
    [{ targetHours: 1 }, /older than 1 hour$/],
    [{ spreadMinutes: 20 }, /; spread over 20 minutes; no/],
    [{ stopAfterHours: 0.5 }, /; finished or not, stop after 30 minutes; no/],
    [{ stopAfterHours: 2 }, /stop after 2 hours/],
    [{ missed: "next" }, /; a missed time waits for the next; no/],
    [{ missed: "note" }, /; a missed time is only noted; no/],
    [{ schedules: [], after: HARBOUR }, /^After another policy's runs; no/],
    [{ after: HARBOUR }, /21:30, and after another policy's runs; no/],
  ])("%j", (more, sentence) => {
    expect(when(more)).toMatch(sentence);
  });
});
