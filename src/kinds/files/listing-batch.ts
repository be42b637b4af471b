import { constants } from "node:fs";
import { compileSelection, type FileSelection, outermostFolders } from "@/core/selection/selection";
import { OpenFolder, STAT_WORDS } from "@/sources/machine/libc";
import { joinPath } from "@/sources/machine/paths";
import { type ByteString, byteString, showBytes } from "@/store/tree/tree";
import { FilesReader } from "./reader";

/** A walk that is to be listed ahead. */
export interface AheadOf {
  /** As `FilesReader` has them. */
  readonly root: string;
  readonly passOver: readonly string[];
  /** Absolute folders to walk. */
  readonly folders: readonly string[];
  /** Folders that it leaves out are not listed. */
  readonly what: FileSelection;
}

/** What the thread that lists is asked: to begin with a walk, to list more of it, or to end with it. */
export type ListingJob =
  | ({ readonly begin: number } & AheadOf)
  | { readonly more: number }
  | { readonly end: number };

/** Some folders, in the order in which a run walks them; little for each file, since it adds up. */
export interface ListingBatch {
  /** Their paths, with a NUL after each. */
  readonly folders: string;
  /** For each its time, milliseconds since 1970, and how many names it has; -1 for one that the run must list itself. */
  readonly numbers: Float64Array;
  /** The names, with a NUL after each. */
  readonly names: string;
  /** What each is, as `statsAt` reads it. */
  readonly stats: Uint32Array;
  /** Nothing follows. */
  readonly ended: boolean;
}

export const NUMBERS = 2;
export const LIST_IT_YOURSELF = -1;
/** A batch ends with the folder that makes it as many. */
const BATCH_FILES = 1024;
/** A folder of more is the run's: it looks at each file when it comes to it, and holds none of what it is told. */
const FOLDER_MOST = 8192;

export const NOTHING_LISTED: ListingBatch = {
  folders: "",
  numbers: new Float64Array(0),
  names: "",
  stats: new Uint32Array(0),
  ended: true,
};

class BatchBuilder {
  private folders = "";
  private readonly numbers: number[] = [];
  private names = "";
  private stats = new Uint32Array((BATCH_FILES + 128) * STAT_WORDS);
  private count = 0;

  get full(): boolean {
    return this.count >= BATCH_FILES || this.numbers.length >= NUMBERS * BATCH_FILES;
  }

  /** Lists a folder; gives the names of the folders in it. */
  list(path: ByteString, full: ByteString): ByteString[] {
    const at = Date.now();
    const below: ByteString[] = [];
    const had = { names: this.names, count: this.count };
    let names = LIST_IT_YOURSELF;
    let folder: OpenFolder | null = null;
    try {
      folder = OpenFolder.open(full, path === "/");
      const found = folder.names(FOLDER_MOST);
      if (found.count <= FOLDER_MOST) {
        this.makeRoom(found.count);
        for (const name of found.inOrder()) {
          const mode = folder.lookInto(name, this.stats, this.count * STAT_WORDS);
          if ((mode & constants.S_IFMT) === constants.S_IFDIR) below.push(name);
          this.names += `${name}\0`;
          this.count += 1;
        }
        names = found.count;
      }
    } catch {
      // the run comes upon the same, and tells of it
      [this.names, this.count] = [had.names, had.count];
    } finally {
      folder?.close();
    }
    this.folders += `${path}\0`;
    this.numbers.push(at, names);
    return below;
  }

  private makeRoom(files: number): void {
    const wanted = (this.count + files) * STAT_WORDS;
    if (wanted <= this.stats.length) return;
    const longer = new Uint32Array(wanted);
    longer.set(this.stats);
    this.stats = longer;
  }

  batch(ended: boolean): ListingBatch {
    const { folders, names } = this;
    const stats = this.stats.slice(0, this.count * STAT_WORDS);
    return { folders, numbers: Float64Array.from(this.numbers), names, stats, ended };
  }
}

/** One walk, batch by batch. */
class Walk {
  private readonly reader: FilesReader;
  private readonly takesFolder: (path: string) => boolean;
  /** Folders that are to come, the next one last. */
  private readonly ahead: ByteString[];

  constructor({ root, passOver, folders, what }: AheadOf) {
    this.reader = new FilesReader(root, passOver);
    this.takesFolder = compileSelection(what).takesFolder;
    this.ahead = outermostFolders(folders)
      .map(byteString)
      .sort((one, other) => (walksBefore(one, other) ? 1 : -1));
  }

  next(): ListingBatch {
    const batch = new BatchBuilder();
    while (!batch.full) {
      const path = this.ahead.pop();
      if (path === undefined) return batch.batch(true);
      const below = batch.list(path, this.reader.place(path));
      for (const name of below.reverse()) {
        const child = joinPath(path, name);
        if (this.takesFolder(showBytes(child)) && !this.reader.passesOver(child)) this.ahead.push(child);
      }
    }
    return batch.batch(false);
  }
}

/** Whether a run that goes through folders in order of their names comes to one before it comes to another. */
export function walksBefore(path: ByteString, other: ByteString): boolean {
  const [one, two] = [path, other].map((whole) => (whole === "/" ? [] : whole.slice(1).split("/")));
  for (const [i, part] of one!.entries()) {
    if (i >= two!.length) return false;
    if (part !== two![i]) return part < two![i]!;
  }
  return one!.length < two!.length;
}

/** What the thread that lists does with each job. */
export class Walks {
  private readonly walks = new Map<number, Walk>();

  answer(job: ListingJob): ListingBatch {
    if ("more" in job) return this.walks.get(job.more)?.next() ?? NOTHING_LISTED;
    if ("begin" in job) this.walks.set(job.begin, new Walk(job));
    else this.walks.delete(job.end);
    return NOTHING_LISTED;
  }
}
