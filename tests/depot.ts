import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { Code } from "@/core/codes";
import { compileSelection } from "@/core/selection/selection";
import { FilesReader } from "@/kinds/files/reader";
import { type ClashRule, restoreFiles } from "@/kinds/files/writer";
import type { SourceReader } from "@/sources/reader";
import { type PreviousTree, type StoringResult, storeSource } from "@/sources/store-source";
import { packName } from "@/store/packs/layout";
import type { PackHolds } from "@/store/packs/pack";
import { LocalFolder } from "@/store/places/local-folder";
import type { Place } from "@/store/places/place";
import { type PackSource, StoreReader } from "@/store/read/reader";
import { deriveStoreKeys } from "@/store/seal/keys";
import { byteString, idKey } from "@/store/tree/tree";
import { type Sink, StoreWriter, type WriterFigures } from "@/store/write/writer";

export const freshFolder = (name: string): string => mkdtempSync(join(tmpdir(), `deep-keep-${name}-`));

/** A depot on the disk with its index in memory: what the console does, without it. */
export class TestDepot implements Sink, PackSource {
  readonly keys = deriveStoreKeys(Buffer.alloc(32, 5));
  readonly index = new Map<string, string>();
  readonly packs: string[] = [];
  readonly folder: string;
  constructor(
    readonly place: Place = new LocalFolder(freshFolder("depot")),
    folder?: string,
  ) {
    this.folder = folder ?? "";
  }

  async known(ids: readonly Uint8Array[]): Promise<boolean[]> {
    return ids.map((id) => this.index.has(idKey(id)));
  }

  async putPack(packId: Buffer, parts: readonly Uint8Array[], { ids }: PackHolds): Promise<void> {
    const id = packId.toString("hex");
    await this.place.put(packName("s", id), parts);
    this.packs.push(id);
    for (const chunk of ids) this.index.set(idKey(chunk), id);
  }

  async locate(ids: readonly Uint8Array[]): Promise<(string | null)[]> {
    return ids.map((id) => this.index.get(idKey(id)) ?? null);
  }

  async open(packId: string) {
    const name = packName("s", packId);
    const size = await this.place.size(name);
    return { size, read: (offset: number, length: number) => this.place.read(name, offset, length) };
  }

  reader(): StoreReader {
    return new StoreReader(this.keys, this);
  }
}

export interface Snapped extends StoringResult {
  readonly stored: WriterFigures;
  readonly notes: readonly { readonly code: Code; readonly path: string }[];
  readonly previous: PreviousTree;
}

/** Stores folders of this machine, or of one whose disk is at `root`. */
export async function snap(
  depot: TestDepot,
  root: string,
  options: {
    folders?: string[];
    include?: string[];
    exclude?: string[];
    previous?: PreviousTree | null;
    reader?: SourceReader;
    progress?: { items: number; bytes: number };
  } = {},
): Promise<Snapped> {
  const writer = new StoreWriter(depot.keys, depot);
  const nodes = new Map<string, Uint8Array>();
  const notes: { code: Code; path: string }[] = [];
  const { folders = ["/"], include = [], exclude = [], previous = null } = options;
  const result = await storeSource({
    reader: options.reader ?? new FilesReader(root),
    writer,
    keys: depot.keys,
    folders,
    selector: compileSelection({ folders, include, exclude }),
    previous,
    keepNode: (id, bytes) => bytes && nodes.set(idKey(id), bytes),
    note: (code, path) => notes.push({ code, path }),
    progress: options.progress ?? { items: 0, bytes: 0 },
    signal: new AbortController().signal,
  });
  const stored = await writer.close();
  const bytes = (id: Uint8Array) => nodes.get(idKey(id)) ?? previous!.bytes(id);
  return { ...result, stored, notes, previous: { root: result.root, bytes } };
}

/** Restores paths of a snapshot below `machineRoot`. */
export async function bring(
  depot: TestDepot,
  root: Uint8Array,
  machineRoot: string,
  options: {
    paths?: string[];
    folder?: string | null;
    clash?: ClashRule;
    /** Breaks off after so many files. */
    breakAfter?: number;
    goesOnSince?: Date;
    mark?: string;
  } = {},
) {
  const broken = new AbortController();
  let restored = 0;
  const notes: { code: Code; path: string }[] = [];
  const figures = await restoreFiles(
    (options.paths ?? ["/"]).map((path) => ({
      root,
      momentLabel: "2026-11-17 18.05",
      path: byteString(path),
    })),
    {
      store: depot.reader(),
      machineRoot,
      folder: options.folder ?? null,
      clash: options.clash ?? "keep-both",
      note: (code, path) => notes.push({ code, path }),
      progress: { items: 0, bytes: 0 },
      goesOnSince: options.goesOnSince ?? null,
      ...(options.mark ? { mark: options.mark } : {}),
      restored: () => {
        restored += 1;
        if (restored === options.breakAfter) broken.abort(new Error("the machine went off"));
      },
      signal: broken.signal,
    },
  );
  return { figures, notes };
}
