import { describe, expect, it } from "vitest";
import { compareContracts, countedKind, type DayCount } from "./contract";

const day = (day: string, kind: "files" | "mail", sources: number): DayCount => ({
  day,
  clientId: "c1",
  clientName: "Saltrow Ferries",
  kind,
  sources,
});

describe("use beside what was bought", () => {
  it("is the most on one day, and the days with more than was bought", () => {
    const counts = [
      day("2026-11-01", "files", 12),
      day("2026-11-02", "files", 14),
      day("2026-11-03", "files", 13),
      day("2026-11-03", "mail", 4),
    ];
    const contracts = [{ clientId: "c1", clientName: "Saltrow Ferries", contract: { files: 12 } }];
    expect(compareContracts(counts, contracts)).toEqual([
      { clientId: "c1", clientName: "Saltrow Ferries", kind: "files", contracted: 12, most: 14, daysOver: 2 },
      { clientId: "c1", clientName: "Saltrow Ferries", kind: "mail", contracted: null, most: 4, daysOver: 0 },
    ]);
  });

  it("has what was bought and is not used, also where none is allowed", () => {
    const contracts = [
      { clientId: "c2", clientName: "Vossel & Daughters Bakery", contract: { mail: 5 } },
      { clientId: "c1", clientName: "Saltrow Ferries", contract: { mail: 0 } },
    ];
    expect(compareContracts([day("2026-11-03", "mail", 1)], contracts)).toMatchObject([
      { clientId: "c1", contracted: 0, most: 1, daysOver: 1 },
      { clientId: "c2", contracted: 5, most: 0, daysOver: 0 },
    ]);
  });

  it("counts in words", () => {
    expect([1, 2].flatMap((n) => [countedKind("files", n), countedKind("mail", n)])).toEqual([
      "1 machine",
      "1 mailbox",
      "2 machines",
      "2 mailboxes",
    ]);
  });
});
