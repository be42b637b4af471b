/**
 * Content-defined chunking with a Gear hash and normalised chunk sizes (W. Xia et al., FastCDC, USENIX ATC 2016). The
 * hash is 32 bits wide, so a cut depends on the last 32 bytes alone; its upper bits are tested, where each of those
 * bytes has had its say.
 */
export const CHUNK_MIN = 256 * 1024;
export const CHUNK_AVERAGE = 1024 * 1024;
export const CHUNK_MAX = 4 * 1024 * 1024;

/** Harder than average before the wished size (22 bits), easier after it (18 bits). */
const MASK_BEFORE = 0xfffffc00 | 0;
const MASK_AFTER = 0xffffc000 | 0;

/**
 * Length of the first chunk of `data[start, end)`. When the bytes end before a cut is found, all of them are one chunk:
 * hand in at least CHUNK_MAX bytes unless the content ends there, or take an answer of all that was handed in as none yet.
 */
export function nextCut(data: Uint8Array, start: number, end: number, gear: Uint32Array): number {
  const length = end - start;
  if (length <= CHUNK_MIN) return length;
  const limit = start + Math.min(length, CHUNK_MAX);
  const wish = start + Math.min(length, CHUNK_AVERAGE);
  let hash = 0;
  // 32 bytes before the smallest cut fill the hash, so that a cut depends on content alone and not on where the chunk began
  let at = start + CHUNK_MIN - 32;
  for (; at < start + CHUNK_MIN; at += 1) hash = ((hash << 1) + gear[data[at]!]!) | 0;
  for (; at < wish; at += 1) {
    hash = ((hash << 1) + gear[data[at]!]!) | 0;
    if ((hash & MASK_BEFORE) === 0) return at + 1 - start;
  }
  for (; at < limit; at += 1) {
    hash = ((hash << 1) + gear[data[at]!]!) | 0;
    if ((hash & MASK_AFTER) === 0) return at + 1 - start;
  }
  return limit - start;
}
