import { describe, expect, it } from "vitest";
import { ACTIONS, type Action, isClientRole, mayDo, mayPersonDo, RIGHTS, ROLES, type Role } from "./rights";

/** Written down a second time, as a reviewer reads it: one line a role, `x` where the action is theirs. */
const TABLE = `
             account look work provider-work open client-people provider-people statement words given agree
owner        x       x    x    x             x    x             x               x         x     -     -
technician   x       x    x    x             x    x             -               x         x     -     -
reader       x       x    -    -             -    -             -               x         -     -     -
manager      x       -    -    -             -    -             -               x         x     x     x
person       x       -    -    -             -    -             -               -         -     x     -
`;

describe("rights", () => {
  const [head, ...lines] = TABLE.trim().split("\n");
  const actions = head!.trim().split(/\s+/) as Action[];
  const rows = lines.map((line) => line.trim().split(/\s+/));

  it("names every role and every action in the table", () => {
    expect(actions).toEqual(Object.keys(ACTIONS));
    expect(rows.map(([role]) => role)).toEqual([...ROLES]);
  });

  it.each(rows)("gives %s what the table says", (role, ...marks) => {
    for (const [i, action] of actions.entries())
      expect([action, mayDo(role as Role, action)]).toEqual([action, marks[i] === "x"]);
  });

  it("gives nothing that reaches all clients to whoever is limited to some", () => {
    const limited = { role: "technician", clientIds: ["x"] } as const;
    expect(mayPersonDo(limited, "provider-work")).toBe(false);
    expect(mayPersonDo({ ...limited, clientIds: null }, "provider-work")).toBe(true);
    expect(mayPersonDo(limited, "work")).toBe(true);
  });

  it("never lets a client's people reach beyond their client", () => {
    for (const role of ROLES.filter(isClientRole))
      for (const reach of Object.values(RIGHTS[role]))
        expect(["own client", "themselves", "what was given"]).toContain(reach);
  });
});
