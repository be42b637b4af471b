/**
 * Content-defined chunking with a Gear hash and normalised chunk sizes (W. Xia et al., FastCDC, USENIX ATC 2016). The
 * hash is 32 bits wide, so a cut depends on the last 32 bytes alone; its upper bits are tested, where each of those
 * bytes has had its say. It is asked only at likely places, which are found sixteen at a time (decisions/0029).
 */
export const CHUNK_MIN = 256 * 1024;
export const CHUNK_AVERAGE = 1024 * 1024;
export const CHUNK_MAX = 4 * 1024 * 1024;

/** Words of the chunker's table: one for each byte, and four by which likely places are found. */
export const GEAR_WORDS = 256;
export const TABLE_WORDS = GEAR_WORDS + 4;

/** One place of 4,096 is a likely one. */
const MASK_LIKELY = 0xfff0;
/** Harder than average before the wished size (10 bits more), easier after it (6 bits more). */
const MASK_BEFORE = 0xffc00000 | 0;
const MASK_AFTER = 0xfc000000 | 0;

/**
 * Length of the first chunk of `data[start, end)`. When the bytes end before a cut is found, all of them are one chunk:
 * hand in at least CHUNK_MAX bytes unless the content ends there, or take an answer of all that was handed in as none yet.
 * This is the definition in plain words; what runs is `cutting/cut.wat`.
 */
export function nextCut(data: Uint8Array, start: number, end: number, table: Uint32Array): number {
  const length = end - start;
  if (length <= CHUNK_MIN) return length;
  const limit = start + Math.min(length, CHUNK_MAX);
  const wish = start + Math.min(length, CHUNK_AVERAGE);
  for (let at = start + CHUNK_MIN + 1; at <= limit; at += 1)
    if (
      isLikely(data, at, table) &&
      (gearHash(data, at, table) & (at <= wish ? MASK_BEFORE : MASK_AFTER)) === 0
    )
      return at - start;
  return limit - start;
}

/** The 8 bytes before a place as four words of 16 bits, each times a factor of the table, modulo 2^16. */
function isLikely(data: Uint8Array, at: number, table: Uint32Array): boolean {
  let sum = (table[GEAR_WORDS]! >>> 16) | 0x8000;
  for (let i = 0; i < 4; i += 1) {
    const word = data[at - 8 + 2 * i]! | (data[at - 7 + 2 * i]! << 8);
    sum += ((table[GEAR_WORDS + i]! & 0xffff) | 1) * word;
  }
  return (sum & MASK_LIKELY) === 0;
}

/** The Gear hash of the 32 bytes before a place. */
function gearHash(data: Uint8Array, at: number, table: Uint32Array): number {
  let hash = 0;
  for (let i = at - 32; i < at; i += 1) hash = ((hash << 1) + table[data[i]!]!) | 0;
  return hash;
}
