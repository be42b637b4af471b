/**
 * A 256-bit key as 13 groups of five characters that can be read out and typed from paper: four characters of Crockford
 * Base32 (digits and letters without I, L, O, U) and one check character each.
 *
 * The check character is computed in GF(32) (primitive polynomial x⁵+x²+1) from the four values and the number of the
 * group: any one wrong character, any two neighbours swapped, and a group written in another group's place are found in
 * the group where they stand.
 */
const ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ";
export const KEY_BYTES = 32;
export const KEY_GROUPS = 13;

/** Powers of the generator of GF(32), twice over, so that a sum of two exponents needs no modulus. */
const POWER: number[] = [];
const EXPONENT: number[] = [];
for (let value = 1, i = 0; i < 31; i += 1) {
  POWER[i] = value;
  POWER[i + 31] = value;
  EXPONENT[value] = i;
  value <<= 1;
  if (value & 32) value ^= 0b100101;
}

const timesPower = (value: number, power: number): number =>
  value === 0 ? 0 : POWER[(EXPONENT[value]! + power) % 31]!;

const checkOf = (values: readonly number[], group: number): number =>
  values.reduce((sum, value, i) => sum ^ timesPower(value, i + 1), timesPower(group + 1, 7));

export type SheetResult =
  | { readonly ok: true; readonly key: Uint8Array }
  | { readonly ok: false; readonly group: number; readonly reason: string };

/** The 13 groups of a key of 32 bytes. Throws a RangeError for another length. */
export function keyToGroups(key: Uint8Array): string[] {
  if (key.length !== KEY_BYTES) throw new RangeError(`a key has ${KEY_BYTES} bytes, not ${key.length}`);
  const groups: string[] = [];
  let bits = 0n;
  for (const byte of key) bits = (bits << 8n) | BigInt(byte);
  bits <<= 4n; // 256 bits fill 51 characters and a fifth; the last four bits are zero
  for (let group = 0; group < KEY_GROUPS; group += 1) {
    const values = [0, 1, 2, 3].map((i) => Number((bits >> BigInt(255 - (group * 4 + i) * 5)) & 31n));
    groups.push([...values, checkOf(values, group)].map((value) => ALPHABET[value]).join(""));
  }
  return groups;
}

/** A group as it is compared: capital letters, O as 0, I and L as 1, nothing else. */
export const normalGroup = (text: string): string =>
  text
    .toUpperCase()
    .replace(/[^0-9A-Z]/g, "")
    .replace(/O/g, "0")
    .replace(/[IL]/g, "1");

/** Whether a typed group is well formed and stands in its place (0 to 12). Small letters, O for 0 and I or L for 1 are taken. */
export function checkGroup(text: string, group: number): boolean {
  const values = [...normalGroup(text)].map((letter) => ALPHABET.indexOf(letter));
  if (values.length !== 5 || values.includes(-1)) return false;
  return checkOf(values.slice(0, 4), group) === values[4];
}

/** Two groups that mean the same, however they were typed. */
export const sameGroup = (a: string, b: string): boolean => normalGroup(a) === normalGroup(b);

/** Reads a whole sheet as typed, spaces and dashes as one likes; says in which group (0 to 12) the first slip is. */
export function groupsToKey(text: string): SheetResult {
  const letters = normalGroup(text);
  for (let group = 0; group < KEY_GROUPS; group += 1) {
    const part = letters.slice(group * 5, group * 5 + 5);
    if (part.length < 5) {
      return { ok: false, group, reason: `group ${group + 1} is short: ${part.length} of 5 characters` };
    }
    if (!checkGroup(part, group)) {
      return {
        ok: false,
        group,
        reason: `group ${group + 1} (${part}) has a slip: its check character does not fit`,
      };
    }
  }
  if (letters.length > KEY_GROUPS * 5) {
    return { ok: false, group: KEY_GROUPS - 1, reason: `there is more than ${KEY_GROUPS} groups` };
  }
  let bits = 0n;
  for (let i = 0; i < letters.length; i += 1) {
    if (i % 5 < 4) bits = (bits << 5n) | BigInt(ALPHABET.indexOf(letters[i]!));
  }
  if (bits & 15n) return { ok: false, group: KEY_GROUPS - 1, reason: "the last group does not end a key" };
  bits >>= 4n;
  const key = new Uint8Array(KEY_BYTES);
  for (let i = KEY_BYTES - 1; i >= 0; i -= 1) {
    key[i] = Number(bits & 255n);
    bits >>= 8n;
  }
  return { ok: true, key };
}
