import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { findCauses, type SourceFacts } from "./causes";
import { keptShare, lastNights, nightOf, nightsTable } from "./nights";
import { type ProtectionFacts, protectionState } from "./state";

const now = new Date("2026-11-24T07:31:00Z");
const hoursAgo = (hours: number) => new Date(now.getTime() - hours * 3_600_000);

describe("the state of a source", () => {
  const facts = (change: Partial<ProtectionFacts>): ProtectionFacts => ({
    newestPoint: hoursAgo(10),
    targetHours: 24,
    lastOutcome: "clean",
    paused: false,
    alarm: false,
    ...change,
  });
  it.each<[Partial<ProtectionFacts>, string]>([
    [{}, "kept"],
    [{ newestPoint: hoursAgo(24) }, "kept"],
    [{ newestPoint: hoursAgo(25) }, "slipping"],
    [{ newestPoint: hoursAgo(36) }, "slipping"],
    [{ newestPoint: hoursAgo(37) }, "exposed"],
    [{ lastOutcome: "caution" }, "slipping"],
    [{ lastOutcome: "failed" }, "exposed"],
    [{ lastOutcome: "stopped" }, "kept"],
    [{ newestPoint: null, lastOutcome: "failed" }, "never kept"],
    [{ paused: true, newestPoint: null }, "paused"],
    [{ alarm: true }, "exposed"],
    [{ alarm: true, paused: true }, "exposed"],
    [{ targetHours: null, newestPoint: hoursAgo(9000) }, "kept"],
  ])("%j is %s", (change, state) => expect(protectionState(facts(change), now)).toBe(state));
});

describe("nights", () => {
  it("lets the small hours belong to the evening before, in the client's zone", () => {
    expect(nightOf(new Date("2026-11-24T02:00:00Z"), "UTC")).toBe("2026-11-23");
    expect(nightOf(new Date("2026-11-24T12:00:00Z"), "UTC")).toBe("2026-11-24");
    expect(nightOf(new Date("2026-11-24T02:00:00Z"), "Pacific/Auckland")).toBe("2026-11-24");
    expect(lastNights(now, "UTC", 3)).toEqual(["2026-11-21", "2026-11-22", "2026-11-23"]);
  });
  it("loses no run and invents none", () => {
    const count = fc.record({
      clientId: fc.constantFrom("a", "b"),
      night: fc.constantFrom("2026-11-22", "2026-11-23", "2026-11-24"),
      cell: fc.record({
        clean: fc.nat(40),
        caution: fc.nat(40),
        failed: fc.nat(40),
        stopped: fc.nat(40),
        missed: fc.nat(40),
      }),
    });
    const runs = (cells: Iterable<object>) =>
      [...cells].flatMap((cell) => Object.values(cell) as number[]).reduce((a, b) => a + b, 0);
    fc.assert(
      fc.property(fc.array(count), (counts) => {
        const cells = [...nightsTable(counts).values()].flatMap((row) => [...row.values()]);
        expect(runs(cells)).toBe(runs(counts.map(({ cell }) => cell)));
      }),
    );
    expect(keptShare([])).toBeNull();
    expect(keptShare([{ clean: 2, caution: 1, failed: 1, stopped: 0, missed: 0 }])).toBe(0.75);
  });
});

describe("causes, not symptoms", () => {
  const source = (id: string, change: Partial<SourceFacts> = {}): SourceFacts => ({
    id,
    name: `${id} files`,
    clientId: "c1",
    clientName: "Quillmere",
    state: "kept",
    silent: null,
    connectionId: null,
    connectionName: null,
    siteId: "s1",
    siteName: "North clinic",
    policyId: "p1",
    policyName: "Clinics",
    policyChanged: hoursAgo(900),
    depotId: "harbour",
    depotName: "Harbour",
    depotAwayUntil: null,
    gone: false,
    hasPolicy: true,
    newestPoint: hoursAgo(9),
    targetHours: 24,
    lastOutcome: "clean",
    lastCode: null,
    lastRunEnded: hoursAgo(9),
    burst: null,
    keyConfirmed: true,
    ...change,
  });
  it("is silent when nothing is wrong", () =>
    expect(findCauses([source("a"), source("b")], [], now)).toEqual([]));

  it("tell of messages that were given up, to whom and with what they were refused", () => {
    const unsent = {
      count: 3,
      recipients: ["desk@lanternfold.example", "Tickets"],
      since: now,
      error: "connection refused",
    };
    const [cause, ...more] = findCauses([], [], now, { unsent });
    expect(more).toEqual([]);
    expect([cause!.title, cause!.detail]).toEqual([
      "3 messages could not be delivered",
      "to desk@lanternfold.example, Tickets · connection refused",
    ]);
    expect(findCauses([], [], now, { unsent: { ...unsent, count: 0 } })).toEqual([]);
  });
  it("makes one line of many failures with one cause", () => {
    const failed = { state: "exposed", lastOutcome: "failed", lastCode: "depot.full" } as const;
    const causes = findCauses([source("a", failed), source("b", failed), source("c", failed)], [], now);
    expect(causes).toHaveLength(1);
    expect(causes[0]).toMatchObject({
      kind: "depot-failed",
      sourceIds: ["a", "b", "c"],
      title: "Harbour: the depot is full, 3 sources are not kept",
    });
  });

  it("makes one line of a depot that fails several clients, and one of each quota", () => {
    const gone = { state: "exposed", lastOutcome: "failed", lastCode: "depot.not-reached" } as const;
    const over = { ...gone, lastCode: "depot.quota" } as const;
    const [vossel, ostrel] = [
      { clientId: "c2", clientName: "Vossel" },
      { clientId: "c3", clientName: "Ostrel" },
    ];
    const causes = findCauses(
      [
        source("a", gone),
        source("b", { ...gone, ...vossel }),
        source("c", { ...over, ...vossel }),
        source("d", { ...over, ...ostrel }),
      ],
      [],
      now,
    );
    expect(causes.map(({ kind, sourceIds }) => [kind, sourceIds])).toEqual([
      ["depot-failed", ["a", "b"]],
      ["run-failed", ["c"]],
      ["run-failed", ["d"]],
    ]);
    expect(causes[0]).toMatchObject({ clientNames: ["Quillmere", "Vossel"], depotId: "harbour" });
  });

  it("blames a site's link when its machines fell silent together", () => {
    const silent = (id: string, hours: number, change: Partial<SourceFacts> = {}) =>
      source(id, {
        state: "exposed",
        silent: { machineId: `m-${id}`, machineName: id, seen: hoursAgo(hours) },
        ...change,
      });
    const causes = findCauses(
      [
        silent("a", 40),
        silent("b", 40.2),
        silent("c", 40.4),
        silent("long", 300),
        silent("far", 40, { siteId: "s2" }),
      ],
      [],
      now,
    );
    expect(causes.map(({ kind, sourceIds }) => [kind, [...sourceIds].sort()])).toEqual([
      ["site-silent", ["a", "b", "c"]],
      ["machine-silent", ["far"]],
      ["machine-silent", ["long"]],
    ]);
    expect(causes[0]!.title).toMatch(/^North clinic: 3 machines fell silent together/);
    expect(findCauses([silent("a", 40), silent("b", 40.2)], [], now).map(({ kind }) => kind)).toEqual([
      "machine-silent",
      "machine-silent",
    ]);
  });

  it("blames the change of a policy since which runs fail, and no older one", () => {
    const broken = {
      state: "exposed",
      lastOutcome: "failed",
      lastCode: "selection.empty",
      newestPoint: hoursAgo(30),
      lastRunEnded: hoursAgo(5),
    } as const;
    const changed = { ...broken, policyChanged: hoursAgo(12) };
    const [cause, ...more] = findCauses([source("a", changed), source("b", changed)], [], now);
    expect(more).toEqual([]);
    expect(cause).toMatchObject({
      kind: "policy-change",
      title: "2 sources: the selection is empty since “Clinics” was changed",
    });
    expect(findCauses([source("a", broken), source("b", broken)], [], now).map(({ kind }) => kind)).toEqual([
      "run-failed",
      "run-failed",
    ]);
  });

  it("makes one line of one code over many clients", () => {
    const odd = { state: "exposed", lastOutcome: "failed", lastCode: "run.agent-error" } as const;
    const many = ["a", "b", "c", "d", "e"].map((id, i) =>
      source(id, { ...odd, clientId: `c${i % 2}`, clientName: `Client ${i % 2}` }),
    );
    expect(findCauses(many, [], now)).toMatchObject([
      { kind: "one-code", sourceIds: ["a", "b", "c", "d", "e"] },
    ]);
    expect(findCauses(many.slice(0, 3), [], now)).toHaveLength(3);
  });

  it("makes one line of one caution over many clients, apart from what failed", () => {
    const busy = { state: "slipping", lastOutcome: "caution", lastCode: "file.changed-while-read" } as const;
    const many = ["a", "b", "c", "d", "e"].map((id, i) =>
      source(id, { ...busy, clientId: `c${i % 2}`, clientName: `Client ${i % 2}` }),
    );
    const failed = many.map(
      (one) => ({ ...one, id: `${one.id}2`, state: "exposed", lastOutcome: "failed" }) as const,
    );
    const causes = findCauses([...many, ...failed], [], now);
    expect(causes.map(({ key, sourceIds }) => [key, [...sourceIds].sort()])).toEqual([
      ["one-code:file.changed-while-read", ["a2", "b2", "c2", "d2", "e2"]],
      ["one-code:caution:file.changed-while-read", ["a", "b", "c", "d", "e"]],
    ]);
    expect(causes[1]).toMatchObject({
      state: "slipping",
      detail: "Client 0, Client 1 · the same everywhere · each has a recovery point",
    });
    // of one client, and of few, each client keeps its own line
    expect(findCauses(many.slice(0, 4), [], now).map(({ kind }) => kind)).toEqual([
      "run-caution",
      "run-caution",
    ]);
  });

  it("asks for a policy's times where there is no next run, before anything that a run told", () => {
    const causes = findCauses(
      [
        source("a", { unscheduled: "no-time-left", policyId: "p", lastOutcome: "failed", state: "exposed" }),
        source("b", { unscheduled: "no-time-left", policyId: "p" }),
        source("c", { unscheduled: "rules-incomplete", policyId: "p", newestPoint: null }),
        source("paused", { unscheduled: "no-time-left", policyId: "p", state: "paused" }),
      ],
      [],
      now,
    );
    expect(causes.map(({ kind, title }) => [kind, title])).toEqual([
      ["no-next-run", "2 sources: no next run, no schedule of “Clinics” has a time left"],
      ["no-next-run", "c files: no runs, “Clinics” and the levels above it lack a clause"],
    ]);
  });
  it("says of one source that it is waiting, and of two that they are", () => {
    const detail = (...names: string[]) =>
      findCauses(
        names.map((name) => source(name, { keyConfirmed: false })),
        [],
        now,
      )[0]!.detail;
    expect([detail("a"), detail("a", "b")]).toEqual(["1 source is waiting", "2 sources are waiting"]);
  });

  it("blames the silent machine, not its passed target", () => {
    const [cause] = findCauses(
      [
        source("pend-lt-07", {
          state: "exposed",
          silent: { machineId: "m", machineName: "pend-lt-07", seen: hoursAgo(9 * 24) },
        }),
      ],
      [],
      now,
    );
    expect(cause).toMatchObject({ kind: "machine-silent", title: "pend-lt-07 has not been seen for 9 days" });
  });

  it("puts an eaten machine before everything, then the worst", () => {
    const causes = findCauses(
      [
        source("late", { state: "slipping", newestPoint: hoursAgo(30) }),
        source("eaten", { burst: { changedShare: 0.38, denserShare: 0.94, folder: "/srv/scans" } }),
        source("new", { state: "never kept", hasPolicy: false, newestPoint: null }),
        source("moved", { gone: true }),
      ],
      [{ id: "d", depotId: "d", name: "Harbour", capacity: 100, used: 96, sourceIds: ["late"] }],
      now,
    );
    expect(causes.map((cause) => cause.kind)).toEqual([
      "burst",
      "depot-full",
      "target-passed",
      "no-policy",
      "orphan",
    ]);
    expect(causes[1]!.title).toBe("Harbour is 96 % full: 1 source will soon miss its runs");
  });

  it("makes one line of a tenant whose secret is over", () => {
    const refused = {
      state: "exposed",
      connectionId: "t",
      connectionName: "Trust mail",
      lastOutcome: "failed",
      lastCode: "source.signin-refused",
    } as const;
    const causes = findCauses([source("a@x", refused), source("b@x", refused), source("laptop")], [], now);
    expect(causes).toMatchObject([
      {
        kind: "connection-failed",
        sourceIds: ["a@x", "b@x"],
        title: "Trust mail: sign-in at the source was refused, 2 sources are not kept",
      },
    ]);
  });

  it("does not call a mailbox silent: it has no machine that could be", () => {
    const box = { connectionId: "t", connectionName: "Trust mail" };
    expect(findCauses([source("a@x", box)], [], now)).toEqual([]);
    expect(findCauses([source("a@x", { ...box, gone: true })], [], now)[0]!.title).toBe(
      "a@x files is not at Trust mail any more; its points remain",
    );
  });

  it("says that a depot is away by plan instead of blaming those who wait for it", () => {
    const waits = { state: "exposed", depotAwayUntil: new Date(now.getTime() + 50 * 3_600_000) } as const;
    const causes = findCauses([source("a", waits), source("b", waits)], [], now);
    expect(causes).toMatchObject([
      {
        kind: "depot-away",
        sourceIds: ["a", "b"],
        title: "Harbour has a planned absence for 2 days more: 2 sources wait",
      },
    ]);
    expect(findCauses([source("a", { ...waits, state: "kept" })], [], now)).toEqual([]);
  });

  it("tells of damage in a depot, and whether another holds the same whole", () => {
    const since = new Date("2026-11-20T04:00:00Z");
    const damage = { depotId: "d", depotName: "Harbour", points: 3, elsewhere: 3, since };
    const kept = [source("a"), source("b")];
    expect(
      findCauses(kept, [], now, {
        damages: [
          { ...damage, sourceId: "a" },
          { ...damage, sourceId: "b", points: 1, elsewhere: 1, since: now },
          { ...damage, sourceId: "another client's", points: 9, elsewhere: 0 },
        ],
      }),
    ).toMatchObject([
      {
        kind: "damage",
        state: "slipping",
        title: "Harbour: 4 recovery points have missing data",
        detail: expect.stringContaining("another depot has a complete copy"),
        sourceIds: ["a", "b"],
        since,
      },
    ]);
    expect(
      findCauses(kept, [], now, { damages: [{ ...damage, sourceId: "a", elsewhere: 1 }] }),
    ).toMatchObject([{ state: "exposed", detail: expect.stringContaining("2 points cannot be repaired") }]);
  });

  it("tells of drills that failed, one line for each depot and code", () => {
    const drill = { runId: "r", depotId: "d", depotName: "Harbour", code: "drill.differs", at: now } as const;
    const causes = findCauses([source("a"), source("b"), source("c")], [], now, {
      drills: [
        { ...drill, sourceId: "a" },
        { ...drill, sourceId: "b", at: new Date(now.getTime() - 3_600_000) },
        { sourceId: "c", runId: "r2", depotId: null, depotName: null, code: "restore.no-room", at: now },
        { ...drill, sourceId: "another client's" },
      ],
    });
    expect(causes).toMatchObject([
      {
        kind: "drill-failed",
        state: "exposed",
        runId: "r",
        depotId: "d",
        sourceIds: ["a", "b"],
        since: new Date(now.getTime() - 3_600_000),
        title: expect.stringMatching(/^2 sources: the last drill from Harbour failed/),
      },
      { kind: "drill-failed", state: "slipping", sourceIds: ["c"] },
    ]);
  });

  it("leaves a paused source alone", () => {
    expect(
      findCauses(
        [
          source("p", {
            state: "paused",
            silent: { machineId: "m", machineName: "p", seen: null },
            hasPolicy: false,
          }),
        ],
        [],
        now,
      ),
    ).toEqual([]);
  });
});
