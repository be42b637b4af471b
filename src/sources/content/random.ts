const SAMPLE = 1024;
const RANDOM_BITS = 7.5;

const counts = new Int32Array(256);
/** n · log₂ n for every count that a sample can have. */
const weights = Float64Array.from({ length: SAMPLE + 1 }, (_, n) => (n ? n * Math.log2(n) : 0));

/** Whether the first bytes of a file are as random as encrypted or packed ones: Shannon entropy of up to 1 KiB. */
export function looksRandom(bytes: Uint8Array): boolean {
  const length = Math.min(SAMPLE, bytes.length);
  if (length < SAMPLE / 2) return false;
  counts.fill(0);
  for (let i = 0; i < length; i += 1) counts[bytes[i]!]!++;
  let sum = 0;
  for (let i = 0; i < 256; i += 1) sum += weights[counts[i]!]!;
  const bits = Math.log2(length) - sum / length;
  return bits > RANDOM_BITS - (length < SAMPLE ? 0.4 : 0);
}
