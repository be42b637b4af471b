import { randomBytes } from "node:crypto";
import { join } from "node:path";
import type { StoreKeys } from "@/store/seal/keys";
import { encodeFolder } from "@/store/tree/tree";
import { type Sink, StoreWriter } from "@/store/write/writer";
import { withConsole } from "./bench-console";
import { makeClientDepot } from "./client-depot";
import { type Figure, figure, inFolder, say } from "./ground";

const CHUNKS = Number(process.env.DEEPKEEP_BENCH_CHUNKS ?? 1_000_000);
const LIMIT_S = 300;

type Fill = (writer: StoreWriter, keys: StoreKeys, sink: Sink) => Promise<void>;

/** Small files as they are stored: many chunks in a pack. */
const ofSmallFiles: Fill = async (writer) => {
  for (let i = 0; i < CHUNKS; i += 1) {
    writer.add("data", randomBytes(2000));
    if (writer.crowded) await writer.room();
  }
};

/**
 * As many packs as chunks of a mebibyte make, sixteen in each. What is adopted is the directories; the chunks here are short,
 * since a tebibyte of them would not find room.
 */
const ofLargeFiles: Fill = async (_writer, keys, sink) => {
  for (let i = 0; i < CHUNKS; i += 16) {
    const one = new StoreWriter(keys, sink, "none");
    for (let chunk = 0; chunk < 16; chunk += 1) one.add("data", randomBytes(64));
    await one.close();
  }
};

/** Adopts depots of a million chunks into empty databases. */
export async function benchAdopt(): Promise<Figure[]> {
  return [await adopting("of small files", ofSmallFiles), await adopting("of large files", ofLargeFiles)];
}

const adopting = (which: string, fill: Fill): Promise<Figure> =>
  inFolder(async (folder) => {
    const depot = await makeClientDepot(join(folder, "depot"), "none", async (writer, keys, sink) => {
      await fill(writer, keys, sink);
      const root = writer.add("tree", encodeFolder([]));
      return { root, counts: { files: 0, folders: 0, links: 0, bytes: 0 } };
    });
    const chunks = `${CHUNKS.toLocaleString("en-GB")} chunks ${which}`;
    say(`${chunks} in ${depot.packs.toLocaleString("en-GB")} packs`);
    return withConsole(folder, {}, async ({ services }) => {
      const started = performance.now();
      const made = await depot.adoptInto(services);
      const took = (performance.now() - started) / 1000;
      say(`  adopted in ${took.toFixed(1)} s`);
      if (made.chunks < CHUNKS) throw new Error(`only ${made.chunks} chunks were adopted`);
      return figure(`adopting ${chunks}`, "s", took, "its limit", LIMIT_S, 1);
    });
  });
