import { describe, expect, it } from "vitest";
import {
  composeStatement,
  exceptionKey,
  type StatementAlarm,
  type StatementFacts,
  type StatementRuns,
  type StatementSource,
  statementCsv,
} from "./statement";

const source = (over: Partial<StatementSource>): StatementSource => ({
  id: "s1",
  name: "kest-srv-01 files",
  site: "Hatchery",
  state: "kept",
  targetHours: 24,
  newestPoint: new Date("2026-11-04T09:00:00Z"),
  points: 3,
  bytes: 5000,
  added: 700,
  since: new Date("2026-10-01T00:00:00Z"),
  newestBefore: new Date("2026-11-01T09:00:00Z"),
  outcomeBefore: "clean",
  nextRun: new Date("2026-11-05T09:00:00Z"),
  ...over,
});
const runs = (over: Partial<StatementRuns>): StatementRuns => ({
  sourceId: "s1",
  day: "2026-11-02",
  outcome: "clean",
  cause: null,
  count: 1,
  last: new Date("2026-11-02T09:00:00Z"),
  ...over,
});
const facts: StatementFacts = {
  clientName: "Kestrin Aquaculture",
  zone: "Pacific/Auckland",
  from: new Date("2026-11-01T11:00:00Z"),
  to: new Date("2026-11-04T11:00:00Z"),
  now: new Date("2026-11-04T10:00:00Z"),
  sources: [
    source({}),
    source({
      id: "s2",
      name: '=cmd "files"',
      site: "Office, west",
      state: "exposed",
      newestPoint: null,
      newestBefore: null,
      outcomeBefore: null,
      nextRun: null,
      points: 0,
      bytes: 0,
      added: 0,
      since: new Date("2026-11-02T20:00:00Z"),
    }),
  ],
  runs: [
    runs({ count: 2 }),
    runs({
      day: "2026-11-03",
      outcome: "caution",
      cause: "A file was removed while it was read",
      last: new Date("2026-11-02T12:00:00Z"),
    }),
    runs({ sourceId: "s2", day: "2026-11-03", outcome: "failed", cause: "The depot is full" }),
  ],
  pointDays: [{ sourceId: "s1", day: "2026-11-03", newest: new Date("2026-11-02T12:00:00Z") }],
  alarms: [],
  restores: [
    {
      sourceId: "s1",
      at: new Date("2026-11-03T10:00:00Z"),
      outcome: "clean",
      items: 2,
      bytes: 2048,
      by: "Ines",
    },
  ],
  checks: [{ at: new Date("2026-11-03T10:00:00Z"), outcome: "clean" }],
  drills: [
    {
      sourceId: "s1",
      at: new Date("2026-11-03T10:00:00Z"),
      outcome: "clean",
      cause: null,
      figures: {
        depotName: "Harbour",
        moment: "2026-11-03T08:00:00Z",
        files: 40,
        ofFiles: 40,
        bytes: 4096,
        differing: 0,
        milliseconds: 900,
        evidence: "ab12",
      },
    },
    {
      sourceId: "s2",
      at: new Date("2026-11-03T11:00:00Z"),
      outcome: "failed",
      cause: "The depot cannot be reached",
      figures: {},
    },
  ],
  words: [],
  spaceUsed: 9000,
  quota: 100000,
};

describe("a statement", () => {
  const statement = composeStatement(facts);
  it("counts each run on its day in the client's zone", () => {
    expect(statement.days.map((day) => day.day)).toEqual(["2026-11-02", "2026-11-03", "2026-11-04"]);
    expect(statement.days[0]!.outcomes).toMatchObject({ clean: 2, caution: 0 });
    expect(statement.days[1]!.outcomes).toMatchObject({ caution: 1, failed: 1 });
  });
  it("tells what drills proved, and of those that failed why", () => {
    expect(statement.drilled).toBe(
      "2 drills: 1 of 2 sources was restored on purpose and came back as it was; 1 drill failed.",
    );
    // the moment in the client's zone
    expect(statement.drills.map(({ sentence, evidence }) => [sentence, evidence])).toEqual([
      [
        "the point of 2026-11-03 21:00 from Harbour: 40 files, 4.00 KiB, all of the point, in under a second; every byte as it was",
        "ab12",
      ],
      ["The depot cannot be reached", null],
    ]);
    expect(composeStatement({ ...facts, drills: [] }).drilled).toBe("No drill was done in this period.");
  });
  it("tells the state at the end of each day, and none before a source was looked after", () => {
    const [first, second] = statement.sources;
    // the first day ends 26 hours after the point of 9:00 the day before; the second after a caution
    expect(first!.states).toEqual(["slipping", "slipping", "kept"]);
    expect(second!.states).toEqual([null, "never kept", "exposed"]);
  });
  it("takes no state from a run that a person stopped", () => {
    const stopped = runs({ day: "2026-11-03", outcome: "stopped", last: new Date("2026-11-02T13:00:00Z") });
    const states = composeStatement({ ...facts, runs: [...facts.runs, stopped] }).sources[0]!.states;
    expect(states).toEqual(statement.sources[0]!.states);
    // the caution of that day still counts, and not only because nothing else is known
    expect(states[1]).toBe("slipping");
  });
  it("tells of a period that is over the states it ended with, and of days to come none", () => {
    const over = composeStatement({ ...facts, now: new Date("2026-11-20T00:00:00Z") });
    expect(over.over).toBe(true);
    expect(over.sources.map((one) => one.state)).toEqual(["exposed", "never kept"]);
    expect(over.headline).toBe("0 of 2 sources are kept within target; 1 exposed, 1 never kept.");
    const early = composeStatement({ ...facts, now: new Date("2026-11-02T12:00:00Z") });
    expect(early.sources[0]!.states).toEqual(["slipping", "kept", null]);
  });
  it("puts to an exception the words that were written to it in its days, whatever the period", () => {
    const about = exceptionKey("failed", "The depot is full");
    const word = {
      id: "w1",
      about,
      side: "provider",
      by: "Ines",
      at: facts.now,
      text: "More space since.",
    } as const;
    const { exceptions } = composeStatement({
      ...facts,
      words: [
        { ...word, day: "2026-11-03" },
        { ...word, day: "2026-10-03", text: "Long ago." },
      ],
    });
    expect(exceptions.map((one) => one.words.map(({ text }) => text))).toEqual([[], ["More space since."]]);
  });
  it("says what comes next, and how long the space lasts at this pace", () => {
    expect(statement.nextSteps).toEqual([
      "The next run is planned for 2026-11-05 22:00; one source has one planned.",
      'No run is planned for =cmd "files".',
      "At the pace of this period the space granted lasts for 390 days.",
    ]);
    expect(statement.checks).toBe("1 check of the recovery points: nothing was found damaged or missing.");
    const bad = composeStatement({
      ...facts,
      checks: [...facts.checks, { ...facts.checks[0]!, outcome: "damage" }],
    });
    expect(bad.checks).toBe("2 checks of the recovery points: 1 found damage.");
  });
  it("says how the client stands, in words", () => {
    expect(statement.headline).toBe("1 of 2 sources is kept within target; 1 exposed.");
    expect(statement.exceptions[0]!.sentence).toBe(
      "kest-srv-01 files: A file was removed while it was read. The recovery point exists nevertheless.",
    );
    expect(statement.restores[0]!.sentence).toBe("2 items, 2.00 KiB, clean, requested by Ines");
  });
  it("says once what happened on several days and to several sources", () => {
    const missed = (sourceId: string, day: string) =>
      runs({ sourceId, day, outcome: "missed", cause: "The machine did not respond" });
    const { exceptions } = composeStatement({
      ...facts,
      runs: [missed("s1", "2026-11-02"), missed("s2", "2026-11-02"), missed("s1", "2026-11-04")],
    });
    expect(exceptions).toHaveLength(1);
    expect(exceptions[0]!.when).toBe("2026-11-02 to 2026-11-04, 2 days");
    expect(exceptions[0]!.sentence).toContain(
      '=cmd "files", kest-srv-01 files: The machine did not respond.',
    );
  });
  it("writes CSV that quotes what must be quoted and starts no formula", () => {
    const csv = statementCsv(statement);
    expect(csv).toContain(`"'=cmd ""files""","Office, west",exposed,24,,0,0,0\r\n`);
    expect(csv).toContain("2026-11-03,0,1,1,0,0\r\n");
    expect(csv).toContain("9000,700,100000\r\n");
  });
});

describe("an alarm of mass encryption", () => {
  const alarm: StatementAlarm = {
    sourceId: "s1",
    at: new Date("2026-11-02T20:00:00Z"),
    changedShare: 0.84,
    denserShare: 0.97,
    folder: "/home",
    before: new Date("2026-11-02T09:00:00Z"),
    liftedAt: null,
    liftedBy: null,
  };
  const told = (change: Partial<StatementAlarm>) =>
    composeStatement({
      ...facts,
      sources: [source({ state: "exposed" })],
      alarms: [{ ...alarm, ...change }],
    });

  it("leads the statement, in words for the client, and lets no day count as kept while it stands", () => {
    const statement = told({});
    expect(statement.headline).toMatch(/^Possible encryption attack on .+: many files changed at once/);
    expect(statement.alarms[0]).toMatchObject({ standing: true });
    const text = statement.alarms[0]!.sentences.join(" ");
    expect(text).toContain(
      "84 % of its files had changed since the run before, and 97 % of those can no longer be read",
    );
    expect(text).toContain("Most are in /home.");
    // in the client's zone
    expect(text).toContain("The files of 2 November 2026, 22:00 and before are kept");
    expect(text).toContain("not been dismissed yet");
    expect(text).toContain("were restored on");
    expect(statement.sources[0]!.states.slice(1)).not.toContain("kept");
    expect(statementCsv(statement)).toContain("Possible encryption attack");
  });
  it("says who dismissed it and when, and no longer leads the headline then", () => {
    const statement = told({ liftedAt: new Date("2026-11-03T20:00:00Z"), liftedBy: "Ines Marlow" });
    expect(statement.headline).not.toMatch(/attack/);
    expect(statement.alarms[0]).toMatchObject({ standing: false });
    expect(statement.alarms[0]!.sentences.at(-1)).toBe(
      "Ines Marlow reviewed the alarm and dismissed it on 4 November 2026, 09:00.",
    );
  });
});

it("measures growth by the days that have happened", () => {
  const early = { ...facts, quota: 100_000_000, spaceUsed: 0, to: new Date("2026-11-30T11:00:00Z") };
  const next = composeStatement({ ...early, sources: [source({ added: 4_000_000 })] }).nextSteps.join(" ");
  // three days have begun, not thirty: 100 MB at a third of 4 MB a day
  expect(next).toContain("lasts for 75 days");
});
