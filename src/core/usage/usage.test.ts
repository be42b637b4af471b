import fc from "fast-check";
import { expect, test } from "vitest";
import { composeUsage, type UsageDay, usageCsv } from "./usage";

const day = (over: Partial<UsageDay>): UsageDay => ({
  day: "2026-11-01",
  clientId: "c1",
  clientName: "Saltrow Ferries",
  kind: "files",
  depotId: "d1",
  depotName: "Harbour",
  sources: 2,
  protectedBytes: 1000,
  storedBytes: 400,
  ...over,
});

test("a line for each client, kind and depot; means over all days that were written down", () => {
  const usage = composeUsage(
    [
      day({}),
      day({ day: "2026-11-02", storedBytes: 600, sources: 3 }),
      day({ day: "2026-11-02", kind: "mail", storedBytes: 100, sources: 1, protectedBytes: 50 }),
      day({ clientId: "c2", clientName: "Brackenfold Dental", depotName: "Lanternfold" }),
    ],
    2,
    "2026-11-01",
    "2026-11-30",
    [
      { clientId: "c1", clientName: "Saltrow Ferries", kind: "files", contracted: 2, most: 3, daysOver: 1 },
      { clientId: "c1", clientName: "Saltrow Ferries", kind: "mail", contracted: null, most: 1, daysOver: 0 },
    ],
  );
  expect(usage.daysCounted).toBe(2);
  expect(usage.lines).toMatchObject([
    { clientName: "Brackenfold Dental", days: 1, meanStored: 200, mostStored: 400 },
    { kind: "files", days: 2, meanStored: 500, mostStored: 600, meanSources: 2.5, mostSources: 3 },
    { kind: "mail", days: 1, meanStored: 50, mostStored: 100, meanSources: 0.5, meanProtected: 25 },
  ]);
  const [heading, ...rows] = usageCsv(usage).trimEnd().split("\r\n");
  expect(heading!.split(",")).toHaveLength(15);
  expect(rows[1]).toBe("Saltrow Ferries,files,Harbour,2026-11-01,2026-11-30,2,2,3,2.5,1000,500,600,2,3,1");
});

test("nothing used is no line, and no day", () => {
  expect(composeUsage([], 0, "2026-11-01", "2026-11-30")).toMatchObject({ daysCounted: 0, lines: [] });
});

test("no byte of a day is lost or counted twice", () => {
  fc.assert(
    fc.property(
      fc.uniqueArray(
        fc.record({
          day: fc.constantFrom("2026-11-01", "2026-11-02", "2026-11-03"),
          clientId: fc.constantFrom("c1", "c2"),
          kind: fc.constantFrom("files", "mail"),
          depotId: fc.constantFrom("d1", "d2"),
          storedBytes: fc.nat(1_000_000),
        }),
        { selector: (one) => `${one.day} ${one.clientId} ${one.kind} ${one.depotId}` },
      ),
      (made) => {
        const days = made.map(day);
        const { lines, daysCounted } = composeUsage(days, 3, "2026-11-01", "2026-11-03");
        // a client's figures are the same alone
        for (const clientId of ["c1", "c2"]) {
          const own = days.filter((one) => one.clientId === clientId);
          expect(composeUsage(own, 3, "2026-11-01", "2026-11-03").lines).toEqual(
            lines.filter((line) => line.clientId === clientId),
          );
        }
        const told = lines.reduce((sum, line) => sum + line.meanStored * daysCounted, 0);
        const all = days.reduce((sum, one) => sum + one.storedBytes, 0);
        expect(Math.abs(told - all)).toBeLessThanOrEqual(lines.length * 2);
        expect(lines.reduce((sum, line) => sum + line.days, 0)).toBe(days.length);
      },
    ),
  );
});
