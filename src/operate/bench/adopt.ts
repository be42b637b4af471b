import { randomBytes } from "node:crypto";
import { mkdirSync } from "node:fs";
import { join } from "node:path";
import { describeDepot } from "@/server/depot-test";
import { deriveStoreKeys } from "@/store/keys";
import { packName, pointName } from "@/store/layout";
import { LocalFolder } from "@/store/places/local-folder";
import { sealPoint } from "@/store/point";
import { OBJECT_ID_BYTES } from "@/store/sealing";
import { encodeFolder } from "@/store/tree";
import { StoreWriter } from "@/store/writer";
import { adopt } from "../adopt";
import { withConsole } from "./bench-console";
import { type Figure, figure, inFolder, say } from "./ground";

const CHUNKS = Number(process.env.DEEPKEEP_BENCH_CHUNKS ?? 1_000_000);
/** Small files as they are stored: many chunks in a pack. */
const CHUNK_BYTES = 2000;
const LIMIT_S = 300;

/** Adopts a depot of a million chunks into an empty database. */
export const benchAdopt = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const depotFolder = join(folder, "depot");
    mkdirSync(depotFolder);
    const place = new LocalFolder(depotFolder);
    const id = "5b0f3f0e-6d0f-4a55-9d2e-0c1d2e3f4a5b";
    const space = "c0ffee00-1111-4222-8333-444455556666";
    await describeDepot(place, id, new Date());
    const dataKey = randomBytes(32);
    const keys = deriveStoreKeys(dataKey);
    const writer = new StoreWriter(
      keys,
      {
        known: async (ids) => ids.map(() => false),
        putPack: async (packId, parts) => {
          await place.put(packName(space, packId.toString("hex")), parts);
        },
      },
      "none",
    );
    for (let i = 0; i < CHUNKS; i += 1) {
      writer.add("data", randomBytes(CHUNK_BYTES));
      if (writer.crowded) await writer.room();
    }
    const root = writer.add("tree", encodeFolder([]));
    const { packs } = await writer.close();
    const pointId = randomBytes(OBJECT_ID_BYTES);
    await place.put(pointName(space, pointId.toString("hex")), [
      sealPoint(keys, pointId, {
        sourceId: "0d1c2b3a-4455-4667-8899-aabbccddeeff",
        sourceName: "bench files",
        machineName: "bench",
        kind: "files",
        moment: Date.now(),
        root,
        counts: { files: 0, folders: 0, links: 0, bytes: 0 },
        previous: null,
        policy: "{}",
        policyName: "Everything",
        client: {
          name: "Bench",
          zone: "UTC",
          region: "here",
          contactName: "n",
          contactEmail: "n@client.example",
        },
        siteName: "Main site",
      }),
    ]);
    say(`${CHUNKS.toLocaleString("en-GB")} chunks in ${packs} packs`);
    return withConsole(folder, {}, async ({ services }) => {
      const started = performance.now();
      const made = await adopt(services, dataKey, {
        place: { kind: "folder", path: depotFolder, settings: {}, place, secret: null, wish: "bench" },
        name: undefined,
        quotaBytes: 2 ** 42,
        say: () => {},
      });
      const took = (performance.now() - started) / 1000;
      if (made.chunks < CHUNKS) throw new Error(`only ${made.chunks} chunks were adopted`);
      return [
        figure(`adopting ${CHUNKS.toLocaleString("en-GB")} chunks`, "s", took, "its limit", LIMIT_S, 1),
      ];
    });
  });
