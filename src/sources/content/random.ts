import { SPREAD_BYTES } from "@/store/cutting/spread";

/** Bits of entropy a byte that a whole sample of random bytes has at least, and a shorter one. */
const RANDOM_BITS = 7.5;
const RANDOM_BITS_SHORT = 7.1;

/**
 * Whether the first bytes of a file are as random as encrypted or packed ones.
 *
 * @param spread of those bytes (`store/cutting/spread.ts`)
 * @param length how many they are, `SPREAD_BYTES` at most; too few tell nothing
 */
export function looksRandom(spread: number, length: number): boolean {
  if (length < SPREAD_BYTES / 2) return false;
  return Math.log2(length) - spread / length > (length < SPREAD_BYTES ? RANDOM_BITS_SHORT : RANDOM_BITS);
}
