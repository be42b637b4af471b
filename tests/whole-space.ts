import { expect } from "vitest";
import { all } from "@/db/base/scope";
import type { Depot } from "@/db/depots/depots";
import type { Services } from "@/server/base/services";
import { checkSpace } from "@/store/read/check";

/**
 * Expects of a client's space in a depot that everything known is there and whole, byte for byte, that nothing else is
 * there, and that what is counted is what it takes. Returns its points, the newest first.
 */
export async function expectWholeSpace(
  services: Services,
  clientId: string,
  depotId: string,
  round: string,
): Promise<readonly { readonly id: string; readonly root: Buffer; readonly size: number }[]> {
  const { grants, packs, points, depots } = await services.db.withScope({ role: "system" }, async (tx) => ({
    grants: await all<{ space: string; used: number }>(
      tx,
      "select space_id as space, used_bytes as used from grants where depot_id = $1 and client_id = $2",
      [depotId, clientId],
    ),
    packs: await all<{ id: string; size: number }>(
      tx,
      `select encode(p.id, 'hex') as id, p.size from packs p join grants g on g.space_id = p.space_id
       where g.depot_id = $1 and g.client_id = $2`,
      [depotId, clientId],
    ),
    points: await all<{ id: string; root: Buffer; size: number }>(
      tx,
      `select encode(id, 'hex') as id, root, object_bytes as size from placed_points
       where depot_id = $1 and client_id = $2 and purged_at is null order by moment desc`,
      [depotId, clientId],
    ),
    depots: await all<Depot>(tx, "select id, kind, path, settings, secret from depots where id = $1", [
      depotId,
    ]),
  }));
  const [grant] = grants;
  const place = services.places.of(depots[0]!);
  const { findings, touched } = await checkSpace({
    keys: await services.spaces.keys(clientId),
    place,
    spaceId: grant!.space,
    depth: "bytes",
    packs,
    points,
  });
  expect([findings, touched], round).toEqual([[], []]);
  const there: string[] = [];
  for await (const name of place.list("spaces/")) there.push(name.slice(name.lastIndexOf("/") + 1));
  const known = [...packs, ...points];
  expect(there.sort(), `${round}: objects`).toEqual(known.map((one) => one.id).sort());
  expect(
    known.reduce((sum, one) => sum + one.size, 0),
    `${round}: what is counted`,
  ).toBe(grant!.used);
  return points;
}
