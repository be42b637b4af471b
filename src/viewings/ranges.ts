/** A part of a file: from its first byte to before `to`. */
export interface Range {
  readonly from: number;
  readonly to: number;
}

/**
 * The part that a `Range` header asks for (RFC 9110): null for the whole file, also where the header is none that is
 * understood or asks for several parts; "none" where the file has no such bytes.
 */
export function rangeOf(header: string | undefined, size: number): Range | "none" | null {
  const match = /^bytes=(\d*)-(\d*)$/.exec(header?.trim() ?? "");
  if (!match || (match[1] === "" && match[2] === "")) return null;
  if (match[1] === "") {
    const last = Number(match[2]);
    return last === 0 || size === 0 ? "none" : { from: Math.max(0, size - last), to: size };
  }
  const from = Number(match[1]);
  const to = match[2] === "" ? size : Math.min(size, Number(match[2]) + 1);
  if (match[2] !== "" && Number(match[2]) < from) return null;
  return from >= size ? "none" : { from, to };
}
