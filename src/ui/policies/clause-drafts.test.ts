import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { type Clauses, clausesSchema, PLAIN_CLAUSES } from "@/core/policy/clauses";
import { FAILING_MEANS, SNAPSHOTS } from "@/core/policy/conduct";
import { NOTICE_OUTCOMES } from "@/core/policy/notices";
import { parseRule } from "@/core/schedule/rule";
import type { Weekday } from "@/core/schedule/weekday";
import { conductDraft, conductOf } from "./conduct-fields";
import { howLongClause, howLongDraft } from "./how-long-fields";
import { noticesDraft, noticesOf } from "./notices-fields";
import { newSchedule, ruleOf, type ScheduleDraft, whenDraft, whenOf } from "./schedule-draft";
import { whatDraft, whatOf } from "./what-fields";
import { whereDraft, whereOf } from "./where-fields";

/** As the sheet reads numbers. */
const number = (text: string): number => (/^\d+$/.test(text.trim()) ? Number(text) : Number.NaN);
const two = (value: number): string => String(value).padStart(2, "0");

const ids = fc.uuid({ version: 4 });
const time = fc
  .tuple(fc.nat({ max: 23 }), fc.nat({ max: 59 }))
  .map(([hour, minute]) => `${two(hour)}:${two(minute)}`);
const weekday = fc.integer({ min: 1, max: 7 }) as fc.Arbitrary<Weekday>;
const weekdays = fc.uniqueArray(weekday, { maxLength: 7 });
const hours = fc.record({ days: weekdays, from: time, to: time }).filter(({ from, to }) => from !== to);
/** A line of a field of lines: nothing around it, and no end of a line within. */
const line = fc.stringMatching(/^[a-zA-Z0-9 äöü*._-]{1,20}$/).map((text) => text.trim() || "x");
const some = (most: number, least = 0) => fc.integer({ min: least, max: most });

const rule = fc.oneof(
  time.map((at) => `FREQ=DAILY;BYHOUR=${Number(at.slice(0, 2))};BYMINUTE=${Number(at.slice(3))}`),
  fc
    .tuple(
      fc.uniqueArray(fc.constantFrom("MO", "TU", "WE", "TH", "FR", "SA", "SU"), { minLength: 1 }),
      some(23),
      some(59),
    )
    .map(([days, hour, minute]) => `FREQ=WEEKLY;BYDAY=${days.join(",")};BYHOUR=${hour};BYMINUTE=${minute}`),
  fc
    .tuple(fc.constantFrom("1", "15", "31", "-1", "-3"), some(23), some(59))
    .map(([day, hour, minute]) => `FREQ=MONTHLY;BYMONTHDAY=${day};BYHOUR=${hour};BYMINUTE=${minute}`),
  fc
    .tuple(fc.constantFrom("1SA", "2MO", "-1SU"), some(23), some(59))
    .map(([day, hour, minute]) => `FREQ=MONTHLY;BYDAY=${day};BYHOUR=${hour};BYMINUTE=${minute}`),
  fc
    .tuple(fc.constantFrom("MINUTELY", "HOURLY"), some(48, 1), some(23), some(22))
    .map(([unit, every, from, more]) => {
      const span = Array.from({ length: more + 1 }, (_, i) => (from + i) % 24).join(",");
      return `FREQ=${unit};INTERVAL=${every};BYHOUR=${span}`;
    }),
  fc.constantFrom(
    "FREQ=HOURLY;INTERVAL=6",
    "FREQ=HOURLY;INTERVAL=2;BYHOUR=9,8",
    "FREQ=DAILY;INTERVAL=2;BYHOUR=3;BYMINUTE=0",
    "FREQ=DAILY;BYHOUR=3,15;BYMINUTE=0",
    "FREQ=WEEKLY;INTERVAL=2;WKST=SU;BYDAY=SU;BYHOUR=3;BYMINUTE=0",
    "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1;BYHOUR=23;BYMINUTE=0",
    "FREQ=MONTHLY;BYDAY=MO;BYHOUR=4;BYMINUTE=5",
    "FREQ=YEARLY;BYMONTH=1;BYMONTHDAY=2;BYHOUR=4;BYMINUTE=5",
  ),
);

const fileWhat = fc.record({
  folders: fc.array(
    line.map((text) => `/${text}`),
    { minLength: 1, maxLength: 4 },
  ),
  include: fc.array(line, { maxLength: 3 }),
  exclude: fc.array(
    line.map((text) => `${text}.tmp`),
    { maxLength: 3 },
  ),
  rubbish: fc.boolean(),
  largestBytes: fc.option(fc.oneof(some(2 ** 50, 1), fc.constantFrom(1024, 1_500_000_000, 5 * 1024 ** 3))),
  changedWithinDays: fc.option(some(36_500, 1)),
});
const mailWhat = fc.record({
  folders: fc.array(
    line.map((text) => `/${text}`),
    { maxLength: 4 },
  ),
  exclude: fc.array(
    line.map((text) => `${text}.old`),
    { maxLength: 3 },
  ),
  excludeRoles: fc.uniqueArray(fc.constantFrom("drafts", "junk", "trash")),
  calendars: fc.boolean(),
  contacts: fc.boolean(),
  receivedSince: fc.option(fc.constantFrom("2024-02-29", "2026-11-30")),
});
const clauses = fc
  .record({
    what: fc.oneof(
      fc.record({ files: fileWhat }),
      fc.record({ mail: mailWhat }),
      fc.record({ files: fileWhat, mail: mailWhat }),
    ),
    when: fc.record({
      schedules: fc.array(fc.record({ rule, pass: fc.constantFrom("incremental", "full") }), {
        maxLength: 4,
      }),
      windows: fc.array(hours, { maxLength: 3 }),
      stopAfterHours: fc.option(some(1680, 1).map((tenths) => tenths / 10)),
      missed: fc.constantFrom("at-once", "next", "note"),
      after: fc.option(ids),
      spreadMinutes: some(720),
      targetHours: some(8760, 1),
    }),
    howLong: fc.oneof(
      fc.record({ kind: fc.constant("last"), count: some(4000, 1) }),
      fc.record({ kind: fc.constant("days"), days: some(36_500, 1), deleted: fc.constant("last-copy") }),
      fc.record({ kind: fc.constant("first-of"), count: some(4000, 1), days: some(36_500, 1) }),
      fc.record({
        kind: fc.constant("tiers"),
        deleted: fc.constant("last-copy"),
        tiers: fc.record({
          daily: some(700, 1),
          weekly: some(700),
          monthly: some(700),
          quarterly: some(700),
          yearly: some(700),
        }),
      }),
      fc.record({ kind: fc.constant("for-ever") }),
    ),
    where: fc.uniqueArray(ids, { minLength: 2, maxLength: 5 }).chain(([depotId, ...further]) =>
      fc.record({
        depotId: fc.constant(depotId),
        beside: fc.constant(further.slice(0, 2)),
        carryTo: fc.constant(further.slice(2)),
        atOnce: some(5, 1),
        whenAway: fc.constantFrom("wait", "others"),
      }),
    ),
    conduct: fc.record({
      compression: fc.constantFrom("none", "fast", "strong"),
      bandwidth: fc.array(fc.record({ hours: fc.option(hours), kibPerSecond: some(10_000_000, 8) }), {
        maxLength: 3,
      }),
      before: fc.option(
        fc.record({ line, seconds: some(86_400, 1), failing: fc.constantFrom(...FAILING_MEANS) }),
      ),
      after: fc.option(
        fc.record({ line, seconds: some(86_400, 1), failing: fc.constantFrom(...FAILING_MEANS) }),
      ),
      retries: some(10),
      retryMinutes: some(1440, 1),
      snapshot: fc.constantFrom(...SNAPSHOTS),
      drillDays: fc.option(some(366, 1)),
    }),
    notices: fc.record({
      on: fc.subarray([...NOTICE_OUTCOMES], { minLength: 1 }),
      mail: fc.array(
        line.map((text) => `${text.replace(/[^a-z]/g, "") || "a"}@vossel.example`),
        { maxLength: 3 },
      ),
      webhooks: fc.array(ids, { maxLength: 2 }),
      digestAt: fc.option(time),
      quiet: fc.option(fc.record({ from: time, to: time }).filter(({ from, to }) => from !== to)),
    }),
  })
  .map((written) => clausesSchema.safeParse(written))
  .filter((result) => result.success)
  .map((result) => result.data as Clauses);

const PLAIN_WHEN: Clauses["when"] = clausesSchema.shape.when.parse({ targetHours: 24 });

/** What a rule says, however it is written. */
const saying = (text: string) => ({ ...parseRule(text), weekStarts: /WKST=(\w\w)/.exec(text)?.[1] });

/** What the sheet saves where nobody typed anything. */
function savedUntouched(of: Partial<Clauses>): Record<string, unknown> {
  return {
    what: whatOf(whatDraft(of.what)),
    when: whenOf(whenDraft(of.when), number),
    howLong: howLongClause(howLongDraft(of.howLong), number),
    where: whereOf(whereDraft(of.where, "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10"), number),
    conduct: conductOf(conductDraft(of.conduct), number),
    notices: noticesOf(noticesDraft(of.notices)),
  };
}

describe("the fields of a policy's sheet", () => {
  it("say again what the clauses say, whatever they are", () => {
    fc.assert(
      fc.property(clauses, (of) => {
        const saved = clausesSchema.parse(savedUntouched(of));
        const plain = (one: Clauses) => ({
          ...one,
          when: {
            ...one.when,
            schedules: one.when.schedules.map(({ rule: text, pass }) => ({ pass, says: saying(text) })),
          },
        });
        expect(plain(saved)).toEqual(plain(of));
      }),
      { numRuns: 400 },
    );
  });

  it("begin with clauses that can be saved", () => {
    expect(() => clausesSchema.parse(savedUntouched({}))).not.toThrow();
    expect(() => clausesSchema.parse({ ...savedUntouched({}), ...PLAIN_CLAUSES })).not.toThrow();
  });

  it("keep what was typed wrong, for the check to say where", () => {
    const wrong = (draft: Partial<ScheduleDraft>) => {
      const when = { ...whenDraft(undefined), schedules: [{ ...newSchedule(), ...draft }] };
      const result = clausesSchema.partial().safeParse({ when: whenOf(when, number) });
      return result.success ? [] : result.error.issues.map((issue) => issue.path.join("."));
    };
    for (const draft of [
      { at: "25:00" },
      { at: "half past nine" },
      { kind: "weekly", at: "9:61" },
      { kind: "weekly", at: "" },
      { kind: "monthly", monthDay: "32" },
      { kind: "interval", every: "often" },
      { kind: "interval", fromHour: "8", toHour: "25" },
      { kind: "interval", fromHour: "8", toHour: "late" },
      { kind: "interval", fromHour: "24", toHour: "3" },
      { kind: "interval", fromHour: "-2", toHour: "3" },
      { kind: "interval", fromHour: "8", toHour: "4000000000" },
      { kind: "interval", fromHour: "morning" },
      { kind: "rule", rule: "every day" },
    ] as Partial<ScheduleDraft>[])
      expect(wrong(draft), JSON.stringify(draft)).toEqual(["when.schedules.0.rule"]);
    expect(wrong({ kind: "interval", every: "4", fromHour: "8", toHour: "18" })).toEqual([]);
    const typed = (change: object) => {
      const when = whenOf({ ...whenDraft(undefined), ...change }, number);
      const result = clausesSchema.partial().safeParse({ when });
      return result.success ? [] : result.error.issues.map((issue) => issue.path.join("."));
    };
    expect(typed({ stopAfter: "2,5" })).toEqual([]);
    expect(typed({ stopAfter: "long" })).toEqual(["when.stopAfterHours"]);
    expect(typed({ target: "" })).toEqual(["when.targetHours"]);
    expect(typed({ spread: "-5" })).toEqual(["when.spreadMinutes"]);
    const { files, ...others } = whatDraft(undefined);
    const what = whatOf({ ...others, files: { on: true, part: { ...files.part, largest: "big" } } });
    expect((what as { files: { largestBytes: number } }).files.largestBytes).toBeNaN();
  });

  it("write the rule that is meant", () => {
    const says = (draft: Partial<ScheduleDraft>) => ruleOf({ ...newSchedule(), ...draft });
    expect(says({ at: "07:05" })).toBe("FREQ=DAILY;BYHOUR=7;BYMINUTE=5");
    expect(says({ kind: "weekly", at: "21:30", days: [1, 5] })).toBe(
      "FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=21;BYMINUTE=30",
    );
    expect(says({ kind: "monthly", at: "02:00", monthDay: "last" })).toBe(
      "FREQ=MONTHLY;BYMONTHDAY=-1;BYHOUR=2;BYMINUTE=0",
    );
    expect(says({ kind: "monthly", at: "02:00", monthDay: "1 6" })).toBe(
      "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=2;BYMINUTE=0",
    );
    expect(says({ kind: "interval", every: "15", unit: "MINUTELY" })).toBe("FREQ=MINUTELY;INTERVAL=15");
    expect(says({ kind: "interval", every: "2", fromHour: "20", toHour: "23" })).toBe(
      "FREQ=HOURLY;INTERVAL=2;BYHOUR=20,21,22",
    );
    expect(says({ kind: "interval", every: "2", fromHour: "21", toHour: "2" })).toBe(
      "FREQ=HOURLY;INTERVAL=2;BYHOUR=21,22,23,0,1",
    );
    expect(says({ kind: "interval", every: "2", fromHour: "0", toHour: "24" })).toBe(
      "FREQ=HOURLY;INTERVAL=2",
    );
  });

  it("show a rule as a rule where they have no choice for it", () => {
    const kindOf = (text: string) =>
      whenDraft({ ...PLAIN_WHEN, schedules: [{ rule: text, pass: "incremental" }] }).schedules[0]!.kind;
    const at = "BYHOUR=2;BYMINUTE=0";
    for (const day of ["BYMONTHDAY=28", "BYMONTHDAY=-1", "BYDAY=4SU", "BYDAY=-1FR"])
      expect([day, kindOf(`FREQ=MONTHLY;${day};${at}`)]).toEqual([day, "monthly"]);
    for (const day of [
      "BYMONTHDAY=31",
      "BYMONTHDAY=-3",
      "BYMONTHDAY=1,15",
      "BYDAY=5MO",
      "BYDAY=-2SU",
      "BYDAY=MO",
    ])
      expect([day, kindOf(`FREQ=MONTHLY;${day};${at}`)]).toEqual([day, "rule"]);
    expect(kindOf("what nobody can read")).toBe("rule");
  });
});
