import { z } from "zod";
import { SOURCE_KINDS, type SourceKind } from "@/kinds";
import { clausesSchema } from "../policy/clauses";
import { RATES_MOST } from "../units/rates";

/**
 * What agent and console say to each other over `/agent/v1`, JSON but for chunks and packs, which are bytes. Ids of
 * points and packs are hex, ids of chunks 32 raw bytes one after another.
 */
/** A number of things or bytes that a machine reports: a petabyte at most, so that sums over all machines stay exact. */
const count = z
  .number()
  .int()
  .min(0)
  .max(2 ** 50);

export const systemReport = z.object({
  hostname: z.string().max(253),
  system: z.string().max(200),
  kernel: z.string().max(200),
  cores: z.number().int().min(1).max(100_000),
  memory: count,
  agent: z.string().max(50),
  volumes: z.array(z.object({ path: z.string().max(4096), size: count, free: count })).max(200),
  /** Where the agent keeps what it remembers of the last points. */
  workFolder: z
    .object({
      fileSystem: z.string().max(100),
      /** It lies on the volume that the system starts from. */
      onSystemVolume: z.boolean(),
      free: count,
    })
    .optional(),
});
export type SystemReport = z.infer<typeof systemReport>;

export const enrolRequest = z.object({
  code: z.string().min(1, "Enter the enrolment code.").max(100),
  name: z
    .string()
    .regex(
      /^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$/,
      "A machine's name has letters, digits, dots and dashes, 63 at most.",
    ),
  /** X25519, SPKI DER in base64: the client's key is sealed to it. */
  publicKey: z.string().max(200),
  system: systemReport,
});
export const enrolAnswer = z.object({ machineId: z.uuid(), token: z.string(), clientName: z.string() });

export const helloRequest = z.object({
  system: systemReport,
  /** True when the agent has just started: what it ran before is not running any more. */
  started: z.boolean(),
});

/** The kinds of source that agents of this version read and write. */
export const AGENT_SOURCES: readonly SourceKind[] = ["files"];

export const workRequest = z.object({
  kinds: z.array(z.enum(["backup", "restore"])).min(1),
  /** The kinds of source that the agent reads and writes. Agents of earlier versions do not announce them: files. */
  sources: z.array(z.string().max(50)).max(50).nullable().default(null),
});

const hex = (bytes: number) => z.string().regex(new RegExp(`^[0-9a-f]{${bytes * 2}}$`));

/** How a machine reaches an object of a depot itself, past the console. */
export const directWay = z.discriminatedUnion("kind", [
  z.object({
    kind: z.literal("presigned"),
    depotId: z.uuid(),
    url: z.url(),
    headers: z.record(z.string(), z.string()),
  }),
  /** The object's name below a folder that the machine sees, if it says that it is this depot. */
  z.object({ kind: z.literal("path"), depotId: z.uuid(), path: z.string(), name: z.string() }),
]);
export type DirectWay = z.infer<typeof directWay>;
export const putWays = z.object({ ways: z.array(directWay) });
export const readWay = z.object({ size: z.number(), way: directWay.nullable() });

const jobBase = {
  runId: z.uuid(),
  attempt: z.number().int(),
  /** The client's data key, sealed to the machine's public key, base64. */
  sealedKey: z.string(),
  /** Depots of this run that the machine may reach itself. */
  direct: z.array(z.uuid()).default([]),
};
export const backupJob = z.object({
  ...jobBase,
  kind: z.literal("backup"),
  /** The moment that the recovery point bears. */
  moment: z.iso.datetime(),
  sourceId: z.uuid(),
  sourceKind: z.enum(SOURCE_KINDS),
  sourceName: z.string(),
  machineName: z.string(),
  clauses: clausesSchema,
  /** A full pass reads every file anew, whatever its times say. */
  pass: z.enum(["incremental", "full"]).default("incremental"),
  policyName: z.string(),
  /** Sealed into the point, so that a depot and the key alone tell whose it is. */
  client: z.object({
    name: z.string(),
    zone: z.string(),
    region: z.string(),
    contactName: z.string(),
    contactEmail: z.string(),
  }),
  siteName: z.string(),
  /** The newest point in the depot; `root` is where unchanged files are taken from. */
  previous: z.object({ pointId: hex(16), root: hex(32), items: z.number(), bytes: z.number() }).nullable(),
  /** The client has nothing in this depot yet: no use asking what is known. */
  spaceEmpty: z.boolean(),
});
export const restoreJob = z.object({
  ...jobBase,
  kind: z.literal("restore"),
  items: z.array(
    z.object({
      root: hex(32),
      momentLabel: z.string(),
      path: z.string(),
      depotIds: z.array(z.uuid()).min(1),
    }),
  ),
  folder: z.string().nullable(),
  clash: z.enum(["keep-both", "replace", "skip"]),
  /** The source that the runner restores to over the network; null for a machine. */
  toSourceId: z.uuid().nullable().default(null),
  /** Of a database: the one table that is restored; null for all of it. */
  table: z.object({ schema: z.string(), name: z.string() }).nullable().default(null),
  /** Of a guest: it runs from the depot at once. */
  start: z.boolean().default(false),
  /** What all of it weighs, to look for room beforehand; null where it is not known. */
  totalBytes: z.number().nullable().default(null),
});
export const job = z.discriminatedUnion("kind", [backupJob, restoreJob]);
export type BackupJob = z.infer<typeof backupJob>;
export type RestoreJob = z.infer<typeof restoreJob>;
export type Job = z.infer<typeof job>;

/** Which attempt of a run reports: one that another attempt has taken over changes nothing any more. */
const attempt = z.number().int().min(0).max(1_000_000);

export const progressReport = z.object({
  attempt,
  items: count.optional(),
  bytes: count.optional(),
  totalItems: count.optional(),
  totalBytes: count.optional(),
  rate: z
    .number()
    .min(0)
    .max(2 ** 50)
    .optional(),
  stored: count.optional(),
  /** How fast it went so far, for the drawing. */
  rates: z
    .object({
      every: z
        .number()
        .positive()
        .max(2 ** 50),
      values: z
        .array(
          z
            .number()
            .min(0)
            .max(2 ** 50),
        )
        .max(2 * RATES_MOST),
    })
    .optional(),
});
export type ProgressReport = z.infer<typeof progressReport>;
export const heartbeatAnswer = z.object({
  stop: z.boolean(),
  /** Who or what stops it. */
  why: z.enum(["person", "window"]).default("person"),
  /** How fast it may send from now on; null: no limit. */
  bytesPerSecond: z.number().positive().nullable().default(null),
});
export type HeartbeatAnswer = z.infer<typeof heartbeatAnswer>;

export const logLines = z.object({
  lines: z
    .array(
      z.object({
        level: z.enum(["info", "caution", "error"]),
        code: z.string().max(60).nullable(),
        path: z.string().max(5000).nullable(),
        message: z.string().max(2000),
      }),
    )
    .max(1000),
});
export type LogReport = z.infer<typeof logLines>["lines"][number];

export const pointReport = z.object({
  attempt,
  pointId: hex(16),
  /** The sealed point object, base64. */
  object: z.string().max(200_000),
  root: hex(32),
  counts: z.object({ files: count, folders: count, links: count, bytes: count }),
  figures: z.object({
    filesRead: count,
    bytesRead: count,
    filesUnchanged: count,
    changed: count,
    denser: count,
    removed: count,
    /** Files that have another ending than before. */
    renamed: count.default(0),
    busiestFolder: z.string().nullable(),
    newChunks: count,
    newBytes: count,
    storedBytes: count,
    packs: count,
  }),
  cautions: count,
  /** The most telling code among the cautions. */
  code: z.string().nullable(),
});
export type PointReport = z.infer<typeof pointReport>;

export const endReport = z.object({
  attempt,
  outcome: z.enum(["clean", "caution", "failed", "stopped"]),
  code: z.string().nullable(),
  message: z.string().max(2000).nullable(),
  figures: z.record(
    z.string().max(60),
    z.union([
      count,
      z
        .number()
        .min(0)
        .max(2 ** 50),
      z.string().max(5000),
      z.boolean(),
      z.null(),
      z.array(z.unknown()).max(2000),
      z.record(z.string(), z.unknown()),
    ]),
  ),
});
export type EndReport = z.infer<typeof endReport>;
