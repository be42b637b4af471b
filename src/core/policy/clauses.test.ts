import { describe, expect, it } from "vitest";
import { clauseSentence, clausesSchema, consequencesOf, zoneSchema } from "./clauses";

const clauses = clausesSchema.parse({
  what: { folders: ["/home"], exclude: ["*.mp4"] },
  when: { schedule: { kind: "daily", at: "21:30" }, targetHours: 24 },
  howLong: { kind: "days", days: 30 },
  where: { depotId: "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10" },
});
const problems = (change: object) =>
  clausesSchema
    .safeParse({ ...clauses, ...change })
    .error?.issues.map((issue) => [issue.path.join("."), issue.message]);

describe("clauses at the edge", () => {
  it.each([
    [{ what: { folders: ["home"] } }, "what.folders.0"],
    [{ what: { folders: ["/srv/../etc"] } }, "what.folders.0"],
    [{ what: { folders: [] } }, "what.folders"],
    [{ what: { folders: ["/srv"], exclude: ["**"] } }, "what.exclude"],
    [{ when: { schedule: { kind: "daily", at: "25:00" }, targetHours: 24 } }, "when.schedule.at"],
    [
      { when: { schedule: { kind: "weekly", at: "21:00", days: [] }, targetHours: 24 } },
      "when.schedule.days",
    ],
    [{ howLong: { kind: "last", count: 4001 } }, "howLong.count"],
    [{ where: { depotId: "the big one" } }, "where.depotId"],
  ])("names the field that is wrong in %j", (change, path) => {
    const found = problems(change)!;
    expect(found[0]![0]).toBe(path);
    expect(found[0]![1]!.length).toBeGreaterThan(10);
  });

  it("refuses a zone that does not exist", () => {
    expect(zoneSchema.safeParse("Europe/Merrow").success).toBe(false);
    expect(zoneSchema.safeParse("Pacific/Auckland").success).toBe(true);
  });
});

describe("what will follow", () => {
  const now = new Date("2026-11-24T07:30:00Z");
  it("names the next five runs and sees that two clocks differ", () => {
    const far = consequencesOf(clauses, "Pacific/Auckland", "Europe/Lisbon", now);
    expect(far.next).toHaveLength(5);
    expect(far.next[0]!.toISOString()).toBe("2026-11-24T08:30:00.000Z");
    expect(far.zonesDiffer).toBe(true);
    expect(consequencesOf(clauses, "Europe/London", "Europe/Lisbon", now).zonesDiffer).toBe(false);
  });
  it("advises against a schedule that cannot meet its target", () => {
    const weekly = {
      ...clauses,
      when: { schedule: { kind: "weekly", days: [1], at: "21:30" }, targetHours: 24 },
    } as const;
    expect(consequencesOf(weekly, "UTC", "UTC", now).advice[0]).toMatch(/168 hours/);
    expect(consequencesOf(clauses, "UTC", "UTC", now).advice).toEqual([]);
  });
  it("says every clause as a sentence", () => {
    const text = (["what", "when", "howLong"] as const).map((name) => clauseSentence(name, clauses));
    expect(text[0]).toBe("Everything in /home, without *.mp4");
    expect(text[1]).toBe("Every day at 21:30; no recovery point older than 24 hours");
    expect(text[2]).toBe("30 days");
  });
});
