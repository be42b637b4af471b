import { randomUUID } from "node:crypto";
import { z } from "zod";
import type { BucketPlace } from "@/core/bucket";
import type { Code } from "@/core/codes";
import type { ClientId, DepotId } from "@/core/ids";
import { counted } from "@/core/units/duration";
import { notify } from "@/db/base/notify";
import { clientById } from "@/db/clients/clients";
import {
  type Depot,
  depotById,
  grantOf,
  insertDepot,
  listDepots,
  listGrants,
  setDepotAtOnce,
  setDepotKeys,
  setDirect,
  upsertGrant,
} from "@/db/depots/depots";
import { askConsent } from "@/server/access/consents";
import { type Context, operation } from "@/server/api/operation";
import { invalid, notFound } from "@/server/base/problem";
import type { Services } from "@/server/base/services";
import { type DepotTest, describeDepot, testBucket, testFolder } from "@/server/depots/depot-test";
import { depotSecretContext } from "@/server/depots/places";
import { LocalFolder } from "@/store/places/local-folder";
import { S3Bucket } from "@/store/places/s3-bucket";
import * as shape from "../shapes";
import { depotParam, name, reason, refuseAddress, uuid } from "./ids";

const path = z
  .string()
  .trim()
  .startsWith("/", "A folder is an absolute path: it begins with a slash.")
  .max(4096)
  .refine((text) => !text.includes("\0") && !text.split("/").includes(".."), "Write the path without “..”.")
  .transform((text) => (text.length > 1 ? text.replace(/\/+$/, "") : text));

const direct = z
  .string()
  .trim()
  .max(4096)
  .nullable()
  .describe(
    "How machines reach it past the console: `presigned` for a bucket, the folder under which they see it for others.",
  );

/** Throws a problem of the field when machines cannot reach such a depot in this way. */
function checkDirect(kind: Depot["kind"], way: string | null): void {
  if (way === null) return;
  if (kind === "s3" ? way !== "presigned" : !way.startsWith("/"))
    throw invalid(
      "direct",
      kind === "s3"
        ? "A bucket is reached by presigned addresses."
        : "Enter the folder where machines mount it. It begins with a slash.",
    );
}

const bytes = z
  .number()
  .int("Whole bytes.")
  .positive("More than nothing.")
  .max(2 ** 53 - 1);

/** What is wrong with an endpoint that would be dropped silently: it is an origin alone. Null when nothing is. */
function endpointProblem(text: string): string | null {
  if (!URL.canParse(text)) return null;
  const { username, password, pathname, search, hash } = new URL(text);
  if (username || password)
    return "The address contains credentials. Give the access key and its secret in their own fields.";
  if (pathname !== "/" || search || hash)
    return "Enter the server's address alone, such as https://s3.example. The bucket and the prefix have their own fields.";
  return null;
}

const bucketBody = z.object({
  kind: z.literal("s3"),
  endpoint: z
    .url({ protocol: /^https?$/, error: "Enter the server's address, such as https://s3.example." })
    .max(300)
    .superRefine((text, context) => {
      const message = endpointProblem(text);
      if (message) context.addIssue({ code: "custom", message });
    }),
  bucketRegion: name("the region of the bucket", 60),
  bucket: z
    .string()
    .regex(
      /^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$/,
      "A bucket's name has 3 to 63 small letters, digits, dots and dashes.",
    ),
  prefix: z
    .string()
    .max(200)
    .regex(/^([A-Za-z0-9.-]+\/)*$/, "A prefix is empty, or folders that each end with a slash.")
    .default(""),
  pathStyle: z.boolean().default(true),
  storageClass: z.string().max(60).nullable().default(null),
  accessKeyId: name("the access key", 200),
  secretAccessKey: z.string().min(1, "Enter the secret access key.").max(500),
});
const folderBody = z.object({ kind: z.enum(["folder", "share"]).default("folder"), path });
const placeBody = z.union([bucketBody, folderBody]);
type PlaceBody = z.infer<typeof placeBody>;

/** A place as it was described, without its secret. */
function placeOfBody(body: PlaceBody): Pick<Depot, "kind" | "path" | "settings"> {
  if (body.kind !== "s3") return { kind: body.kind, path: body.path, settings: {} };
  const { endpoint, bucketRegion, bucket, prefix, pathStyle, storageClass, accessKeyId } = body;
  const settings = {
    endpoint: new URL(endpoint).origin,
    region: bucketRegion,
    bucket,
    prefix,
    pathStyle,
    storageClass,
    accessKeyId,
  };
  return { kind: "s3", path: `${settings.endpoint}/${bucket}/${prefix}`, settings };
}

const tryPlace = async (body: PlaceBody, depotId: DepotId | null): Promise<DepotTest> => {
  if (body.kind !== "s3") return testFolder(body.kind, body.path, depotId);
  refuseAddress("endpoint", new URL(body.endpoint).hostname);
  return testBucket(new S3Bucket(placeOfBody(body).settings as BucketPlace, body.secretAccessKey), depotId);
};

/** The field of the form that a code is about. */
const FIELD_OF_CODE: Partial<Record<Code, string>> = {
  "depot.signin-refused": "secretAccessKey",
  "depot.not-allowed": "accessKeyId",
  "depot.other-region": "bucketRegion",
  "depot.not-reached": "endpoint",
  "depot.no-bucket": "bucket",
  "address.forbidden": "endpoint",
};
const KEY_CODES: ReadonlySet<Code> = new Set(["depot.signin-refused", "depot.not-allowed"]);

const OVERWRITES =
  "This server ignores the condition that an object must be new, so a machine could overwrite objects. Let machines send through the console.";
const testOf = (context: { readonly services: Services }, depot: Depot): Promise<DepotTest> =>
  depot.kind === "s3"
    ? testBucket(context.services.places.of(depot), depot.id)
    : testFolder(depot.kind, depot.path, depot.id);

/** A depot as it is shown: never its secret. */
const shown = <D extends Depot>({ secret: _, ...depot }: D) => depot;

/** A bucket that locks nothing would refuse, or store without a lock, whatever a run puts with one. */
async function refuseWithoutLock(
  context: Context,
  depotId: DepotId,
  clientId: ClientId,
  lockDays: number,
): Promise<void> {
  const { depot, days } = await context.tx(async (tx) => ({
    depot: await depotById(tx, depotId),
    days: (await grantOf(tx, depotId, clientId))?.lockDays ?? 0,
  }));
  if (!depot || lockDays <= days) return;
  const place = context.services.places.of(depot);
  const support = await place.lockSupport?.();
  if (support?.state === "missing")
    throw invalid(
      "lockDays",
      `This bucket has no object lock (${support.said}). Turn on object lock for the bucket, or grant it without a lock.`,
    );
}

export const depots = [
  operation({
    id: "listDepots",
    method: "GET",
    path: "/depots",
    summary: "All depots, with their grants.",
    caller: "look",
    pages: { of: "depots" },
    answer: z.object({
      depots: shape.list(
        z.object({
          path: z.string(),
          id: z.string(),
          name: z.string(),
          region: z.string(),
          atOnce: z.number().nullable(),
          kind: shape.depotKind,
          settings: z.union([z.record(z.string(), z.object({})), shape.bucketPlace]),
          capacityBytes: z.number().nullable(),
          direct: z.string().nullable(),
          usedBytes: z.number(),
        }),
      ),
      grants: shape.list(shape.grant),
    }),
    run: (context) =>
      context.tx(async (tx) => ({
        depots: (await listDepots(tx)).map(shown),
        grants: await listGrants(tx),
      })),
  }),
  operation({
    id: "testPlace",
    method: "POST",
    path: "/depots/test",
    summary: "Test a folder, share or bucket as a depot, step by step. Test objects are removed.",
    caller: "provider-work",
    body: placeBody,
    answer: shape.depotTest,
    run: (_context, { body }) => tryPlace(body, null),
  }),
  operation({
    id: "addDepot",
    method: "POST",
    path: "/depots",
    summary: "Add a folder, share or bucket as a depot. It is tested first; a failing step refuses it.",
    caller: "provider-work",
    status: 201,
    body: z.intersection(
      z.object({
        name: name("a name for the depot"),
        region: name("the region of the depot", 60),
        capacityBytes: bytes.nullable().default(null),
        direct: direct.default(null),
      }),
      placeBody,
    ),
    answer: z.object({
      depot: shape.depot,
      test: shape.depotTest,
    }),
    run: async (context, { body }) => {
      const place = placeOfBody(body);
      checkDirect(place.kind, body.direct);
      const where = body.kind === "s3" ? "bucket" : "path";
      const taken = await context.tx((tx) => listDepots(tx));
      if (taken.some((depot) => depot.name.toLowerCase() === body.name.toLowerCase()))
        throw invalid("name", "There is a depot of this name.");
      if (taken.some((depot) => depot.path === place.path))
        throw invalid(where, `This ${body.kind === "s3" ? "bucket" : "folder"} is a depot already.`);
      const test = await tryPlace(body, null);
      if (!test.ok) {
        const failed = test.steps.find((step) => !step.ok)!;
        const field = body.kind === "s3" ? (FIELD_OF_CODE[test.code!] ?? where) : where;
        throw invalid(field, `It cannot serve as a depot. ${failed.step}: ${failed.message}.`);
      }
      if (body.direct && test.overwrites) throw invalid("direct", OVERWRITES);
      const id = randomUUID();
      const depot: Depot = {
        id,
        ...place,
        name: body.name,
        region: body.region,
        capacityBytes: body.capacityBytes,
        direct: body.direct,
        atOnce: null,
        secret:
          body.kind === "s3"
            ? context.services.secrets.seal(Buffer.from(body.secretAccessKey), depotSecretContext(id))
            : null,
      };
      // before the folder says so itself, it is not this depot yet
      await describeDepot(
        body.kind === "s3" ? context.services.places.of(depot) : new LocalFolder(depot.path),
        depot.id,
        context.who.at,
      );
      await context.tx(async (tx) => {
        await insertDepot(tx, depot, context.who.at);
        await context.record(tx, null, "added a depot", depot.name, {
          kind: depot.kind,
          path: depot.path,
          region: depot.region,
        });
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
      });
      return { depot: shown(depot), test };
    },
  }),
  operation({
    id: "changeDepot",
    method: "PATCH",
    path: "/depots/{depotId}",
    summary: "Change direct writing and the limit of simultaneous runs of a depot.",
    caller: "provider-work",
    params: depotParam,
    body: z.object({
      direct: direct.optional(),
      atOnce: z
        .number()
        .int("A whole number.")
        .min(1, "At least one run at a time.")
        .max(10_000, "At most 10,000.")
        .nullable()
        .optional(),
    }),
    answer: z.object({
      depot: shape.depot,
    }),
    run: async (context, { params, body }) => {
      const before = await context.tx((tx) => depotById(tx, params.depotId));
      if (before?.kind === "s3" && body.direct === "presigned" && (await testOf(context, before)).overwrites)
        throw invalid("direct", OVERWRITES);
      return context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        if (!depot) throw notFound();
        if (body.direct !== undefined) {
          checkDirect(depot.kind, body.direct);
          await setDirect(tx, depot.id, body.direct);
        }
        if (body.atOnce !== undefined) await setDepotAtOnce(tx, depot.id, body.atOnce);
        await context.record(tx, null, "changed a depot", depot.name, body);
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
        return { depot: shown((await depotById(tx, depot.id))!) };
      });
    },
  }),
  operation({
    id: "changeDepotKeys",
    method: "PUT",
    path: "/depots/{depotId}/keys",
    summary: "Change the access key of a bucket. The new key is tested before it replaces the current one.",
    caller: "provider-work",
    params: depotParam,
    body: bucketBody.pick({ accessKeyId: true, secretAccessKey: true }),
    answer: z.object({ test: shape.depotTest }),
    run: async (context, { params, body }) => {
      const depot = await context.tx((tx) => depotById(tx, params.depotId));
      if (!depot) throw notFound();
      if (depot.kind !== "s3")
        throw invalid("accessKeyId", "This depot is no bucket: it is reached without keys.");
      const settings = { ...(depot.settings as BucketPlace), accessKeyId: body.accessKeyId };
      const test = await testBucket(new S3Bucket(settings, body.secretAccessKey), depot.id);
      if (!test.ok) {
        const failed = test.steps.find((step) => !step.ok)!;
        const field = KEY_CODES.has(test.code!) ? FIELD_OF_CODE[test.code!]! : "accessKeyId";
        throw invalid(field, `The keys in use stay. ${failed.step}: ${failed.message}.`);
      }
      const secret = context.services.secrets.seal(
        Buffer.from(body.secretAccessKey),
        depotSecretContext(depot.id),
      );
      await context.tx(async (tx) => {
        await setDepotKeys(tx, depot.id, settings, secret);
        await context.record(tx, null, "changed a depot's keys", depot.name, {
          accessKeyId: body.accessKeyId,
        });
        await notify(tx, { kind: "depot", clientId: null, id: depot.id });
      });
      return { test };
    },
  }),
  operation({
    id: "testDepot",
    method: "POST",
    path: "/depots/{depotId}/test",
    summary: "Test a depot step by step.",
    caller: "work",
    params: depotParam,
    answer: shape.depotTest,
    run: async (context, { params }) => {
      const depot = await context.tx((tx) => depotById(tx, params.depotId));
      if (!depot) throw notFound();
      const test = await testOf(context, depot);
      await context.tx((tx) => context.record(tx, null, "tested a depot", depot.name, { ok: test.ok }));
      return test;
    },
  }),
  operation({
    id: "grantDepot",
    method: "PUT",
    path: "/depots/{depotId}/grants/{clientId}",
    summary:
      "Grant a depot to a client with a quota and a lock, or change them. A shorter lock for future points waits for approval by a second person; stored points keep their lock.",
    caller: "work",
    params: z.object({ depotId: uuid, clientId: uuid }),
    body: z.object({
      quotaBytes: bytes,
      lockDays: z
        .number()
        .int("Whole days.")
        .min(0, "No day, or some.")
        .max(36500, "At most a hundred years.")
        .optional(),
      /** Why a lock for points to come is to be shorter: a second person must agree to it. */
      reason: reason.optional(),
    }),
    answer: z.object({
      grant: shape.grant.nullable(),
      consentId: z.string().nullable(),
      regionDiffers: z.boolean(),
    }),
    run: async (context, { params, body }) => {
      if (body.lockDays) await refuseWithoutLock(context, params.depotId, params.clientId, body.lockDays);
      return context.tx(async (tx) => {
        const depot = await depotById(tx, params.depotId);
        const client = await clientById(tx, params.clientId);
        if (!depot || !client) throw notFound();
        const before = await grantOf(tx, depot.id, client.id);
        const wished = body.lockDays ?? before?.lockDays ?? 0;
        const shorter = before !== null && wished < before.lockDays;
        if (shorter && !body.reason)
          throw invalid(
            "lockDays",
            `Stored points keep their lock of ${before.lockDays} days. A shorter lock for future points requires a reason and approval by a second person.`,
          );
        const lockDays = shorter ? before.lockDays : wished;
        const consentId = shorter
          ? await askConsent(tx, context.who, context.person!, {
              clientId: client.id,
              kind: "shorten-lock",
              subject: `${depot.name}: ${counted(wished, "day")} instead of ${before.lockDays}`,
              request: { depotId: depot.id, lockDays: wished },
              reason: body.reason!,
            })
          : null;
        await upsertGrant(
          tx,
          {
            depotId: depot.id,
            clientId: client.id,
            spaceId: before?.spaceId ?? randomUUID(),
            quotaBytes: body.quotaBytes,
            lockDays,
          },
          context.who.at,
        );
        await context.record(tx, client.id, before ? "changed a quota" : "granted a depot", depot.name, {
          client: client.name,
          quotaBytes: body.quotaBytes,
          lockDays,
        });
        await notify(tx, { kind: "depot", clientId: client.id, id: depot.id });
        return {
          grant: await grantOf(tx, depot.id, client.id),
          /** Waits for a second person. */
          consentId,
          regionDiffers: depot.region.toLowerCase() !== client.region.toLowerCase(),
        };
      });
    },
  }),
];
