import type { ByteString } from "@/store/tree/tree";

/** A name has 255 bytes at most. */
const NAME_MOST = 255;
const continues = (byte: number): boolean => (byte & 0xc0) === 0x80;

/**
 * The name of what is restored beside an existing item: with the moment, and a number from the second on. A long stem gives
 * way to them, by whole characters of UTF-8.
 */
export function besideName(name: ByteString, label: string, number: number): ByteString {
  const dot = name.lastIndexOf(".");
  const stem = dot > 0 ? name.slice(0, dot) : name;
  const ending = dot > 0 ? name.slice(dot) : "";
  const mark = ` (${label}${number > 1 ? ` ${number}` : ""})`;
  let length = Math.min(stem.length, NAME_MOST - mark.length - ending.length);
  while (length > 0 && continues(stem.charCodeAt(length))) length -= 1;
  return stem.slice(0, length) + mark + ending;
}
