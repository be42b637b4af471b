import type { Readable } from "node:stream";
import type { OpenFile } from "./reader";

/** So much of a stream is held before its source has to wait; at least as much as is read at once. */
const HELD = 2 * 1024 * 1024;

/**
 * Content that arrives as a stream of unknown length, such as the output of a program. `ended` is awaited after the last byte:
 * it rejects where the content is not whole, and then no end is read.
 */
export function streamFile(
  stream: Readable,
  ended: Promise<void>,
  xattrs: OpenFile["xattrs"] = () => [],
): OpenFile {
  const parts: Buffer[] = [];
  let held = 0;
  let state: "open" | "whole" | { readonly error: unknown } = "open";
  let wake: (() => void) | null = null;
  const woken = () => {
    wake?.();
    wake = null;
  };
  stream.on("data", (part: Buffer) => {
    parts.push(part);
    held += part.length;
    if (held >= HELD) stream.pause();
    woken();
  });
  const failed = (error: unknown) => {
    if (state === "open") state = { error };
    woken();
  };
  stream.once("error", failed);
  stream.once("end", () => {
    ended.then(() => {
      if (state === "open") state = "whole";
      woken();
    }, failed);
  });
  // a program that fails may do so before its output ends
  ended.catch(failed);
  return {
    size: Number.MAX_SAFE_INTEGER,
    extents: null,
    pending: (length) => {
      if (state !== "open" || held >= length) return null;
      stream.resume();
      return new Promise((resolve) => {
        wake = resolve;
      });
    },
    read: (into, at, length) => {
      if (typeof state === "object") throw state.error;
      let copied = 0;
      while (copied < length && parts.length > 0) {
        const [first] = parts as [Buffer];
        const part = first.subarray(0, length - copied);
        part.copy(into, at + copied);
        copied += part.length;
        if (part.length === first.length) parts.shift();
        else parts[0] = first.subarray(part.length);
      }
      held -= copied;
      return copied;
    },
    changed: () => false,
    xattrs,
    close: () => {
      stream.destroy();
    },
  };
}
