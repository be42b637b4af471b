import type { DirectWay } from "@/core/protocol/agent";
import { LocalFolder } from "@/store/places/local-folder";
import type { ConsoleLink } from "./link";
import { type Pacer, pacedBody } from "./pacer";
import type { RunReporter } from "./reporter";

/** How long a way that was given is used; the leave in it lasts longer. */
const WAY_MS = 8 * 60_000;

/**
 * A link that sends packs to depots itself where the console gives a way, and reads them there. What does not go that way
 * goes through the console; a depot that cannot be reached directly is not tried again in this run.
 */
export function directLink(link: ConsoleLink, depots: readonly string[], reporter: RunReporter): ConsoleLink {
  const left = new Set(depots);
  const giveUp = (way: DirectWay, error: unknown) => {
    left.delete(way.depotId);
    const where = way.kind === "path" ? way.path : new URL(way.url).host;
    reporter.log(
      "info",
      null,
      null,
      `${where} cannot be reached directly (${(error as Error).message}); it is reached through the console.`,
    );
  };
  const read = new Map<string, Promise<{ size: number; way: DirectWay | null; until: number }>>();
  const wayToRead = (runId: string, depotId: string, packId: string) => {
    const name = `${depotId} ${packId}`;
    const asked = (read.get(name) ?? Promise.reject(new Error("not asked yet"))).then((known) => {
      if (known.until < performance.now()) throw new Error("over");
      return known;
    });
    const found = asked.catch(async () => ({
      ...(await link.wayToRead(runId, depotId, packId)),
      until: performance.now() + WAY_MS,
    }));
    read.set(name, found);
    found.catch(() => read.delete(name));
    return found;
  };
  return {
    ...delegate(link),
    putPack: async (runId, packId, holds, parts, pacer) => {
      const ways = left.size
        ? (await link.waysToPut(runId, packId)).filter((way) => left.has(way.depotId))
        : [];
      const put: string[] = [];
      await Promise.all(
        ways.map((way) =>
          write(way, parts, pacer).then(
            () => put.push(way.depotId),
            (error) => giveUp(way, error),
          ),
        ),
      );
      // the other depots, and those where it turned out not to lie, get it through the console
      if (put.length && (await link.landed(runId, packId, holds, put))) return;
      await link.putPack(runId, packId, holds, parts, pacer);
    },
    readPack: async (runId, depotId, packId, offset, length) => {
      if (!left.has(depotId)) return link.readPack(runId, depotId, packId, offset, length);
      const { size, way } = await wayToRead(runId, depotId, packId);
      if (length === 0) return { size, bytes: Buffer.alloc(0) };
      if (!way) return link.readPack(runId, depotId, packId, offset, length);
      try {
        return { size, bytes: await fetchRange(way, offset, length) };
      } catch (error) {
        giveUp(way, error);
        return link.readPack(runId, depotId, packId, offset, length);
      }
    },
  };
}

/** All calls of a link as they are, whether it is an object or an instance. */
const delegate = (link: ConsoleLink): ConsoleLink => ({
  hello: (system, started) => link.hello(system, started),
  work: (kinds, signal) => link.work(kinds, signal),
  heartbeat: (runId, report) => link.heartbeat(runId, report),
  log: (runId, lines) => link.log(runId, lines),
  known: (runId, ids) => link.known(runId, ids),
  putPack: (runId, packId, holds, parts, pacer) => link.putPack(runId, packId, holds, parts, pacer),
  waysToPut: (runId, packId) => link.waysToPut(runId, packId),
  landed: (runId, packId, holds, depotIds) => link.landed(runId, packId, holds, depotIds),
  putPoint: (runId, report) => link.putPoint(runId, report),
  end: (runId, report) => link.end(runId, report),
  locate: (runId, depotId, ids) => link.locate(runId, depotId, ids),
  readPack: (runId, depotId, packId, offset, length) => link.readPack(runId, depotId, packId, offset, length),
  wayToRead: (runId, depotId, packId) => link.wayToRead(runId, depotId, packId),
});

async function write(way: DirectWay, parts: readonly Uint8Array[], pacer?: Pacer): Promise<void> {
  if (way.kind === "path") {
    // a path that it sees is mostly a share on the network
    for (const part of parts) await pacer?.take(part.length);
    await new LocalFolder(way.path, way.depotId).put(way.name, parts).catch((error) => {
      // it lies there from an earlier try; the console looks at its size
      if ((error as { code?: string }).code !== "request.conflict") throw error;
    });
    return;
  }
  const { body, headers } = pacedBody(parts, pacer);
  const response = await fetch(way.url, {
    method: "PUT",
    headers: { ...way.headers, ...headers },
    body,
    ...(pacer ? { signal: pacer.signal } : {}),
    ...({ duplex: "half" } as object),
  });
  await response.body?.cancel();
  if (!response.ok && response.status !== 412) throw new Error(`it answers ${response.status}`);
}

async function fetchRange(way: DirectWay, offset: number, length: number): Promise<Buffer> {
  if (way.kind === "path") return new LocalFolder(way.path, way.depotId).read(way.name, offset, length);
  const response = await fetch(way.url, {
    headers: { ...way.headers, range: `bytes=${offset}-${offset + length - 1}` },
  });
  if (response.status !== 206 && response.status !== 200) {
    await response.body?.cancel();
    throw new Error(`it answers ${response.status}`);
  }
  const bytes = Buffer.from(await response.arrayBuffer());
  return response.status === 200 ? bytes.subarray(offset, offset + length) : bytes;
}
