import { type ByteString, encodePages, type FolderPage, folderOf } from "./tree";

const PAGE_LEAST = 256;
const PAGE_MOST = 4096;
const FOLDER_MOST = 2048;
/** Room for the entries of a small folder, bytes. */
const FIRST_ROOM = 2048;

/** FNV-1a, 32 bits: decides where the pages of a large folder end, so that one new name moves one boundary at most. */
function nameHash(name: ByteString): number {
  let hash = 0x811c9dc5;
  for (let i = 0; i < name.length; i += 1) hash = Math.imul(hash ^ name.charCodeAt(i), 0x01000193);
  return hash >>> 0;
}

/** A page that is complete: its first name, and how many entries and bytes there are up to its end. */
interface Cut {
  readonly first: ByteString;
  readonly entries: number;
  readonly end: number;
}

/**
 * Makes the node of a folder of its entries, given in the order of their names and encoded; of a large one an index and its
 * pages. Of a large folder no more than a page is held, however many entries it has.
 */
export class FolderNodes {
  private memory = Buffer.allocUnsafe(FIRST_ROOM);
  private at = 0;
  /** Entries that are held, and those of them that lie after the last complete page. */
  private held = 0;
  private inPage = 0;
  private first: ByteString = "";
  /** Complete pages that are held, since the folder may stay whole. */
  private cuts: Cut[] = [];
  private pages: FolderPage[] | null = null;

  /** @param addNode stores a node and gives its id */
  constructor(private readonly addNode: (bytes: Buffer) => Uint8Array) {}

  /** Adds an entry that lies encoded between two places of some memory. */
  add(name: ByteString, from: Buffer, begin = 0, end = from.length): void {
    const length = end - begin;
    if (this.at + length > this.memory.length) {
      const longer = Buffer.allocUnsafeSlow(2 * (this.at + length));
      this.memory.copy(longer, 0, 0, this.at);
      this.memory = longer;
    }
    from.copy(this.memory, this.at, begin, end);
    this.at += length;
    if (this.inPage === 0) this.first = name;
    this.held += 1;
    this.inPage += 1;
    if (this.inPage >= PAGE_MOST || (this.inPage >= PAGE_LEAST && nameHash(name) % 1024 === 0)) {
      this.cuts.push({ first: this.first, entries: this.held, end: this.at });
      this.inPage = 0;
    }
    if (this.pages ? this.cuts.length > 0 : this.held > FOLDER_MOST) this.storePages();
  }

  /** Stores the complete pages, and holds what follows them. */
  private storePages(): void {
    this.pages ??= [];
    let [entries, start] = [0, 0];
    for (const cut of this.cuts) {
      const count = cut.entries - entries;
      const node = this.addNode(folderOf(count, this.memory.subarray(start, cut.end)));
      this.pages.push({ first: cut.first, node, count });
      [entries, start] = [cut.entries, cut.end];
    }
    this.cuts = [];
    this.memory.copyWithin(0, start, this.at);
    this.held -= entries;
    this.at -= start;
  }

  /** All entries were added: the id of the folder's node. */
  end(): Uint8Array {
    if (!this.pages) return this.addNode(folderOf(this.held, this.memory.subarray(0, this.at)));
    if (this.held > 0) {
      this.cuts.push({ first: this.first, entries: this.held, end: this.at });
      this.storePages();
    }
    const [page, another] = this.pages;
    return another ? this.addNode(encodePages(this.pages)) : page!.node;
  }
}
