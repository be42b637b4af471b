const BILLION = 1_000_000_000n;
/** A time as a number of 64 bits, and the same as its lower and upper half. */
const whole = new BigInt64Array(1);
const halves = new Int32Array(whole.buffer);
/** As far from 1970 as nanoseconds of 64 bits reach, to the years 1677 and 2262. */
const SECONDS_MOST = 9_223_372_035;

/**
 * Whole seconds before a time, and the nanoseconds from there (0 to 999,999,999), of nanoseconds since 1970. In numbers, as far
 * as 64 bits reach: a run looks at two times of each file, and dividing a bigint takes ten times as long.
 */
export function splitTime(time: bigint): readonly [seconds: number, nanoseconds: number] {
  whole[0] = time;
  if (whole[0] !== time) {
    const nanoseconds = ((time % BILLION) + BILLION) % BILLION;
    return [Number((time - nanoseconds) / BILLION), Number(nanoseconds)];
  }
  const [low, high] = [halves[0]!, halves[1]!];
  // near enough that what is left can be told by its lower half
  const seconds = Math.floor((high * 2 ** 32 + (low >>> 0)) / 1e9);
  const nanoseconds = (low - Math.imul(seconds, 1e9)) | 0;
  if (nanoseconds < 0) return [seconds - 1, nanoseconds + 1e9];
  return nanoseconds < 1e9 ? [seconds, nanoseconds] : [seconds + 1, nanoseconds - 1e9];
}

/** Nanoseconds since 1970 of seconds and nanoseconds, both integers. */
export function joinTime(seconds: number, nanoseconds: number): bigint {
  if (Math.abs(seconds) > SECONDS_MOST) return BigInt(seconds) * BILLION + BigInt(nanoseconds);
  const low = (Math.imul(seconds, 1e9) + nanoseconds) | 0;
  halves[0] = low;
  halves[1] = Math.round((seconds * 1e9 + nanoseconds - (low >>> 0)) / 2 ** 32);
  return whole[0]!;
}
