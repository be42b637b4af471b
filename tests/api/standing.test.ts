import { randomUUID } from "node:crypto";
import fc from "fast-check";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { findCauses, SILENT_HOURS, type SourceFacts } from "@/core/protection/causes";
import { nightsTable } from "@/core/protection/nights";
import { OUTCOMES, protectionState } from "@/core/protection/state";
import { all, change } from "@/db/base/scope";
import { countNights, nightCounts } from "@/db/runs/runs";
import { type SourceStanding, sourceStandings, standingsPage, stateCounts } from "@/db/sources/sources";
import { computeStanding } from "@/server/statements/standing";
import { enrolMachine, makeClient, type TestClient, type TestMachine } from "../client";
import { TestConsole } from "../test-console";

/** What the database works out for Watch and Sources, against the core and against plain counting. */
let console_: TestConsole;
const clients: TestClient[] = [];
const machines: TestMachine[] = [];
const HOUR_MS = 3_600_000;
const now = new Date("2026-11-26T12:00:00Z");
const system = <Row = Record<string, unknown>>(sql: string, values: unknown[] = []) =>
  console_.services.db.withScope({ role: "system" }, (tx) => all<Row>(tx, sql, values));

beforeAll(async () => {
  console_ = await TestConsole.start();
  await console_.killRunner();
  for (const name of ["Vossel & Daughters Bakery", "Brackenfold Dental"]) {
    const client = await makeClient(console_, name);
    clients.push(client);
    for (const number of [1, 2, 3])
      machines.push(await enrolMachine(console_, client, `${name.slice(0, 4).toLowerCase()}-lt-0${number}`));
  }
});
afterAll(() => console_?.stop());

async function addRun(machine: TestMachine, dueAt: Date, outcome: string | null, code: string | null = null) {
  const id = randomUUID();
  await system(
    `insert into runs (id, client_id, source_id, machine_id, kind, cause, due_at, state, outcome, code, attempt, started_at, ended_at, request)
     select $1, client_id, id, machine_id, 'backup', 'schedule', $3, case when $4::text is null then 'due' else 'ended' end, $4, $5, 1, $3, case when $4::text is not null then $3::timestamptz end, '{}'
     from sources where id = $2`,
    [id, machine.sourceId, dueAt, outcome, code],
  );
  return id;
}
const addPoint = (machine: TestMachine, moment: Date) =>
  system(
    `insert into points (id, client_id, source_id, depot_id, moment, root, files, folders, links, bytes, added_bytes, object_bytes)
     select decode(replace(gen_random_uuid()::text, '-', ''), 'hex'), client_id, id, depot_id, $2, '\\x00', 1, 1, 0, 10, 10, 1 from sources where id = $1`,
    [machine.sourceId, moment],
  );
/** Begins anew: no runs, no points. */
async function sweep() {
  const { default: pg } = await import("pg");
  const owner = new pg.Client(console_.access.owner);
  await owner.connect();
  await owner.query("truncate runs, points, night_totals cascade");
  await owner.query("update nights_counted set until = '2000-01-01Z'");
  await owner.query("select summarize(array(select id from sources))");
  await owner.end();
}

describe("the state of a source", () => {
  it("is the same in the database as in the core", async () => {
    const facts = fc.record({
      age: fc.option(fc.integer({ min: 0, max: 200 }), { nil: null }),
      targetHours: fc.option(fc.integer({ min: 1, max: 100 }), { nil: null }),
      lastOutcome: fc.option(fc.constantFrom(...OUTCOMES.filter((outcome) => outcome !== "stopped")), {
        nil: null,
      }),
      paused: fc.boolean(),
      alarm: fc.boolean(),
    });
    const cases = fc.sample(facts, { numRuns: 600, seed: 7 });
    const rows = await system<{ state: string }>(
      `select protection_state(newest, newest + target * interval '1 hour', newest + target * interval '90 minutes', outcome, paused, alarm, $5) as state
       from unnest($1::timestamptz[], $2::int[], $3::text[], $4::bool[], $6::bool[]) with ordinality u(newest, target, outcome, paused, alarm, n) order by n`,
      [
        cases.map(({ age }) => (age === null ? null : new Date(now.getTime() - age * HOUR_MS))),
        cases.map(({ targetHours }) => targetHours),
        cases.map(({ lastOutcome }) => lastOutcome),
        cases.map(({ paused }) => paused),
        now,
        cases.map(({ alarm }) => alarm),
      ],
    );
    cases.forEach(({ age, ...rest }, i) => {
      const newestPoint = age === null ? null : new Date(now.getTime() - age * HOUR_MS);
      expect([cases[i], rows[i]!.state]).toEqual([cases[i], protectionState({ ...rest, newestPoint }, now)]);
    });
  });

  it("is kept beside each source, whatever changes it: rules, a pause, a machine that is taken away", async () => {
    const [one, two] = machines as [TestMachine, TestMachine];
    await addPoint(one, new Date(now.getTime() - 30 * HOUR_MS));
    await addPoint(two, new Date(now.getTime() - HOUR_MS));
    const states = async () =>
      Object.fromEntries(
        (
          await console_.services.db.withScope({ role: "provider" }, (tx) => sourceStandings(tx, {}, now))
        ).map((source) => [source.id, source.state]),
      );
    const set = async (targetHours: number) => {
      const { policy } = await console_.ok<{
        policy: { name: string; revision: number; clauses: { when: object } };
      }>("GET", `/policies/${clients[0]!.policyId}`);
      await console_.ok("PUT", `/policies/${clients[0]!.policyId}`, {
        name: policy.name,
        revision: policy.revision,
        clauses: { ...policy.clauses, when: { ...policy.clauses.when, targetHours } },
      });
    };
    await set(24);
    expect(await states()).toMatchObject({ [one.sourceId]: "slipping", [two.sourceId]: "kept" });
    await set(12);
    expect((await states())[one.sourceId]).toBe("exposed");
    await console_.ok("PATCH", `/sources/${one.sourceId}`, { paused: true });
    expect((await states())[one.sourceId]).toBe("paused");
    await console_.ok("PATCH", `/sources/${one.sourceId}`, { paused: false });
    await console_.ok("DELETE", `/connections/${two.machineId}`);
    expect(await states()).toMatchObject({ [one.sourceId]: "exposed", [two.sourceId]: "paused" });
    const counts = await console_.services.db.withScope({ role: "provider" }, (tx) =>
      stateCounts(tx, {}, now),
    );
    expect(
      counts.map(({ clientName, counts }) => [
        clientName,
        counts.exposed,
        counts.paused,
        counts["never kept"],
      ]),
    ).toEqual([
      ["Brackenfold Dental", 0, 0, 3],
      ["Vossel & Daughters Bakery", 1, 1, 1],
    ]);
  });
});

describe("what needs somebody", () => {
  /** All sources as the causes were found from before: every one of them is looked at. */
  const factsOf = (source: SourceStanding): SourceFacts => ({
    ...source,
    hasPolicy: source.policyId !== null,
    silent:
      source.machineId && (source.machineSeen?.getTime() ?? 0) < now.getTime() - SILENT_HOURS * HOUR_MS
        ? { machineId: source.machineId, machineName: source.machineName!, seen: source.machineSeen }
        : null,
  });

  it("is found from the sources in need as from all of them", async () => {
    const outcomes = fc.record({
      ages: fc.array(fc.option(fc.integer({ min: 0, max: 60 }), { nil: null }), {
        minLength: 6,
        maxLength: 6,
      }),
      ends: fc.array(fc.constantFrom("clean", "caution", "failed", "missed"), { minLength: 6, maxLength: 6 }),
      silent: fc.array(fc.boolean(), { minLength: 6, maxLength: 6 }),
      unruled: fc.integer({ min: 0, max: 11 }),
      unconfirmed: fc.integer({ min: 0, max: 7 }),
    });
    for (const world of fc.sample(outcomes, { numRuns: 12, seed: 11 })) {
      await sweep();
      for (const [i, machine] of machines.entries()) {
        const { ages, ends, silent } = world;
        if (ages[i] !== null) await addPoint(machine, new Date(now.getTime() - ages[i]! * HOUR_MS));
        await addRun(
          machine,
          new Date(now.getTime() - HOUR_MS),
          ends[i]!,
          ends[i] === "failed" ? "depot.full" : null,
        );
        await system("update machines set seen_at = $2 where id = $1", [
          machine.machineId,
          new Date(now.getTime() - (silent[i] ? SILENT_HOURS + 1 : 1) * HOUR_MS),
        ]);
      }
      await system(
        "update sources set policy_id = case when id = $1 then null else $2::uuid end where client_id = $3",
        [machines[world.unruled]?.sourceId ?? null, clients[0]!.policyId, clients[0]!.id],
      );
      await system(
        "update client_keys set confirmed_at = case when client_id = $1 then null else $2::timestamptz end",
        [clients[world.unconfirmed]?.id ?? null, now],
      );
      await console_.services.db.withScope({ role: "provider" }, async (tx) => {
        const sources = await sourceStandings(tx, {}, now);
        const { causes, counts, total } = await computeStanding(tx, {}, now);
        const plain = findCauses(sources.map(factsOf), [], now);
        const sorted = (ids: readonly string[]) => [...ids].sort();
        const shown = (list: typeof causes) =>
          list
            .map(({ key, title, detail, state, sourceIds }) => ({
              key,
              title,
              detail,
              state,
              ids: sorted(sourceIds),
            }))
            .sort((a, b) => a.key.localeCompare(b.key));
        expect(shown(causes)).toEqual(shown(plain));
        expect(total).toBe(6);
        for (const state of ["kept", "slipping", "exposed", "never kept", "paused"] as const)
          expect(counts[state]).toBe(sources.filter((source) => source.state === state).length);
      });
    }
    await system("update client_keys set confirmed_at = $1", [now]);
  });

  it("names sources that a policy protects and that have no next run, and none that run by hand alone", async () => {
    await sweep();
    for (const machine of machines) await addPoint(machine, new Date(now.getTime() - HOUR_MS));
    await system("update machines set seen_at = $1", [now]);
    // without the one that an earlier test took away
    const [ended, lacking, byHand, paused] = machines.filter((_, i) => i !== 1);
    const before = await system<{ id: string; rules: unknown; next: Date | null; paused: boolean }>(
      "select id, rules, next_due_at as next, paused from sources",
    );
    const fromNow = (schedules: readonly unknown[], of: readonly (TestMachine | undefined)[]) =>
      system(
        "update sources set next_due_at = null, rules = jsonb_set(rules, '{when,schedules}', $2) where id = any($1)",
        [of.map((machine) => machine!.sourceId), JSON.stringify(schedules)],
      );
    await fromNow([{ rule: "FREQ=DAILY;BYHOUR=21;UNTIL=20200101T000000Z" }], [ended, lacking, paused]);
    await fromNow([], [byHand]);
    await system("update sources set rules = null where id = $1", [lacking!.sourceId]);
    await system("update sources set paused = true where id = $1", [paused!.sourceId]);
    const { causes } = await console_.services.db.withScope({ role: "provider" }, (tx) =>
      computeStanding(tx, {}, now),
    );
    const found = causes.filter((cause) => cause.kind === "no-next-run");
    expect(found.map(({ sourceIds }) => sourceIds).sort()).toEqual(
      [[ended!.sourceId], [lacking!.sourceId]].sort(),
    );
    expect(found.find(({ sourceIds }) => sourceIds[0] === ended!.sourceId)!.title).toMatch(
      /: no next run, no schedule of “.+” has a time left$/,
    );
    expect(found.find(({ sourceIds }) => sourceIds[0] === lacking!.sourceId)!.title).toMatch(
      /lack a clause$/,
    );
    for (const one of before)
      await system("update sources set rules = $2, next_due_at = $3, paused = $4 where id = $1", [
        one.id,
        one.rules && JSON.stringify(one.rules),
        one.next,
        one.paused,
      ]);
  });

  it("touches all sources of a depot that is full, also those that are well", async () => {
    await sweep();
    for (const machine of machines.slice(3)) await addPoint(machine, new Date(now.getTime() - HOUR_MS));
    await system("update machines set seen_at = $1", [now]);
    await system("update grants set used_bytes = quota_bytes * 0.97 where client_id = $1", [clients[1]!.id]);
    const standing = await console_.services.db.withScope({ role: "provider" }, (tx) =>
      computeStanding(tx, {}, now),
    );
    const full = standing.causes.find((cause) => cause.kind === "depot-full")!;
    expect(full.sourceIds).toHaveLength(3);
    expect(full.title).toContain("97 % full");
    await system("update grants set used_bytes = 0");
  });
});

describe("the nights", () => {
  it("add up, however much of them was counted before and whatever ends late", async () => {
    await sweep();
    const [machine] = machines as [TestMachine];
    const at = (hours: number) => new Date(now.getTime() - hours * HOUR_MS);
    const open: string[] = [];
    for (let hours = 1; hours < 120; hours += 3)
      open.push(await addRun(machine, at(hours), hours % 2 ? "clean" : null));
    const plain = () =>
      system<{ night: string; outcome: string; runs: number }>(
        `select to_char(night_of(r.due_at, c.zone), 'YYYY-MM-DD') as night, outcome, count(*)::int as runs from runs r join clients c on c.id = r.client_id
         where state = 'ended' group by 1, 2 order by 1, 2`,
      );
    const told = async () =>
      [
        ...nightsTable(
          await console_.services.db.withScope({ role: "provider" }, (tx) => nightCounts(tx, {}, at(400))),
        ).values(),
      ]
        .flatMap((nights) => [...nights])
        .flatMap(([night, cell]) =>
          Object.entries(cell).flatMap(([outcome, runs]) => (runs ? { night, outcome, runs } : [])),
        )
        .sort((a, b) => a.night.localeCompare(b.night) || a.outcome.localeCompare(b.outcome));
    const count = (hours: number) =>
      console_.services.db.withScope({ role: "system" }, (tx) => countNights(tx, at(hours)));
    expect(await told()).toEqual(await plain());
    await count(60);
    expect(await told()).toEqual(await plain());
    // some of those before and after that moment end now
    await system(
      "update runs set state = 'ended', outcome = 'caution', ended_at = due_at where id = any($1) and state <> 'ended'",
      [open.slice(0, 30)],
    );
    await addRun(machine, at(100), "failed");
    expect(await told()).toEqual(await plain());
    await count(20);
    await count(50);
    expect(await told()).toEqual(await plain());
    // another zone has other nights
    await system("update clients set zone = 'Pacific/Auckland' where id = $1", [clients[0]!.id]);
    expect(await told()).toEqual(await plain());
    const [total] = await system<{ n: number }>(
      "select sum(clean + caution + failed)::int as n from night_totals",
    );
    expect(total!.n).toBeGreaterThan(20);
  });

  it("lose none of the runs that end while they are counted", async () => {
    await sweep();
    const [machine] = machines as [TestMachine];
    const waiting: string[] = [];
    for (let i = 0; i < 40; i += 1)
      waiting.push(await addRun(machine, new Date(now.getTime() - (50 + i) * HOUR_MS), null));
    const end = (id: string) =>
      console_.services.db.withScope({ role: "system" }, (tx) =>
        change(tx, "update runs set state = 'ended', outcome = 'clean', ended_at = $2 where id = $1", [
          id,
          now,
        ]),
      );
    await Promise.all([
      ...waiting.map(end),
      ...[80, 70, 60, 40].map((hours) =>
        console_.services.db.withScope({ role: "system" }, (tx) =>
          countNights(tx, new Date(now.getTime() - hours * HOUR_MS)),
        ),
      ),
    ]);
    const told = await console_.services.db.withScope({ role: "provider" }, (tx) =>
      nightCounts(tx, {}, new Date(now.getTime() - 400 * HOUR_MS)),
    );
    expect(told.reduce((sum, { cell }) => sum + cell.clean, 0)).toBe(40);
  });
});

describe("a page of sources", () => {
  const page = (text: string, limit = 10) =>
    console_.services.db.withScope({ role: "provider" }, (tx) => standingsPage(tx, {}, now, text, limit));
  it("is in order, says how many there are, and is the first part of all", async () => {
    const all_ = await page("");
    expect(all_.fitting).toBe(6);
    expect(all_.sources.map((source) => source.clientName).slice(0, 3)).toEqual(
      Array(3).fill("Brackenfold Dental"),
    );
    const part = await page("", 4);
    expect(part.fitting).toBe(6);
    expect(part.sources.map((source) => source.id)).toEqual(
      all_.sources.slice(0, 4).map((source) => source.id),
    );
  });
  it("finds by every word: name, client, site, policy, state; and takes % and _ as they are", async () => {
    expect((await page("lt-02")).fitting).toBe(2);
    expect((await page("dental lt-02")).sources.map((source) => source.clientName)).toEqual([
      "Brackenfold Dental",
    ]);
    expect((await page("never kept bracken")).fitting).toBe(3);
    expect((await page("%")).fitting).toBe(0);
    expect((await page("lt_02")).fitting).toBe(0);
    expect((await page("lt-02", 1)).fitting).toBe(2);
    expect((await page("nothing of the kind")).sources).toEqual([]);
  });
});
