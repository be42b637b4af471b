import { describe, expect, it } from "vitest";
import { clauseSentence, clausesSchema, PLAIN_CLAUSES, readClauses } from "./clauses";
import { zoneSchema } from "./zone";

const clauses = clausesSchema.parse({
  what: { files: { folders: ["/home"], exclude: ["*.mp4"] } },
  when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=21;BYMINUTE=30" }], targetHours: 24 },
  howLong: { kind: "days", days: 30 },
  where: { depotId: "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10" },
  ...PLAIN_CLAUSES,
});
const problems = (change: object) =>
  clausesSchema
    .safeParse({ ...clauses, ...change })
    .error?.issues.map((issue) => [issue.path.join("."), issue.message]);

describe("clauses at the edge", () => {
  it.each([
    [{ what: {} }, "what"],
    [{ what: { mail: { folders: ["Inbox"] } } }, "what.mail.folders.0"],
    [{ what: { mail: { exclude: ["/*"] } } }, "what.mail.exclude"],
    [{ what: { mail: { excludeRoles: ["inbox"] } } }, "what.mail.excludeRoles.0"],
    [
      { what: { files: { folders: ["/srv"] }, mail: { receivedSince: "last year" } } },
      "what.mail.receivedSince",
    ],
    [{ what: { files: { folders: ["home"] } } }, "what.files.folders.0"],
    [{ what: { files: { folders: ["/srv/../etc"] } } }, "what.files.folders.0"],
    [{ what: { files: { folders: [] } } }, "what.files.folders"],
    [{ what: { files: { folders: ["/srv"], exclude: [""] } } }, "what.files.exclude.0"],
    [{ what: { files: { folders: ["/srv"], include: [" "] } } }, "what.files.include.0"],
    [{ what: { files: { folders: ["/srv"], exclude: ["x".repeat(70_000)] } } }, "what.files.exclude.0"],
    [{ what: { files: { folders: ["/"], exclude: ["/*"] } } }, "what.files.exclude"],
    [{ what: { files: { folders: ["@documents"], exclude: ["**"] } } }, "what.files.exclude"],
    [
      { what: { files: { folders: ["/srv"], include: ["*.pdf"], exclude: ["*.bak", "*.pdf"] } } },
      "what.files.exclude",
    ],
    [{ when: { schedules: [{ rule: "FREQ=DAILY;BYHOUR=25" }], targetHours: 24 } }, "when.schedules.0.rule"],
    [{ when: { schedules: [{ rule: "every evening" }], targetHours: 24 } }, "when.schedules.0.rule"],
    [{ when: { windows: [{ from: "20:00", to: "20:00" }], targetHours: 24 } }, "when.windows.0.to"],
    [{ when: { stopAfterHours: 0, targetHours: 24 } }, "when.stopAfterHours"],
    [{ conduct: { bandwidth: [{ kibPerSecond: 1 }] } }, "conduct.bandwidth.0.kibPerSecond"],
    [{ conduct: { before: { line: " ", seconds: 5, failing: "fail" } } }, "conduct.before.line"],
    [{ notices: { on: ["failed"], mail: ["nobody"] } }, "notices.mail.0"],
    [{ notices: { on: [], mail: ["a@desk.example"] } }, "notices.on"],
    [{ notices: { on: ["failed"], quiet: { from: "22:00", to: "22:00" } } }, "notices.quiet.to"],
    [{ howLong: { kind: "last", count: 4001 } }, "howLong.count"],
    [{ where: { depotId: "the big one" } }, "where.depotId"],
  ])("names the field that is wrong in %j", (change, path) => {
    const found = problems(change)!;
    expect(found[0]![0]).toBe(path);
    expect(found[0]![1]!.length).toBeGreaterThan(10);
  });

  it.each(["*", "**", "/**", "**/*", "/srv", "/srv/", "/srv/**", "srv", "/srv/*"])(
    "refuses the pattern %s, which leaves everything out",
    (pattern) => {
      const found = problems({ what: { files: { folders: ["/srv", "/srv/www/"], exclude: [pattern] } } });
      expect(found).toEqual([
        ["what.files.exclude", "These patterns leave everything out; nothing would be kept."],
      ]);
    },
  );

  it.each([
    { folders: ["/srv", "/home"], exclude: ["/srv"] },
    { folders: ["/srv"], exclude: ["*.*"] },
    { folders: ["/srv"], exclude: ["/srv/a", "a", ".*"] },
    { folders: ["/srv"], exclude: ["/srv/www/**"] },
    { folders: ["@documents"], exclude: ["/home/**"] },
    { folders: ["/srv"], include: ["*.pdf", "*.odt"], exclude: ["*.pdf"] },
  ])("lets patterns stand that leave something, as in %j", (what) => {
    expect(problems({ what: { files: what } })).toBeUndefined();
  });

  it("refuses a zone that does not exist", () => {
    expect(zoneSchema.safeParse("Europe/Merrow").success).toBe(false);
    expect(zoneSchema.safeParse("Pacific/Auckland").success).toBe(true);
  });
});

describe("clauses as they are read", () => {
  it("understands schedules that were written down before they were rules", () => {
    const { conduct: _c, notices: _n, ...older } = clauses;
    const read = (schedule: object) =>
      readClauses({ ...older, when: { schedule, targetHours: 24 } }).when.schedules.map(({ rule }) => rule);
    expect(read({ kind: "weekly", at: "21:30", days: [5, 1] })).toEqual([
      "FREQ=WEEKLY;BYDAY=MO,FR;BYHOUR=21;BYMINUTE=30",
    ]);
    expect(read({ kind: "every", hours: 12 })).toEqual(["FREQ=HOURLY;INTERVAL=12"]);
    expect(read({ kind: "on-demand" })).toEqual([]);
  });

  it("says every clause as a sentence", () => {
    const names = ["what", "when", "howLong", "conduct", "notices"] as const;
    expect(names.map((name) => clauseSentence(name, clauses))).toEqual([
      "Everything in /home, without *.mp4 and without system files",
      "Every day at 21:30; no recovery point older than 24 hours",
      "30 days",
      "Compressed fast; as fast as the link allows; a failed run is tried again 2 times, 10 minutes apart; a drill every 30 days",
      "Shown in the console only",
    ]);
  });
});
