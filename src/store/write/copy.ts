/**
 * Puts bytes into others from a place on; either may be memory that threads share, which V8's own `set` moves word by word
 * at half the speed, while filling a buffer with another is one move. They must not overlap, and there must be room.
 */
export function putBytes(into: Uint8Array, at: number, bytes: Uint8Array): void {
  if (bytes.length > SHORT) Buffer.prototype.fill.call(into, bytes, at, at + bytes.length);
  else into.set(bytes, at);
}

/** Up to here the call costs more than the bytes; and nothing at all cannot be filled with. */
const SHORT = 64;
