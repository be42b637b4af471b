import { lstatSync, renameSync, rmdirSync, unlinkSync } from "node:fs";
import { CodedError } from "@/core/codes";
import { type ByteString, showBytes } from "@/store/tree";
import { systemPath } from "./paths";
import { type Metadata, type MetadataLeft, putFile } from "./put-file";

/** Files that are put in place together. */
export interface Batch {
  /** The content of all of them, one after another. */
  readonly content: Uint8Array;
  readonly files: readonly FileToPlace[];
}
export interface FileToPlace {
  /** The name that it has until it is whole. */
  readonly unfinished: ByteString;
  readonly path: ByteString;
  /** Nothing can be at its path. */
  readonly fresh: boolean;
  readonly length: number;
  readonly metadata: Metadata;
  readonly digest: boolean;
}
export type Placed =
  | (MetadataLeft & { readonly digest: string | null })
  | { readonly code: string | null; readonly coded: boolean; readonly message: string };

/** Puts files in place, each whole or not at all; what went wrong with one is told beside it. */
export function placeAll({ content, files }: Batch): Placed[] {
  let at = 0;
  return files.map(({ unfinished, path, fresh, length, metadata, digest }) => {
    const bytes = content.subarray(at, at + length);
    at += length;
    try {
      const put = putFile(unfinished, bytes, metadata, digest);
      putInPlace(unfinished, path, fresh);
      return put;
    } catch (error) {
      // what could not be made is not ours
      if ((error as NodeJS.ErrnoException).syscall !== "open") tryUnlink(unfinished);
      const coded = error instanceof CodedError;
      return {
        code: (error as NodeJS.ErrnoException).code ?? null,
        coded,
        message: (error as Error).message,
      };
    }
  });
}

/** Gives what is whole its name. A folder that is there gives way only when it is empty. */
export function putInPlace(unfinished: ByteString, path: ByteString, fresh: boolean): void {
  if (!fresh && lookAt(path)?.isDirectory()) {
    try {
      rmdirSync(systemPath(path));
    } catch (error) {
      tryUnlink(unfinished);
      throw new CodedError("restore.cannot-write", `${showBytes(path)} is a folder that is not empty`, {
        cause: error,
      });
    }
  }
  renameSync(systemPath(unfinished), systemPath(path));
}

export const lookAt = (path: ByteString) => lstatSync(systemPath(path), { throwIfNoEntry: false });

export function tryUnlink(path: ByteString): void {
  try {
    unlinkSync(systemPath(path));
  } catch {
    // it was renamed away, or never made
  }
}
