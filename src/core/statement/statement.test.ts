import { describe, expect, it } from "vitest";
import { composeStatement, type StatementFacts, statementCsv } from "./statement";

const facts: StatementFacts = {
  clientName: "Kestrin Aquaculture",
  zone: "Pacific/Auckland",
  from: new Date("2026-11-01T11:00:00Z"),
  to: new Date("2026-11-04T11:00:00Z"),
  sources: [
    {
      id: "s1",
      name: "kest-srv-01 files",
      site: "Hatchery",
      state: "kept",
      targetHours: 24,
      newestPoint: new Date("2026-11-04T09:00:00Z"),
      points: 3,
      bytes: 5000,
      added: 700,
    },
    {
      id: "s2",
      name: '=cmd "files"',
      site: "Office, west",
      state: "exposed",
      targetHours: 24,
      newestPoint: null,
      points: 0,
      bytes: 0,
      added: 0,
    },
  ],
  runs: [
    {
      sourceId: "s1",
      kind: "backup",
      ended: new Date("2026-11-02T09:00:00Z"),
      outcome: "clean",
      cause: null,
      items: 4,
      bytes: 10,
      by: null,
    },
    {
      sourceId: "s1",
      kind: "backup",
      ended: new Date("2026-11-02T12:00:00Z"),
      outcome: "caution",
      cause: "A file vanished while it was read",
      items: 4,
      bytes: 10,
      by: null,
    },
    {
      sourceId: "s2",
      kind: "backup",
      ended: new Date("2026-11-03T09:00:00Z"),
      outcome: "failed",
      cause: "The depot is full",
      items: 0,
      bytes: 0,
      by: null,
    },
    {
      sourceId: "s1",
      kind: "restore",
      ended: new Date("2026-11-03T10:00:00Z"),
      outcome: "clean",
      cause: null,
      items: 2,
      bytes: 2048,
      by: "Ines",
    },
  ],
  spaceUsed: 9000,
  quota: 100000,
};

describe("a statement", () => {
  const statement = composeStatement(facts);
  it("counts each run on its day in the client's zone", () => {
    expect(statement.days.map((day) => day.day)).toEqual(["2026-11-02", "2026-11-03", "2026-11-04"]);
    expect(statement.days[0]!.outcomes).toMatchObject({ clean: 1, caution: 0 });
    expect(statement.days[1]!.outcomes).toMatchObject({ caution: 1, failed: 1 });
  });
  it("says how the client stands, in words", () => {
    expect(statement.headline).toBe("1 of 2 sources is kept within target; 1 exposed.");
    expect(statement.exceptions[0]!.sentence).toBe(
      "kest-srv-01 files: A file vanished while it was read. The recovery point was made all the same.",
    );
    expect(statement.restores[0]!.sentence).toBe("2 items, 2.00 KiB, clean, asked for by Ines");
  });
  it("says once what happened on several days", () => {
    const missed = (day: number) => ({
      ...facts.runs[2]!,
      outcome: "missed" as const,
      cause: "The machine did not answer",
      ended: new Date(Date.UTC(2026, 10, day, 9)),
    });
    const { exceptions } = composeStatement({ ...facts, runs: [missed(2), missed(3), missed(4)] });
    expect(exceptions).toHaveLength(1);
    expect(exceptions[0]!.day).toBe("2026-11-02 to 2026-11-04, 3 days");
  });
  it("writes CSV that quotes what must be quoted and starts no formula", () => {
    const csv = statementCsv(statement);
    expect(csv).toContain(`"'=cmd ""files""","Office, west",exposed,24,,0,0,0\r\n`);
    expect(csv).toContain("2026-11-03,0,1,1,0,0\r\n");
    expect(csv).toContain("9000,700,100000\r\n");
  });
});
