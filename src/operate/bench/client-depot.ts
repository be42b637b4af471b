import { randomBytes } from "node:crypto";
import { mkdirSync } from "node:fs";
import type { Services } from "@/server/base/services";
import { describeDepot } from "@/server/depots/depot-test";
import { packName, pointName } from "@/store/packs/layout";
import { LocalFolder } from "@/store/places/local-folder";
import { deriveStoreKeys, type StoreKeys } from "@/store/seal/keys";
import { OBJECT_ID_BYTES } from "@/store/seal/sealing";
import { type PointCounts, sealPoint } from "@/store/tree/point";
import { type Compression, type Sink, StoreWriter } from "@/store/write/writer";
import { adopt } from "../adopt";

/** A depot in a folder, as one client has it: a recovery point with whatever is written into it. */
export async function makeClientDepot(
  folder: string,
  compression: Compression,
  fill: (
    writer: StoreWriter,
    keys: StoreKeys,
    sink: Sink,
  ) => Promise<{ root: Uint8Array; counts: PointCounts }>,
) {
  mkdirSync(folder);
  const place = new LocalFolder(folder);
  const space = "c0ffee00-1111-4222-8333-444455556666";
  await describeDepot(place, "5b0f3f0e-6d0f-4a55-9d2e-0c1d2e3f4a5b", new Date());
  const dataKey = randomBytes(32);
  const keys = deriveStoreKeys(dataKey);
  let packs = 0;
  const sink: Sink = {
    known: async (ids) => ids.map(() => false),
    putPack: async (packId, parts) => {
      await place.put(packName(space, packId.toString("hex")), parts);
      packs += 1;
    },
  };
  const writer = new StoreWriter(keys, sink, compression);
  const { root, counts } = await fill(writer, keys, sink);
  await writer.close();
  const pointId = randomBytes(OBJECT_ID_BYTES);
  await place.put(pointName(space, pointId.toString("hex")), [
    sealPoint(keys, pointId, {
      sourceId: "0d1c2b3a-4455-4667-8899-aabbccddeeff",
      sourceName: "thorn-arch-01 files",
      machineName: "thorn-arch-01",
      kind: "files",
      moment: Date.now(),
      root,
      counts,
      previous: null,
      policy: "{}",
      policyName: "Everything",
      client: {
        name: "Thornquay Maritime Museum",
        zone: "UTC",
        region: "here",
        contactName: "Ailsa Brandreth",
        contactEmail: "ailsa@thornquay.example",
      },
      siteName: "Museum quay",
    }),
  ]);
  return {
    packs,
    pointId,
    counts,
    /** Takes all of it into an empty database. */
    adoptInto: (services: Services) =>
      adopt(services, dataKey, {
        place: { kind: "folder", path: folder, settings: {}, place, secret: null, wish: "bench" },
        name: undefined,
        quotaBytes: 2 ** 42,
        say: () => {},
      }),
  };
}
