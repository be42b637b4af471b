import { z } from "zod";
import { CodedError } from "@/core/codes";
import { type NbdAddress, NbdClient } from "@/disks/client";
import { bitmapContext } from "@/disks/device";
import { allowedAddress, fetchAllowed } from "@/store/places/reach";
import type { OpenConnection } from "../connection-base";
import {
  diskNameSchema,
  type GuestSnapshot,
  type GuestToRestore,
  type HostGuest,
  type HypervisorHost,
} from "./host";
import { OURS } from "./names";
import type { GuestSettings } from "./settings";

/**
 * A management of hosts with the host API: JSON over HTTP for guests, snapshots and power, NBD for the content of disks. It
 * is described in docs/host-api.md.
 */
const PATIENCE_MS = 60_000;
const WRITTEN_AT_ONCE = 1024 * 1024;

const guestSchema = z.object({
  id: z.string(),
  name: z.string(),
  path: z.array(z.string()),
  memory: z.number(),
  processors: z.number(),
  running: z.boolean(),
});
const exported = z.object({ name: diskNameSchema, size: z.number(), export: z.string() });
const served = z.object({ host: z.string(), port: z.number() });
const snapshotSchema = z.object({
  id: z.string(),
  guest: guestSchema,
  definition: z.string(),
  checkpoint: z.string(),
  /** Null where changes are known since the checkpoint that was asked for. */
  reset: z.string().nullable(),
  notQuiesced: z.string().nullable(),
  bitmap: z.string(),
  nbd: served,
  disks: z.array(exported),
});
const createdSchema = z.object({ id: z.string(), nbd: served, disks: z.array(exported) });
const problemSchema = z.object({ detail: z.string() });

export class ServiceHost implements HypervisorHost {
  constructor(
    private readonly url: string,
    private readonly connection: OpenConnection<GuestSettings>,
  ) {}

  async find(): Promise<void> {
    await this.call("GET", "/", z.unknown(), undefined, true);
  }

  async signIn(): Promise<string> {
    const { software } = await this.call("GET", "/host", z.object({ software: z.string() }));
    return software;
  }

  async guests(): Promise<HostGuest[]> {
    const { items } = await this.call("GET", "/guests", z.object({ items: z.array(guestSchema) }));
    return items;
  }

  async snapshot(
    id: string,
    owner: string,
    since: string | null,
    leaveOut: (disk: string) => boolean,
  ): Promise<GuestSnapshot> {
    const snapshot = await this.call("POST", `/guests/${encodeURIComponent(id)}/snapshots`, snapshotSchema, {
      owner: `${OURS}-${owner}`,
      since,
    });
    const disks = snapshot.disks.filter(({ name }) => !leaveOut(name));
    const end = async () => {
      await this.call("DELETE", `/snapshots/${encodeURIComponent(snapshot.id)}`, z.unknown());
    };
    if (disks.length === 0) {
      await end();
      throw new CodedError("source.snapshot-failed", `${snapshot.guest.name} has no disk that is to be read`);
    }
    const address = await this.nbd(snapshot.nbd);
    return {
      definition: snapshot.definition,
      description: {
        id,
        name: snapshot.guest.name,
        memory: snapshot.guest.memory,
        processors: snapshot.guest.processors,
        disks: disks.map(({ name, size }) => ({ name, size })),
        checkpoint: snapshot.checkpoint,
        quiesced: snapshot.notQuiesced === null,
        notQuiesced: snapshot.notQuiesced,
        definedBy: "service",
      },
      reset: since ? snapshot.reset : null,
      open: async (name) => {
        const changes = since && snapshot.reset === null ? bitmapContext(snapshot.bitmap) : null;
        const { export: exportName } = disks.find((disk) => disk.name === name)!;
        const device = await this.opened(address, exportName, changes ? [changes] : []);
        return { device, changes: changes && device.contexts.includes(changes) ? changes : null };
      },
      end,
    };
  }

  async restore(
    guest: GuestToRestore,
    passed: (bytes: number) => void,
    signal: AbortSignal,
  ): Promise<string[]> {
    const { description, name, definition, replaces } = guest;
    if (guest.start)
      throw new CodedError(
        "restore.cannot-write",
        "hosts with the host API do not start guests from a depot; restore the guest, then start it",
      );
    const created = await this.call("POST", "/guests", createdSchema, {
      name,
      memory: description.memory,
      processors: description.processors,
      definition: description.definedBy === "service" ? definition : "",
      replaces,
      disks: guest.disks.map((disk) => ({ name: disk.name, size: disk.stored.size })),
    });
    const path = `/guests/${encodeURIComponent(created.id)}`;
    try {
      const address = await this.nbd(created.nbd);
      for (const { name: disk, stored } of guest.disks) {
        const device = await this.opened(address, created.disks.find((one) => one.name === disk)!.export, []);
        try {
          for (let at = 0; at < stored.size; ) {
            signal.throwIfAborted();
            const stretch = stored.stretch(at, stored.size - at);
            const length = stretch.stored ? Math.min(stretch.length, WRITTEN_AT_ONCE) : stretch.length;
            if (stretch.stored) {
              await device.write(at, await stored.read(at, length));
              passed(length);
            }
            at += length;
          }
          await device.flush();
        } finally {
          device.close();
        }
      }
      const { kept } = await this.call("POST", `${path}/completion`, z.object({ kept: z.array(z.string()) }));
      return kept;
    } catch (error) {
      await this.call("DELETE", path, z.unknown()).catch(() => {});
      if (error instanceof CodedError || signal.aborted) throw error;
      throw new CodedError("restore.cannot-write", (error as Error).message);
    }
  }

  private async nbd({ host, port }: z.infer<typeof served>): Promise<NbdAddress> {
    const { transfer, authority } = this.connection.settings;
    return {
      host: await allowedAddress(host),
      port,
      ...(transfer === "tls" ? { tls: { servername: host, ...(authority ? { ca: authority } : {}) } } : {}),
    };
  }

  private async opened(address: NbdAddress, name: string, contexts: readonly string[]): Promise<NbdClient> {
    try {
      return await NbdClient.open(address, name, contexts);
    } catch (error) {
      throw new CodedError(
        "source.snapshot-failed",
        `the host does not serve the disk: ${(error as Error).message}`,
      );
    }
  }

  private async call<T>(
    method: string,
    path: string,
    schema: z.ZodType<T>,
    body?: object,
    unsigned = false,
  ): Promise<T> {
    let response: Response;
    try {
      response = await fetchAllowed(`${this.url}${path}`, {
        method,
        signal: AbortSignal.timeout(PATIENCE_MS),
        redirect: "manual",
        headers: {
          accept: "application/json",
          ...(unsigned ? {} : { authorization: `Bearer ${this.connection.secret}` }),
          ...(body ? { "content-type": "application/json" } : {}),
        },
        ...(body ? { body: JSON.stringify(body) } : {}),
      });
    } catch (error) {
      if (error instanceof CodedError) throw error;
      const { cause, message } = error as { cause?: { code?: string; message: string }; message: string };
      const code = cause?.code ?? "";
      throw new CodedError(
        /CERT|TLS|SSL/.test(code) ? "source.tls" : "source.not-reached",
        `${this.url}: ${cause?.message || code || message}`,
      );
    }
    const text = await response.text();
    if (unsigned) return undefined as T;
    if (response.ok) {
      const parsed = schema.safeParse(text ? JSON.parse(text) : {});
      if (parsed.success) return parsed.data;
      throw new CodedError(
        "source.unreadable",
        `${method} ${path}: the answer lacks ${parsed.error.issues[0]?.path.join(".")}`,
      );
    }
    throw this.refusal(
      response.status,
      detailOf(text) || `${method} ${path}: status ${response.status}`,
      method,
    );
  }

  private refusal(status: number, detail: string, method: string): CodedError {
    if (status === 401) return new CodedError("source.signin-refused", detail);
    if (status === 403) return new CodedError("source.not-allowed", detail);
    if (status === 409 && method === "POST" && detail.includes("already"))
      return new CodedError("restore.exists", detail);
    if (status === 409) return new CodedError("restore.in-use", detail);
    return new CodedError("source.snapshot-failed", detail);
  }
}

function detailOf(text: string): string {
  try {
    return problemSchema.parse(JSON.parse(text)).detail;
  } catch {
    return "";
  }
}
