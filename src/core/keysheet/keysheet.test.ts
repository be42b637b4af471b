import fc from "fast-check";
import { describe, expect, it } from "vitest";
import { checkGroup, groupsToKey, keyToGroups } from "./keysheet";

const keys = fc.uint8Array({ minLength: 32, maxLength: 32 });
const LETTERS = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";

describe("the key on paper", () => {
  it("comes back from its groups, typed small and with dashes", () => {
    fc.assert(
      fc.property(keys, (key) => {
        const read = groupsToKey(keyToGroups(key).join("-").toLowerCase());
        expect(read).toEqual({ ok: true, key: new Uint8Array(key) });
      }),
    );
  });

  it("finds one wrong character in the group where it was made", () => {
    fc.assert(
      fc.property(keys, fc.nat(12), fc.nat(4), fc.nat(30), (key, group, place, shift) => {
        const groups = keyToGroups(key);
        const right = groups[group]!;
        const wrong = LETTERS[(LETTERS.indexOf(right[place]!) + 1 + shift) % 32]!;
        groups[group] = right.slice(0, place) + wrong + right.slice(place + 1);
        expect(groupsToKey(groups.join(" "))).toMatchObject({ ok: false, group });
      }),
    );
  });

  it("finds neighbours swapped, and groups in each other's place", () => {
    fc.assert(
      fc.property(keys, fc.nat(12), fc.nat(2), (key, group, place) => {
        const right = keyToGroups(key)[group]!;
        fc.pre(right[place] !== right[place + 1]);
        const swapped = right.slice(0, place) + right[place + 1] + right[place] + right.slice(place + 2);
        expect(checkGroup(swapped, group)).toBe(false);
        expect(checkGroup(right, (group + 1) % 13)).toBe(false);
      }),
    );
  });

  it("refuses a last group whose unused bits are not zero, although its check character fits", () => {
    const groups = keyToGroups(new Uint8Array(32).fill(7));
    const last = groups[12]!;
    const others = [...LETTERS].filter((letter) => letter !== last[3]);
    let tried = 0;
    for (const letter of others)
      for (const check of LETTERS) {
        const group = last.slice(0, 3) + letter + check;
        // the last four bits are unused: half of the letters differ from the right one in them
        if (!checkGroup(group, 12) || (LETTERS.indexOf(letter) & 15) === 0) continue;
        tried += 1;
        expect(groupsToKey([...groups.slice(0, 12), group].join(" "))).toMatchObject({
          ok: false,
          group: 12,
        });
      }
    expect(tried).toBe(30);
  });

  it("says which group is short", () => {
    const text = keyToGroups(new Uint8Array(32).fill(7)).join(" ").slice(0, 20);
    expect(groupsToKey(text)).toMatchObject({ ok: false, group: 3 });
  });
});
