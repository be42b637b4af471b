import { describe, expect, it } from "vitest";
import { asSession, sessionServed } from "./unlocked";

describe("the session that is served", () => {
  it("stays the same through all that waits in between, also beside another", async () => {
    const served = (session: string | null) =>
      asSession(session, async () => {
        await new Promise((next) => setTimeout(next, 5));
        return sessionServed();
      });
    expect(await Promise.all([served("ines"), served("tobias"), served(null)])).toEqual([
      "ines",
      "tobias",
      null,
    ]);
    expect(sessionServed()).toBeNull();
  });
});
