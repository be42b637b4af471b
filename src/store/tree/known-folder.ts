import { CodedError } from "@/core/codes";
import { CborReader, UnknownCbor } from "./cbor-reader";
import {
  type ByteString,
  checkedName,
  checkedType,
  decodeNode,
  type Entry,
  type EntryType,
  encodeFolder,
  folderOf,
  readFolderHead,
  readTime,
} from "./tree";

const NOTHING = Buffer.alloc(0);

/**
 * A folder as a recovery point before has it, gone through in the order of the names beside what is there now. Its entries
 * stay encoded, page by page: a run that finds nothing changed makes no object for each file, and of a folder with any
 * number of files one page is in memory. Of the entry that was come to, it has what tells whether it is unchanged.
 */
export class KnownFolder {
  /** The nodes that it consists of: one, or an index and its pages. */
  readonly nodes: Uint8Array[] = [];
  /** Pages that are to come. */
  private readonly pages: Uint8Array[] = [];
  /** The node whose entries are gone through. */
  memory: Buffer = NOTHING;
  private from = new CborReader(NOTHING);
  private left = 0;
  private passed = 0;
  /** Another writer's way of encoding was put into ours. */
  private rewritten = false;
  private there = false;
  private asked = false;

  /** Where in `memory` the entry begins, and where it ends. */
  begin = 0;
  end = 0;
  name: ByteString = "";
  type: EntryType = "file";
  mtime = 0n;
  ctime: Entry["ctime"];
  inode: Entry["inode"];
  size: Entry["size"];
  sameFile: Entry["sameFile"];
  node: Entry["node"];

  /**
   * @param bytesOf the bytes of a node
   * @param node the folder's; undefined for one that is not known
   * @param gone called for each entry that is passed by, since its name was not asked for
   */
  constructor(
    private readonly bytesOf: (id: Uint8Array) => Uint8Array,
    node: Uint8Array | undefined,
    private readonly gone: (known: KnownFolder) => void,
  ) {
    if (!node) return;
    this.nodes.push(node);
    this.open(node);
    this.nodes.push(...this.pages);
    this.pages.reverse();
    this.advance();
  }

  get empty(): boolean {
    return this.nodes.length === 0;
  }

  /** Moves on to an entry; names are asked for in their order. False where there is none of that name. */
  moveTo(name: ByteString): boolean {
    while (this.there && this.name < name) this.pass();
    this.asked = this.there && this.name === name;
    return this.asked;
  }

  /** Passes by all that is left. */
  finish(): void {
    while (this.there) this.pass();
  }

  /** All of the entry that was come to. */
  entry(): Entry {
    const node = decodeNode(folderOf(1, this.bytes()));
    if (node.kind !== "folder") throw new UnknownCbor();
    return node.entries[0]!;
  }

  /** The entry as it lies in its node. */
  bytes(): Buffer {
    return this.memory.subarray(this.begin, this.end);
  }

  private pass(): void {
    if (!this.asked) this.gone(this);
    this.asked = false;
    this.advance();
  }

  private advance(): void {
    this.there = false;
    while (this.left === 0) {
      const page = this.pages.pop();
      if (!page) return;
      this.open(page);
    }
    this.begin = this.from.position;
    try {
      this.skim();
    } catch (error) {
      if (!(error instanceof UnknownCbor)) throw error;
      this.rewriteHere();
      this.skim();
    }
    this.end = this.from.position;
    this.left -= 1;
    this.passed += 1;
    this.there = true;
  }

  /** Begins with the entries of a node, or learns of its pages. */
  private open(node: Uint8Array): void {
    const bytes = this.bytesOf(node);
    this.memory = Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    if (this.take()) return;
    const content = decodeNode(this.memory);
    if (content.kind === "folder") this.rewrite(content.entries);
    else if (content.kind === "pages") this.pages.push(...content.pages.map((page) => page.node));
  }

  /** Begins with the entries of the node in memory; false where that is not written as this product writes a folder. */
  private take(): boolean {
    this.from = new CborReader(this.memory);
    this.passed = 0;
    this.left = 0;
    this.rewritten = false;
    try {
      const count = readFolderHead(this.from);
      if (count > 0) this.left = count;
      return count >= 0;
    } catch (error) {
      if (error instanceof UnknownCbor) return false;
      throw error;
    }
  }

  /** Puts a folder that another writer encoded otherwise into our way. */
  private rewrite(entries: readonly Entry[]): void {
    this.memory = encodeFolder(entries);
    this.take();
    this.rewritten = true;
  }

  /** Does so in the middle of it, and comes to the same entry. */
  private rewriteHere(): void {
    const { passed } = this;
    const content = this.rewritten ? null : decodeNode(this.memory);
    if (content?.kind !== "folder") throw new CodedError("store.damaged", "a folder of the point before");
    this.rewrite(content.entries);
    for (; this.passed < passed; this.passed += 1) this.skim();
    this.left -= passed;
    this.begin = this.from.position;
  }

  /** Reads of an entry what tells whether it is unchanged. */
  private skim(): void {
    const { from } = this;
    let has = 0;
    this.ctime = undefined;
    this.inode = undefined;
    this.size = undefined;
    this.sameFile = undefined;
    this.node = undefined;
    for (let left = from.map(); left > 0; left -= 1)
      switch (from.key()) {
        case "n":
          this.name = checkedName(from.latin1());
          has |= 1;
          break;
        case "t":
          this.type = checkedType(from.key());
          has |= 2;
          break;
        case "mt":
          this.mtime = readTime(from);
          has |= 4;
          break;
        case "ct":
          this.ctime = readTime(from);
          break;
        case "i":
          this.inode = from.whole();
          break;
        case "z":
          this.size = from.number();
          break;
        case "h":
          this.sameFile = from.text();
          break;
        case "s":
          this.node = from.bytes();
          break;
        default:
          from.skip();
      }
    if (has !== 7) throw new UnknownCbor();
  }
}
