import { constants } from "node:fs";
import { type FileHandle, link, mkdir, open, opendir, readFile, stat, unlink } from "node:fs/promises";
import { dirname, join } from "node:path";
import { CodedError } from "@/core/codes";
import { DEPOT_FILE } from "../packs/layout";
import type { Place, Unfinished } from "./place";

const SAFE_NAME = /^[A-Za-z0-9.-]+(\/[A-Za-z0-9.-]+)*$/;
const UNFINISHED = ".part";
/** What an unfinished object's file has after the object's name. */
const UNFINISHED_END = /\.\d+-[a-z0-9]*\.part$/;

function coded(error: unknown, name: string): Error {
  if (error instanceof CodedError) return error;
  const code = (error as NodeJS.ErrnoException).code;
  if (code === "ENOSPC" || code === "EDQUOT") return new CodedError("depot.full", name, { cause: error });
  if (code === "ENOENT") return new CodedError("not-found", name, { cause: error });
  if (code === "EEXIST")
    return new CodedError("request.conflict", `${name} exists already`, { cause: error });
  return new CodedError("depot.not-reached", `${name}: ${(error as Error).message}`, { cause: error });
}

/**
 * A local folder, or a mounted share, as a place. Objects appear under their name only when all their bytes are on the
 * disk. With a depot's id, nothing is written or listed unless the folder says that it is this depot: a mount point whose
 * disk is away is never taken for an empty depot.
 */
export class LocalFolder implements Place {
  constructor(
    private readonly root: string,
    private readonly depotId: string | null = null,
  ) {}

  private path(name: string): string {
    if (!SAFE_NAME.test(name) || name.split("/").some((part) => part === "." || part === "..")) {
      throw new CodedError("request.invalid", `${JSON.stringify(name)} is no name of an object`);
    }
    return join(this.root, name);
  }

  async put(name: string, content: AsyncIterable<Uint8Array> | Iterable<Uint8Array>): Promise<number> {
    const path = this.path(name);
    const unfinished = `${path}.${process.pid}-${Math.random().toString(36).slice(2)}${UNFINISHED}`;
    let file: FileHandle | undefined;
    try {
      await this.rootMustExist();
      await this.makeFolders(name);
      file = await open(unfinished, constants.O_CREAT | constants.O_EXCL | constants.O_WRONLY, 0o600);
      let written = 0;
      for await (const part of content) {
        await file.appendFile(part);
        written += part.length;
      }
      await file.datasync();
      await file.close();
      file = undefined;
      await link(unfinished, path); // unlike a rename, never replaces what is there
      const folder = await open(dirname(path), constants.O_RDONLY);
      await folder.sync().finally(() => folder.close());
      return written;
    } catch (error) {
      throw coded(error, name);
    } finally {
      await file?.close().catch(() => {});
      await unlink(unfinished).catch(() => {});
    }
  }

  /** One by one: where nothing can be made, as in /proc, Node's recursive mkdir never ends. */
  private async makeFolders(name: string): Promise<void> {
    let folder = this.root;
    for (const part of name.split("/").slice(0, -1)) {
      folder = join(folder, part);
      await mkdir(folder, { mode: 0o700 }).catch((error: NodeJS.ErrnoException) => {
        if (error.code !== "EEXIST") throw error;
      });
    }
  }

  /** A depot's disk that is not mounted leaves an empty folder behind, or none: never write beside it. */
  private async rootMustExist(): Promise<void> {
    const found = await stat(this.root).catch(() => null);
    if (!found?.isDirectory())
      throw new CodedError("depot.not-reached", `the folder ${this.root} is not there`);
    if (this.depotId === null) return;
    const description = await readFile(join(this.root, DEPOT_FILE), "utf8").catch(() => null);
    if (description === null)
      throw new CodedError("depot.not-reached", `${DEPOT_FILE} is not in ${this.root}: is its disk mounted?`);
    if (!description.includes(this.depotId))
      throw new CodedError("depot.not-a-depot", `${this.root} holds another depot`);
  }

  async size(name: string): Promise<number> {
    return (await stat(this.path(name)).catch((error) => Promise.reject(coded(error, name)))).size;
  }

  async read(name: string, offset: number, length: number, into?: Buffer): Promise<Buffer> {
    let file: FileHandle | undefined;
    try {
      file = await open(this.path(name), "r");
      const buffer = into && into.length >= length ? into : Buffer.allocUnsafe(length);
      let filled = 0;
      while (filled < length) {
        const { bytesRead } = await file.read(buffer, filled, length - filled, offset + filled);
        if (bytesRead === 0) break;
        filled += bytesRead;
      }
      return buffer.subarray(0, filled);
    } catch (error) {
      throw coded(error, name);
    } finally {
      await file?.close();
    }
  }

  async *list(prefix: string): AsyncIterable<string> {
    if (this.depotId !== null) await this.rootMustExist();
    for await (const name of this.listBelow(prefix)) if (!name.endsWith(UNFINISHED)) yield name;
  }

  async *listUnfinished(prefix: string): AsyncIterable<Unfinished> {
    if (this.depotId !== null) await this.rootMustExist();
    for await (const name of this.listBelow(prefix))
      if (name.endsWith(UNFINISHED))
        yield { name: name.replace(UNFINISHED_END, ""), remove: () => this.remove(name) };
  }

  private async *listBelow(prefix: string): AsyncIterable<string> {
    const folder = prefix.replace(/\/$/, "");
    const opened = await opendir(folder ? this.path(folder) : this.root).catch(
      (error: NodeJS.ErrnoException) => {
        if (error.code === "ENOENT") return null;
        throw coded(error, prefix);
      },
    );
    if (!opened) return;
    for await (const entry of opened) {
      const name = folder ? `${folder}/${entry.name}` : entry.name;
      if (entry.isDirectory()) yield* this.listBelow(`${name}/`);
      else if (entry.isFile()) yield name;
    }
  }

  async remove(name: string): Promise<void> {
    await unlink(this.path(name)).catch((error: NodeJS.ErrnoException) => {
      if (error.code !== "ENOENT") throw coded(error, name);
    });
  }
}
