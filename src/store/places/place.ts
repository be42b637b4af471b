import { CodedError } from "@/core/codes";

/**
 * A place where a depot's objects lie. Names are relative, `/`-separated, of letters, digits, `-` and `.` only.
 * Failures are CodedErrors: those of `depot.`, `not-found`, `request.conflict` for a name that is taken.
 */
export interface Place {
  /**
   * Writes a whole object or nothing; an existing name is never overwritten. With a day, a place that can does not let
   * anybody remove it before. Returns the bytes written.
   */
  put(
    name: string,
    content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>,
    lockedUntil?: Date,
  ): Promise<number>;
  size(name: string): Promise<number>;
  /** Reads `length` bytes from `offset`; fewer when the object ends before. Into the memory given, where a place can. */
  read(name: string, offset: number, length: number, into?: Buffer): Promise<Buffer>;
  /** Names below a prefix that ends with a slash, in no order; unfinished objects are not among them. */
  list(prefix: string): AsyncIterable<string>;
  /** Unfinished objects below a prefix, of writers at work and of those that were killed. */
  listUnfinished?(prefix: string): AsyncIterable<Unfinished>;
  /** Removes an object; one that is not there is no error. */
  remove(name: string): Promise<void>;
  /** Whether it locks objects at all; absent where nothing could. */
  lockSupport?(): Promise<LockSupport>;
  /** Keeps an object from being removed up to a day that is not before the one it has; where a place can do that. */
  extendLock?(name: string, until: Date): Promise<void>;
}

/** Whether a place locks objects, as far as it says so. */
export interface LockSupport {
  readonly state: "available" | "missing" | "unknown";
  /** What it said, where that is not a plain yes. */
  readonly said: string | null;
}

/** What was written of an object that does not exist under its name yet. */
export interface Unfinished {
  /** The object's name. */
  readonly name: string;
  remove(): Promise<void>;
}

/** Leave to write or read one object directly, for somebody who has no credentials, for a short while. */
export interface Leave {
  readonly url: string;
  /** Headers that are part of the leave: without them it is refused. */
  readonly headers: Readonly<Record<string, string>>;
}

/** A place that gives such leave. */
export interface LeavingPlace extends Place {
  /** To write an object that is not there yet. */
  leaveToPut(name: string, lockedUntil?: Date): Promise<Leave>;
  leaveToRead(name: string): Promise<Leave>;
}

const RANGE_BYTES = 4 * 1024 * 1024;

/** The bytes of an object, a range at a time. Throws `store.damaged` when it ends before its length. */
export async function* rangesOf(place: Place, name: string, size: number): AsyncGenerator<Buffer> {
  for (let at = 0; at < size; at += RANGE_BYTES) {
    const part = await place.read(name, at, Math.min(RANGE_BYTES, size - at));
    if (part.length === 0) throw new CodedError("store.damaged", `${name} ends before its length`);
    yield part;
  }
}
