const SAMPLE = 1024;
const RANDOM_BITS = 7.5;

const counts = new Int32Array(256);
/** n · log₂ n for every count that a sample can have. */
const weights = Float64Array.from({ length: SAMPLE + 1 }, (_, n) => (n ? n * Math.log2(n) : 0));

/**
 * Bytes of which a share of `p` have their highest bit set have at most `7 + H(p)` bits of entropy, whatever else they are:
 * a share of these and less, or of as many without it, is not random for a sample of the full length, and a shorter one.
 * Most files are told by that, and counting takes three times as long.
 */
const LEAST_HIGH = 0.11;
const LEAST_HIGH_SHORT = 0.0125;

/** Whether the first bytes of a file are as random as encrypted or packed ones: Shannon entropy of up to 1 KiB. */
export function looksRandom(bytes: Uint8Array): boolean {
  const length = Math.min(SAMPLE, bytes.length);
  if (length < SAMPLE / 2) return false;
  const whole = length === SAMPLE;
  let high = 0;
  for (let i = 0; i < length; i += 1) high += bytes[i]! >> 7;
  if (Math.min(high, length - high) <= length * (whole ? LEAST_HIGH : LEAST_HIGH_SHORT)) return false;
  counts.fill(0);
  for (let i = 0; i < length; i += 1) counts[bytes[i]!]!++;
  let sum = 0;
  for (let i = 0; i < 256; i += 1) sum += weights[counts[i]!]!;
  const bits = Math.log2(length) - sum / length;
  return bits > RANDOM_BITS - (whole ? 0 : 0.4);
}
