import { Readable } from "node:stream";
import { setTimeout as pause } from "node:timers/promises";

/** Bytes are let through in slices of this size at most, so that a slow link is used evenly. */
const SLICE_BYTES = 16 * 1024;
/** What was not used is not saved up for longer than this. */
const SAVED_MS = 250;

/** Lets bytes through at a rate that can be changed on the way; one pacer for all that a run sends. */
export class Pacer {
  private rate: number | null = null;
  /** When the bytes that were let through so far will have passed, at the rate. */
  private freeAt = 0;
  private changed: AbortController = new AbortController();

  /** The signal ends the waiting, and with it what is being sent. */
  constructor(readonly signal: AbortSignal) {}

  /** Bytes a second; null: no limit. Whoever waits goes on by the new rate. */
  set(bytesPerSecond: number | null): void {
    if (bytesPerSecond === this.rate) return;
    this.rate = bytesPerSecond;
    this.freeAt = performance.now();
    this.changed.abort();
    this.changed = new AbortController();
  }

  get limited(): boolean {
    return this.rate !== null;
  }

  /** Resolves when so many bytes may be sent. Throws the signal's reason when the run is stopped meanwhile. */
  async take(bytes: number): Promise<void> {
    while (this.rate !== null) {
      if (this.signal.aborted) throw this.signal.reason;
      const now = performance.now();
      this.freeAt = Math.max(this.freeAt, now - SAVED_MS);
      if (this.freeAt <= now) {
        this.freeAt += (bytes / this.rate) * 1000;
        return;
      }
      const either = AbortSignal.any([this.signal, this.changed.signal]);
      await pause(this.freeAt - now, undefined, { signal: either }).catch(() => {});
    }
  }

  /** The bytes of parts one after another, at the rate. */
  async *slices(parts: readonly Uint8Array[]): AsyncGenerator<Uint8Array> {
    for (const part of parts) {
      for (let at = 0; at < part.length; at += SLICE_BYTES) {
        const slice = part.subarray(at, at + SLICE_BYTES);
        await this.take(slice.length);
        yield slice;
      }
    }
  }
}

/** A body of known length for a request, sent at the pacer's rate; as it is where there is none. */
export function pacedBody(
  parts: readonly Uint8Array[],
  pacer: Pacer | undefined,
): { readonly body: BodyInit; readonly headers: Record<string, string> } {
  const length = parts.reduce((sum, part) => sum + part.length, 0);
  if (!pacer?.limited) return { body: new Blob([...parts] as BlobPart[]), headers: {} };
  return {
    body: Readable.toWeb(Readable.from(pacer.slices(parts))) as unknown as BodyInit,
    headers: { "content-length": String(length) },
  };
}
