import { CodedError } from "@/core/codes";
import type { ChunkReader } from "../read/reader";
import { splitIds } from "../seal/identity";
import { type ByteString, idKey } from "./tree";

/** Ids of nodes and chunks that trees need. Adding a tree costs what is new in it: a node seen before was added with all below it. */
export class Needed {
  readonly nodes = new Set<ByteString>();
  readonly chunks = new Set<ByteString>();

  has(id: Uint8Array): boolean {
    const key = idKey(id);
    return this.nodes.has(key) || this.chunks.has(key);
  }

  /** Adds everything below a node. Throws `store.damaged` where the tree does not open. */
  async add(reader: ChunkReader, node: Uint8Array): Promise<void> {
    const key = idKey(node);
    if (this.nodes.has(key)) return;
    const content = await reader.node(node);
    if (content.kind === "chunks") for (const id of splitIds(content.ids)) this.chunks.add(idKey(id));
    else if (content.kind === "pages") for (const page of content.pages) await this.add(reader, page.node);
    else if (content.kind === "folder") {
      for (const entry of content.entries) {
        if (entry.node) await this.add(reader, entry.node);
        if (entry.chunks) for (const id of splitIds(entry.chunks)) this.chunks.add(idKey(id));
        if (entry.chunkPages) for (const page of splitIds(entry.chunkPages)) await this.add(reader, page);
      }
    } else throw new CodedError("store.damaged", "a tree node of an unknown kind");
    // last: a tree that breaks off in the middle was not added
    this.nodes.add(key);
  }
}
