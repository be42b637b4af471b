import { randomUUID } from "node:crypto";
import { z } from "zod";
import { clientById } from "@/db/clients";
import {
  type Depot,
  depotById,
  grantOf,
  insertDepot,
  listDepots,
  listGrants,
  upsertGrant,
} from "@/db/depots";
import { notify } from "@/db/notify";
import { operation } from "@/server/api/operation";
import { describeDepot, testFolder } from "@/server/depot-test";
import { invalid, notFound } from "@/server/problem";
import { placeOf } from "@/server/space-readers";
import { depotParam, name, uuid } from "./ids";

const path = z
  .string()
  .trim()
  .startsWith("/", "A folder is an absolute path: it begins with a slash.")
  .max(4096)
  .refine((text) => !text.includes("\0") && !text.split("/").includes(".."), "Write the path without “..”.")
  .transform((text) => (text.length > 1 ? text.replace(/\/+$/, "") : text));

const bytes = z
  .number()
  .int("Whole bytes.")
  .positive("More than nothing.")
  .max(2 ** 53 - 1);

export const depots = [
  operation({
    id: "listDepots",
    method: "GET",
    path: "/depots",
    summary: "All depots, with what is granted to whom.",
    caller: "technician",
    run: (context) =>
      context.tx(async (tx) => ({ depots: await listDepots(tx), grants: await listGrants(tx) })),
  }),
  operation({
    id: "testFolder",
    method: "POST",
    path: "/depots/test",
    summary: "Try a folder as a depot, step by step. Leaves nothing behind.",
    caller: "technician",
    body: z.object({ path }),
    run: (_context, { body }) => testFolder(body.path, null),
  }),
  operation({
    id: "addDepot",
    method: "POST",
    path: "/depots",
    summary: "Make a tested folder a depot; refused with the step that fails.",
    caller: "technician",
    status: 201,
    body: z.object({
      name: name("a name for the depot"),
      path,
      region: name("the region where it stands", 60),
      capacityBytes: bytes.nullable().default(null),
    }),
    run: async (context, { body }) => {
      const taken = await context.tx((tx) => listDepots(tx));
      if (taken.some((depot) => depot.name.toLowerCase() === body.name.toLowerCase()))
        throw invalid("name", "There is a depot of this name.");
      if (taken.some((depot) => depot.path === body.path))
        throw invalid("path", "This folder is a depot already.");
      const test = await testFolder(body.path, null);
      if (!test.ok) {
        const failed = test.steps.find((step) => !step.ok)!;
        throw invalid("path", `It cannot serve as a depot. ${failed.step}: ${failed.message}.`);
      }
      const depot: Depot = { id: randomUUID(), kind: "folder", ...body };
      await describeDepot(placeOf(depot), depot.id, context.who.at);
      await context.tx(async (tx) => {
        await insertDepot(tx, depot, context.who.at);
        await context.record(tx, null, "added a depot", depot.name, {
          path: depot.path,
          region: depot.region,
        });
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
      });
      return { depot, test };
    },
  }),
  operation({
    id: "testDepot",
    method: "POST",
    path: "/depots/{depotId}/test",
    summary: "Test a depot step by step.",
    caller: "technician",
    params: depotParam,
    run: async (context, { params }) => {
      const depot = await context.tx((tx) => depotById(tx, params.depotId));
      if (!depot) throw notFound();
      const test = await testFolder(depot.path, depot.id);
      await context.tx((tx) => context.record(tx, null, "tested a depot", depot.name, { ok: test.ok }));
      return test;
    },
  }),
  operation({
    id: "grantDepot",
    method: "PUT",
    path: "/depots/{depotId}/grants/{clientId}",
    summary: "Grant a depot to a client with a quota, or change the quota.",
    caller: "technician",
    params: z.object({ depotId: uuid, clientId: uuid }),
    body: z.object({ quotaBytes: bytes }),
    run: (context, { params, body }) =>
      context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        const client = await clientById(tx, params.clientId);
        if (!depot || !client) throw notFound();
        const before = await grantOf(tx, depot.id, client.id);
        await upsertGrant(
          tx,
          {
            depotId: depot.id,
            clientId: client.id,
            spaceId: before?.spaceId ?? randomUUID(),
            quotaBytes: body.quotaBytes,
          },
          context.who.at,
        );
        await context.record(tx, client.id, before ? "changed a quota" : "granted a depot", depot.name, {
          client: client.name,
          quotaBytes: body.quotaBytes,
        });
        await notify(tx, { kind: "depot", clientId: client.id, id: depot.id });
        return {
          grant: await grantOf(tx, depot.id, client.id),
          regionDiffers: depot.region.toLowerCase() !== client.region.toLowerCase(),
        };
      }),
  }),
];
