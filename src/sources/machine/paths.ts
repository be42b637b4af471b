import type { ByteString } from "@/store/tree/tree";

/** A path for Node's calls: text when it is plain ASCII (quicker), else its bytes. */
export function systemPath(path: ByteString): string | Buffer {
  return /^[\x00-\x7f]*$/.test(path) ? path : Buffer.from(path, "latin1");
}

export const joinPath = (folder: ByteString, name: ByteString): ByteString =>
  folder === "/" ? `/${name}` : `${folder}/${name}`;
