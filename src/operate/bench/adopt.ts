import { randomBytes } from "node:crypto";
import { join } from "node:path";
import { encodeFolder } from "@/store/tree";
import { withConsole } from "./bench-console";
import { makeClientDepot } from "./client-depot";
import { type Figure, figure, inFolder, say } from "./ground";

const CHUNKS = Number(process.env.DEEPKEEP_BENCH_CHUNKS ?? 1_000_000);
/** Small files as they are stored: many chunks in a pack. */
const CHUNK_BYTES = 2000;
const LIMIT_S = 300;

/** Adopts a depot of a million chunks into an empty database. */
export const benchAdopt = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const depot = await makeClientDepot(join(folder, "depot"), "none", async (writer) => {
      for (let i = 0; i < CHUNKS; i += 1) {
        writer.add("data", randomBytes(CHUNK_BYTES));
        if (writer.crowded) await writer.room();
      }
      const root = writer.add("tree", encodeFolder([]));
      return { root, counts: { files: 0, folders: 0, links: 0, bytes: 0 } };
    });
    say(`${CHUNKS.toLocaleString("en-GB")} chunks in ${depot.packs} packs`);
    return withConsole(folder, {}, async ({ services }) => {
      const started = performance.now();
      const made = await depot.adoptInto(services);
      const took = (performance.now() - started) / 1000;
      if (made.chunks < CHUNKS) throw new Error(`only ${made.chunks} chunks were adopted`);
      return [
        figure(`adopting ${CHUNKS.toLocaleString("en-GB")} chunks`, "s", took, "its limit", LIMIT_S, 1),
      ];
    });
  });
