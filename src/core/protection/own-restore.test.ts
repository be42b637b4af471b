import { describe, expect, it } from "vitest";
import { type RestoreSeen, restoreWords } from "./own-restore";

const seen = (change: Partial<RestoreSeen>): string =>
  restoreWords(
    {
      state: "ended",
      outcome: "clean",
      code: null,
      kind: "files",
      download: null,
      folder: null,
      progress: {},
      figures: {},
      ...change,
    },
    "vossel-lt-02",
  );

describe("what became of a restore, for whoever asked", () => {
  it("says for what it waits", () => {
    expect(seen({ state: "due", outcome: null })).toContain("Waiting for vossel-lt-02");
  });
  it("counts on the way, and never past the whole", () => {
    expect(seen({ state: "reading", outcome: null, progress: { items: 3, totalItems: 12 } })).toBe(
      "Restoring: 3 of 12 files.",
    );
    expect(seen({ state: "reading", outcome: null, progress: { items: 13, totalItems: 12 } })).toContain(
      "13 of 13",
    );
  });
  it("says where things are, and what stands beside what was there", () => {
    expect(seen({ figures: { files: 1 } })).toBe("Restored to the original location: 1 file.");
    expect(seen({ figures: { files: 4, keptBoth: 4 }, folder: "/docs/back" })).toBe(
      "Restored to /docs/back: 4 files, all beside an existing file.",
    );
  });
  it("counts items of mailboxes as such, and those that were there", () => {
    const mail = { kind: "mail", figures: { files: 1, skipped: 12 } };
    expect(seen(mail)).toBe("Restored to the original location: 1 item, 12 already there.");
    expect(seen({ ...mail, state: "due", outcome: null })).toMatch(/^Queued/);
    // of a kind that a newer version wrote
    expect(seen({ kind: "guest", figures: { files: 2 } })).toContain("2 files");
  });
  it("does not call a half of it whole", () => {
    expect(seen({ outcome: "caution", figures: { files: 4, cautions: 2 } })).toContain(
      "2 files could not be restored",
    );
    expect(seen({ outcome: "failed", code: "depot.not-reached" })).toContain(
      "the depot could not be reached",
    );
    expect(seen({ outcome: "stopped", figures: { files: 2 } })).toContain("2 files");
    expect(seen({ outcome: "stopped", download: "zip" })).toContain("interrupted");
  });
});
