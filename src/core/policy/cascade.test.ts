import fc from "fast-check";
import { describe, expect, it } from "vitest";
import {
  CLAUSE_NAMES,
  changesBetween,
  complete,
  groupRule,
  inForce,
  type Layer,
  LEVELS,
  POLICY_VERSION,
  policyFile,
  ruleSentence,
  ruleTakes,
  upgradedFile,
} from "./cascade";
import type { Clauses } from "./clauses";

const days = (count: number) => ({ kind: "days", days: count }) as Clauses["howLong"];
const layer = (level: Layer["level"], clauses: Layer["clauses"], pins: Layer["pins"] = []): Layer => ({
  id: level,
  level,
  name: `the ${level}`,
  clauses,
  pins,
});

/** Said plainly and slowly: ask each level from the nearest to the widest, but look first whether a wider one forbids it. */
function slowly(layers: readonly Layer[], clause: (typeof CLAUSE_NAMES)[number]) {
  for (const level of LEVELS) {
    const found = layers.find((one) => one.level === level);
    if (found?.clauses[clause] !== undefined && found.pins.includes(clause)) return found.clauses[clause];
  }
  for (const level of [...LEVELS].reverse()) {
    const found = layers.find((one) => one.level === level);
    if (found?.clauses[clause] !== undefined) return found.clauses[clause];
  }
  return undefined;
}

const someLayers = fc
  .record(
    Object.fromEntries(
      LEVELS.map((level) => [
        level,
        fc.option(
          fc.record({
            howLong: fc.option(fc.nat(3), { nil: undefined }),
            when: fc.option(fc.nat(3), { nil: undefined }),
            pins: fc.subarray([...CLAUSE_NAMES]),
          }),
          { nil: undefined },
        ),
      ]),
    ) as Record<string, fc.Arbitrary<{ howLong?: number; when?: number; pins: Layer["pins"] } | undefined>>,
  )
  .map((made) =>
    LEVELS.flatMap((level): Layer[] => {
      const one = made[level];
      if (!one) return [];
      const clauses = {
        ...(one.howLong === undefined ? {} : { howLong: days(one.howLong + 1) }),
        ...(one.when === undefined ? {} : { when: { schedules: [], targetHours: one.when + 1 } }),
      } as Layer["clauses"];
      return [layer(level, clauses, one.pins)];
    }),
  );

describe("the rules in force", () => {
  it("are those of the nearest level that gives them, with where they come from", () => {
    const found = inForce([
      layer("source", { howLong: days(7) }),
      layer("provider", { howLong: days(90) }),
      layer("client", { howLong: days(30) }),
    ]);
    expect(found.clauses.howLong).toEqual(days(7));
    expect(found.origins.howLong).toEqual({
      layerId: "source",
      level: "source",
      name: "the source",
      pinned: false,
    });
    expect(found.missing).toEqual(["what", "when", "where"]);
    expect(complete(found)).toBeNull();
  });

  it("take What from the nearest level that names the kind", () => {
    const files = { files: { folders: ["/srv"] } } as unknown as Clauses["what"];
    const mail = { mail: {} } as unknown as Clauses["what"];
    const layers = [layer("client", { what: mail }), layer("group", { what: files })];
    expect(inForce(layers, "mail").origins.what).toMatchObject({ level: "client" });
    expect(inForce(layers, "files").origins.what).toMatchObject({ level: "group" });
    expect(inForce([layers[1]!], "mail").missing).toContain("what");
    // a pin binds the kinds that it names
    const pinned = [layer("client", { what: mail }, ["what"]), layers[1]!];
    expect(inForce(pinned, "files").clauses.what).toBe(files);
    expect(inForce([...pinned, layer("source", { what: mail })], "mail").origins.what).toMatchObject({
      level: "client",
    });
  });

  it("are what a wider level pinned, whatever stands below", () => {
    const found = inForce([
      layer("client", { howLong: days(30) }, ["howLong"]),
      layer("source", { howLong: days(7) }),
    ]);
    expect(found.clauses.howLong).toEqual(days(30));
    expect(found.origins.howLong!.pinned).toBe(true);
    // a pin on what a level does not give pins nothing
    expect(
      inForce([layer("client", {}, ["howLong"]), layer("source", { howLong: days(7) })]).clauses.howLong,
    ).toEqual(days(7));
  });

  it("are those that a slow, plain reading gives, for any levels, values and pins, in any order", () => {
    fc.assert(
      fc.property(someLayers, fc.array(fc.nat(), { minLength: 5, maxLength: 5 }), (layers, order) => {
        const shuffled = layers.map((one, i) => [order[i]!, one] as const).sort(([a], [b]) => a - b);
        const found = inForce(shuffled.map(([, one]) => one));
        for (const clause of CLAUSE_NAMES) {
          expect(found.clauses[clause]).toEqual(slowly(layers, clause));
          // these two hold plainly where nobody gives them
          const needed = clause !== "conduct" && clause !== "notices";
          expect(found.missing.includes(clause)).toBe(needed && slowly(layers, clause) === undefined);
          const origin = found.origins[clause];
          if (origin)
            expect(layers.find((one) => one.id === origin.layerId)!.clauses[clause]).toEqual(
              found.clauses[clause],
            );
        }
      }),
    );
  });

  it("change for a source only where a value differs, not where it merely comes from elsewhere", () => {
    const before = inForce([layer("client", { howLong: days(30) })]);
    const same = inForce([layer("client", { howLong: days(30) }), layer("source", { howLong: days(30) })]);
    expect(changesBetween(before, same)).toEqual([]);
    expect(changesBetween(before, inForce([layer("client", { howLong: days(7) })]))).toEqual([
      { clause: "howLong", before: days(30), after: days(7) },
    ]);
    expect(changesBetween(before, inForce([]))).toEqual([
      { clause: "howLong", before: days(30), after: undefined },
    ]);
  });
});

describe("the rule of a group", () => {
  const laptop = {
    kind: "files",
    name: "pend-lt-04 files",
    siteId: "3f0c9a52-64c2-4cf7-8a5f-0f6f2f5a9b11",
    system: "Debian GNU/Linux 12",
    tags: ["Travels"],
  } as const;
  it.each([
    [{ kind: "files" }, true],
    [{ kind: "mail" }, false],
    [{ name: "*-LT-*" }, true],
    [{ name: "*-srv-*" }, false],
    [{ system: "debian" }, true],
    [{ system: "freebsd" }, false],
    [{ tag: "travels" }, true],
    [{ tag: "stays" }, false],
    [{ siteId: laptop.siteId, name: "pend-*" }, true],
    [{ siteId: "3f0c9a52-64c2-4cf7-8a5f-0f6f2f5a9b12", name: "pend-*" }, false],
  ] as const)("%j takes a laptop: %s", (rule, takes) => {
    expect(ruleTakes(groupRule.parse(rule), laptop)).toBe(takes);
  });
  it("asks for something", () => {
    expect(groupRule.safeParse({}).error!.issues[0]!.message).toContain("at least one condition");
    expect(ruleSentence({ kind: "files", name: "*-lt-*", tag: "travels" }, () => "")).toBe(
      "Matches new sources that are files of machines, named *-lt-*, tagged “travels”",
    );
    expect(ruleSentence(null, () => "")).toBe("Matches no sources automatically");
  });
});

describe("a policy as a file", () => {
  it("of an earlier version says what it said", () => {
    const when = { schedule: { kind: "daily", at: "21:05" }, targetHours: 26 };
    const what = { folders: ["/srv"], exclude: ["*.tmp"] };
    for (const version of [1, 2]) {
      const read = policyFile.parse(
        upgradedFile({ format: "deep-keep-policy", version, name: "Old", clauses: { what, when } }),
      );
      expect(read.clauses.what).toMatchObject({ files: what });
      expect(read.clauses.what).not.toHaveProperty("mail");
      expect(read.clauses.when!.schedules[0]!.rule).toBe("FREQ=DAILY;BYHOUR=21;BYMINUTE=5");
    }
  });

  it("of a newer version, or of something else, is said to be so", () => {
    const file = { format: "deep-keep-policy", version: 1, name: "Laptops", clauses: {} };
    expect(policyFile.safeParse(file).success).toBe(true);
    expect(
      policyFile.safeParse({ ...file, version: POLICY_VERSION + 1 }).error!.issues[0]!.message,
    ).toContain("newer version");
    expect(policyFile.safeParse({ ...file, format: "x" }).error!.issues[0]!.message).toContain(
      "not a Deep Keep policy",
    );
    expect(
      policyFile.safeParse({ ...file, clauses: { howLong: { kind: "days", days: 0 } } }).error!.issues[0]!
        .path,
    ).toEqual(["clauses", "howLong", "days"]);
  });
});
