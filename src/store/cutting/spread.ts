/** A spread is taken of so many bytes at most. */
export const SPREAD_BYTES = 1024;

/** n · log₂ n for every count n that a byte can have in them. */
export const spreadWeights = Float64Array.from({ length: SPREAD_BYTES + 1 }, (_, n) =>
  n ? n * Math.log2(n) : 0,
);

/**
 * The sum of n · log₂ n over the counts n of all byte values: the entropy of the bytes is `log₂(length) - spread / length` bits
 * (Shannon). This is the definition in plain words; what runs is `cut.wat`.
 */
export function spreadOf(bytes: Uint8Array): number {
  const counts = new Uint32Array(256);
  for (const byte of bytes.subarray(0, SPREAD_BYTES)) counts[byte]! += 1;
  return counts.reduce((sum, count) => sum + spreadWeights[count]!, 0);
}
