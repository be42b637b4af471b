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
  /** Reads `length` bytes from `offset`; fewer when the object ends before. */
  read(name: string, offset: number, length: number): Promise<Buffer>;
  /** Names below a prefix that ends with a slash, in no order; unfinished objects are not among them. */
  list(prefix: string): AsyncIterable<string>;
  /** Removes an object; one that is not there is no error. */
  remove(name: string): Promise<void>;
}
