import { describe, expect, it } from "vitest";
import { readClauses } from "@/core/policy/clauses";
import { excludedFolders, mailWhat } from "./mail/what";
import { upgradedWhat, whatClause, whatSentence } from "./what";

describe("What per kind", () => {
  it("is a sentence of all its parts", () => {
    const sentence = (what: object) => whatSentence(whatClause.parse(what));
    const files = { folders: ["/home"], exclude: ["*.tmp"], rubbish: false };
    expect(sentence({ files })).toBe("Everything in /home, without *.tmp");
    expect(sentence({ mail: {} })).toBe("All mail");
    expect(
      sentence({
        files,
        mail: {
          folders: ["/Inbox"],
          excludeRoles: ["drafts", "trash"],
          exclude: ["Old*"],
          receivedSince: "2026-01-31",
        },
      }),
    ).toBe(
      "Everything in /home, without *.tmp; mail in /Inbox, received since 2026-01-31, without drafts, deleted items, Old*",
    );
  });

  it("is read from clauses of earlier versions, which did not tell kinds apart", () => {
    const old = { folders: ["/"], exclude: ["/Drafts"], include: [], rubbish: false };
    expect(upgradedWhat(old)).toEqual({ files: old, mail: { folders: [], exclude: ["/Drafts"] } });
    expect(upgradedWhat(old, ["files"])).toEqual({ files: old });
    expect(upgradedWhat(old, ["mail"])).toEqual({ mail: { folders: [], exclude: ["/Drafts"] } });
    expect(upgradedWhat({ ...old, folders: ["/srv"] })).toEqual({ files: { ...old, folders: ["/srv"] } });
    expect(upgradedWhat({ mail: {} })).toEqual({ mail: {} });
    const stored = {
      what: old,
      when: { schedules: [], targetHours: 24 },
      howLong: { kind: "for-ever" },
      where: { depotId: "6f1c2a4e-93f5-4c0b-8a43-6e8f7a2d5b10" },
    };
    expect(readClauses(stored, ["mail"]).what).toEqual({
      mail: {
        folders: [],
        exclude: ["/Drafts"],
        excludeRoles: [],
        calendars: true,
        contacts: true,
        receivedSince: null,
      },
    });
  });

  it("excludes mail folders by path, name and role", () => {
    const excluded = excludedFolders(
      mailWhat.parse({ exclude: ["News*", "/Archive/2019"], excludeRoles: ["junk"] }),
    );
    for (const [path, role, expected] of [
      ["/Inbox", "inbox", false],
      ["/Inbox/Newsletters", null, true],
      ["/Archive", "archive", false],
      ["/Archive/2019", null, true],
      ["/Spam", "junk", true],
      ["/Junk", null, false],
    ] as const)
      expect([path, excluded(path, role)]).toEqual([path, expected]);
  });
});
