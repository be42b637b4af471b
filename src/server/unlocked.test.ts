import { beforeEach, describe, expect, it } from "vitest";
import { asSession, SessionKeys, sessionServed } from "./unlocked";

describe("keys that a passphrase opened", () => {
  let now = new Date("2026-11-26T07:30:00Z");
  let keys: SessionKeys;
  const key = Buffer.alloc(32, 7);
  const later = (minutes: number) => new Date(now.getTime() + minutes * 60_000);
  beforeEach(() => {
    now = new Date("2026-11-26T07:30:00Z");
    keys = new SessionKeys(() => now);
    keys.add("ines", "quillmere", key, later(30));
  });
  const asked = (session: string | null, client = "quillmere") =>
    asSession(session, () => keys.keyOf(client));

  it("are open for the session that opened them, and for nobody else", async () => {
    expect(await asked("ines")).toBe(key);
    expect(await asked("tobias")).toBeNull();
    expect(await asked(null)).toBeNull();
    expect(await asked("ines", "saltrow")).toBeNull();
  });

  it("stay with their session through all that waits in between, also beside another's", async () => {
    const served = async (session: string) =>
      asSession(session, async () => {
        await new Promise((next) => setTimeout(next, 5));
        return [sessionServed(), await keys.keyOf("quillmere")];
      });
    expect(await Promise.all([served("ines"), served("tobias")])).toEqual([
      ["ines", key],
      ["tobias", null],
    ]);
    expect(sessionServed()).toBeNull();
  });

  it("are shut when their time is over, the session ends, or the client's key is held otherwise", async () => {
    now = later(30);
    expect(await asked("ines")).toBeNull();
    keys.add("ines", "quillmere", key, later(30));
    keys.add("tobias", "quillmere", key, later(30));
    keys.close("ines");
    expect([await asked("ines"), await asked("tobias")]).toEqual([null, key]);
    keys.closeClient("quillmere");
    expect(await asked("tobias")).toBeNull();
  });
});
