import { Readable } from "node:stream";
import type { StoredDisk } from "@/store/read/disk";

/**
 * A disk as an image of the format qcow2 version 3, in the order in which it lies in the file: headers and tables first,
 * then the clusters that hold something. Source: QEMU's specification of the format (docs/interop/qcow2.txt). All of the
 * tables are known before the first byte, since what is stored is.
 */
const CLUSTER_BITS = 16;
const CLUSTER = 2 ** CLUSTER_BITS;
const MAGIC = 0x514649fb;
const HEADER_BYTES = 112;
/** A cluster that only one table names; it may be written to in place. */
const COPIED = 1n << 63n;
const L2_ENTRIES = CLUSTER / 8;
/** Reference counts are 16 bits wide. */
const REFCOUNT_ORDER = 4;
const COUNTS_PER_CLUSTER = CLUSTER / 2;
const READ_BYTES = 1024 * 1024;

export interface Qcow2 {
  /** Length of the file, bytes. */
  readonly length: number;
  readonly stream: Readable;
}

const clustersOf = (bytes: number): number => Math.ceil(bytes / CLUSTER);

/** Stretches of whole clusters that hold something. */
function stretchesOf(disk: StoredDisk): { first: number; after: number }[] {
  const stretches: { first: number; after: number }[] = [];
  for (let at = 0; at < disk.size; ) {
    const { stored, length } = disk.stretch(at, disk.size - at);
    // chunks of disks are multiples of clusters
    if (stored) stretches.push({ first: at / CLUSTER, after: clustersOf(at + length) });
    at += length;
  }
  return stretches;
}

/** @param passed so many bytes more of the disk have been read */
export function qcow2Of(disk: StoredDisk, passed: (bytes: number) => void = () => {}): Qcow2 {
  const stretches = stretchesOf(disk);
  const dataClusters = stretches.reduce((sum, { first, after }) => sum + after - first, 0);
  const l1Entries = Math.max(1, Math.ceil(clustersOf(disk.size) / L2_ENTRIES));
  const l1Clusters = clustersOf(l1Entries * 8);
  /** Tables of the second level that exist, by their numbers. */
  const tables = new Set<number>();
  for (const { first, after } of stretches)
    for (let table = Math.floor(first / L2_ENTRIES); table * L2_ENTRIES < after; table += 1)
      tables.add(table);
  const counted = 1 + l1Clusters + tables.size + dataClusters;
  // counts are counted too
  let countClusters = 0;
  let countTables = 0;
  for (;;) {
    const total = counted + countClusters + countTables;
    const clusters = Math.ceil(total / COUNTS_PER_CLUSTER);
    const above = clustersOf(clusters * 8);
    if (clusters === countClusters && above === countTables) break;
    countClusters = clusters;
    countTables = above;
  }
  const total = counted + countClusters + countTables;
  const at = {
    countTable: 1,
    counts: 1 + countTables,
    l1: 1 + countTables + countClusters,
    l2: 1 + countTables + countClusters + l1Clusters,
    data: 1 + countTables + countClusters + l1Clusters + tables.size,
  };

  function* headers(): Generator<Buffer> {
    yield header(disk.size, l1Entries, at.l1, at.countTable, countTables);
    yield* filled(countTables, countClusters, (number) => BigInt(at.counts + number) * BigInt(CLUSTER));
    for (let number = 0; number < countClusters; number += 1) {
      const counts = Buffer.alloc(CLUSTER);
      const used = Math.min(COUNTS_PER_CLUSTER, total - number * COUNTS_PER_CLUSTER);
      for (let i = 0; i < used; i += 1) counts.writeUInt16BE(1, 2 * i);
      yield counts;
    }
    const order = [...tables].sort((a, b) => a - b);
    const places = new Map(order.map((table, i) => [table, at.l2 + i]));
    yield* filled(l1Clusters, l1Entries, (table) => {
      const place = places.get(table);
      return place === undefined ? 0n : (BigInt(place) * BigInt(CLUSTER)) | COPIED;
    });
    let next = at.data;
    let which = 0;
    for (const table of order) {
      const entries = Buffer.alloc(CLUSTER);
      const end = (table + 1) * L2_ENTRIES;
      for (; which < stretches.length && stretches[which]!.first < end; which += 1) {
        const { first, after } = stretches[which]!;
        const from = Math.max(first, table * L2_ENTRIES);
        for (let cluster = from; cluster < Math.min(after, end); cluster += 1) {
          entries.writeBigUInt64BE((BigInt(next) * BigInt(CLUSTER)) | COPIED, 8 * (cluster % L2_ENTRIES));
          next += 1;
        }
        if (after > end) break;
      }
      yield entries;
    }
  }

  async function* content(): AsyncGenerator<Buffer> {
    yield* headers();
    for (const { first, after } of stretches)
      for (let from = first * CLUSTER; from < after * CLUSTER; from += READ_BYTES) {
        const to = Math.min(from + READ_BYTES, after * CLUSTER);
        const bytes = await disk.read(from, Math.min(to, disk.size) - from);
        passed(bytes.length);
        yield bytes;
        if (to > disk.size) yield Buffer.alloc(to - disk.size);
      }
  }
  return { length: total * CLUSTER, stream: Readable.from(content(), { objectMode: false }) };
}

/** So many clusters of entries of 64 bits. */
function* filled(clusters: number, entries: number, entry: (number: number) => bigint): Generator<Buffer> {
  for (let cluster = 0; cluster < clusters; cluster += 1) {
    const bytes = Buffer.alloc(CLUSTER);
    const first = cluster * L2_ENTRIES;
    for (let i = 0; i < Math.min(L2_ENTRIES, entries - first); i += 1)
      bytes.writeBigUInt64BE(entry(first + i), 8 * i);
    yield bytes;
  }
}

function header(
  size: number,
  l1Entries: number,
  l1: number,
  countTable: number,
  countTables: number,
): Buffer {
  const bytes = Buffer.alloc(CLUSTER);
  bytes.writeUInt32BE(MAGIC, 0);
  bytes.writeUInt32BE(3, 4);
  bytes.writeUInt32BE(CLUSTER_BITS, 20);
  bytes.writeBigUInt64BE(BigInt(size), 24);
  bytes.writeUInt32BE(l1Entries, 36);
  bytes.writeBigUInt64BE(BigInt(l1 * CLUSTER), 40);
  bytes.writeBigUInt64BE(BigInt(countTable * CLUSTER), 48);
  bytes.writeUInt32BE(countTables, 56);
  bytes.writeUInt32BE(REFCOUNT_ORDER, 96);
  bytes.writeUInt32BE(HEADER_BYTES, 100);
  return bytes;
}
