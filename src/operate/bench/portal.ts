import { spawn } from "node:child_process";
import { randomUUID } from "node:crypto";
import { mkdirSync, openSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { migrate } from "@/db/migrate";
import { insertPerson } from "@/db/people";
import { one } from "@/db/scope";
import { insertToken } from "@/db/sessions";
import { seedDemo } from "@/demo/seed";
import { makeServices, type Services } from "@/server/services";
import { readSettings } from "@/server/settings";
import { hashSecret, randomSecret } from "@/store/secrets";
import { ensureMasterKey, freePort, startCluster, stopCluster } from "../cluster";
import { type Figure, figure, inFolder, say } from "./ground";

/**
 * The portal under load: 200 of a client's people browse what was given to them, each with the pauses of somebody who
 * reads, and 20 get things back at once, over and over. Over the demo's month, through the web as it runs.
 */
const BROWSING = Number(process.env.DEEPKEEP_BENCH_BROWSING ?? 200);
const RESTORING = Number(process.env.DEEPKEEP_BENCH_RESTORING ?? 20);
const SECONDS = 60;
const CLICK_LIMIT_MS = 1000;
const system = { role: "system" } as const;

interface Visitor {
  readonly token: string;
  readonly giftId: string;
}

/** People of the bakery, to each of whom the same laptop is given. */
async function invite(services: Services, count: number): Promise<Visitor[]> {
  const now = services.now();
  return services.db.withScope(system, async (tx) => {
    const source = (await one<{ id: string; clientId: string }>(
      tx,
      `select s.id, s.client_id as "clientId" from sources s join clients c on c.id = s.client_id where c.slug = 'quillmere' and s.name like 'quill-lt-04%'`,
    ))!;
    const visitors: Visitor[] = [];
    for (let number = 0; number < count; number += 1) {
      const [id, giftId, token] = [randomUUID(), randomUUID(), randomSecret()];
      const person = {
        id,
        clientId: source.clientId,
        email: `p${number}@quillmere.example`,
        name: `P ${number}`,
      };
      await insertPerson(tx, { ...person, role: "person" }, null, now);
      await insertToken(
        tx,
        hashSecret(token),
        id,
        "bench",
        now,
        new Date(now.getTime() + 86_400_000),
        "change",
      );
      await tx.query(
        "insert into gifts (id, client_id, person_id, source_id, path, given_by, given_at) values ($1, $2, $3, $4, '/', 'bench', $5)",
        [giftId, source.clientId, id, source.id, now],
      );
      visitors.push({ token, giftId });
    }
    return visitors;
  });
}

const percentile = (times: readonly number[], share: number): number =>
  [...times].sort((a, b) => a - b)[Math.min(times.length - 1, Math.floor(times.length * share))] ??
  Number.NaN;
const pick = <T>(list: readonly T[]): T => list[Math.floor(Math.random() * list.length)]!;

interface Listed {
  readonly entries: readonly { readonly path: string; readonly type: string }[];
}

class Load {
  readonly clicks: number[] = [];
  readonly restores: number[] = [];
  bytes = 0;
  readonly failed = new Map<number, number>();
  private readonly until = performance.now() + SECONDS * 1000;

  constructor(private readonly url: string) {}

  private get going(): boolean {
    return performance.now() < this.until;
  }

  private async call<T>(visitor: Visitor, path: string, body?: unknown): Promise<T | null> {
    const response = await fetch(`${this.url}/api/v1${path}`, {
      method: body ? "POST" : "GET",
      headers: { authorization: `Bearer ${visitor.token}`, "content-type": "application/json" },
      ...(body ? { body: JSON.stringify(body) } : {}),
    });
    if (!response.ok) {
      this.failed.set(response.status, (this.failed.get(response.status) ?? 0) + 1);
      await response.body?.cancel();
      return null;
    }
    return (await response.json()) as T;
  }

  private async click<T>(visitor: Visitor, path: string): Promise<T | null> {
    const started = performance.now();
    const answer = await this.call<T>(visitor, path);
    this.clicks.push(performance.now() - started);
    return answer;
  }

  async browse(visitor: Visitor): Promise<void> {
    await pause(Math.random() * 3000);
    while (this.going) {
      const gift = `/given/${visitor.giftId}`;
      const points = await this.click<{ points: { id: string }[] }>(visitor, `${gift}/recovery-points`);
      if (!points) return;
      const at = `${gift}/recovery-points/${pick(points.points).id}`;
      let path = "/";
      for (let depth = 0; depth < 4 && this.going; depth += 1) {
        await pause(1000 + Math.random() * 2000);
        const listed = await this.click<Listed>(visitor, `${at}/entries?path=${encodeURIComponent(path)}`);
        const folders = listed?.entries.filter(({ type }) => type === "folder") ?? [];
        const files = listed?.entries.filter(({ type }) => type === "file") ?? [];
        if (files.length && Math.random() < 0.5) {
          await pause(1000 + Math.random() * 2000);
          await this.click(visitor, `${gift}/versions?path=${encodeURIComponent(pick(files).path)}`);
        }
        if (!folders.length) break;
        path = pick(folders).path;
      }
      await pause(1000 + Math.random() * 2000);
      if (this.going) await this.click(visitor, `${at}/search?name=${pick(["form", "letter", "photo"])}`);
    }
  }

  /** Downloads everything of a moment, over and over. */
  async restore(visitor: Visitor): Promise<void> {
    const points = await this.call<{ points: { id: string }[] }>(
      visitor,
      `/given/${visitor.giftId}/recovery-points`,
    );
    while (points && this.going) {
      const started = performance.now();
      const items = [{ giftId: visitor.giftId, pointId: pick(points.points).id, path: "/" }];
      const prepared = await this.call<{ url: string }>(visitor, "/given/archives", { items, format: "zip" });
      if (!prepared) return;
      const response = await fetch(`${this.url}${prepared.url}`, {
        headers: { authorization: `Bearer ${visitor.token}` },
      });
      this.bytes += (await response.arrayBuffer()).byteLength;
      if (!response.ok) this.failed.set(response.status, (this.failed.get(response.status) ?? 0) + 1);
      this.restores.push(performance.now() - started);
    }
  }
}

export const benchPortal = (): Promise<Figure[]> =>
  inFolder(async (folder) => {
    const home = join(folder, "console");
    mkdirSync(join(home, "log"), { recursive: true });
    mkdirSync(join(home, "demo"), { recursive: true, mode: 0o711 });
    ensureMasterKey(home);
    const access = await startCluster(home);
    const project = process.cwd();
    await migrate(access.owner, access.appPassword, join(project, "src/db/migrations"));
    const env = { ...process.env, DEEPKEEP_HOME: home };
    const settings = readSettings(env);
    await seedDemo(settings, home, say);
    const services = makeServices(settings);
    const port = await freePort();
    const log = openSync(join(home, "log/web.log"), "a");
    const web = spawn(
      process.execPath,
      [
        join(project, "node_modules/next/dist/bin/next"),
        "start",
        project,
        "-p",
        String(port),
        "-H",
        "127.0.0.1",
      ],
      { env: { ...env, NODE_ENV: "production", NEXT_TELEMETRY_DISABLED: "1" }, stdio: ["ignore", log, log] },
    );
    try {
      const url = `http://127.0.0.1:${port}`;
      const visitors = await invite(services, BROWSING + RESTORING);
      for (let tries = 0; tries < 300; tries += 1) {
        if (
          await fetch(`${url}/readyz`).then(
            (answer) => answer.ok,
            () => false,
          )
        )
          break;
        await pause(100);
      }
      const load = new Load(url);
      await Promise.all([
        ...visitors.slice(0, BROWSING).map((visitor) => load.browse(visitor)),
        ...visitors.slice(BROWSING).map((visitor) => load.restore(visitor)),
      ]);
      const failed = [...load.failed.values()].reduce((sum, count) => sum + count, 0);
      say(
        `${BROWSING} browsing, ${RESTORING} restoring for ${SECONDS} s: ${load.clicks.length} clicks, median ${percentile(load.clicks, 0.5).toFixed(0)} ms; ${load.restores.length} downloads of ${(load.bytes / Math.max(1, load.restores.length) / 1e6).toFixed(1)} MB, median ${percentile(load.restores, 0.5).toFixed(0)} ms; ${failed} refused ${JSON.stringify([...load.failed])}`,
      );
      return [
        figure(
          "a click in the portal, 95th percentile",
          "ms",
          percentile(load.clicks, 0.95),
          "its limit",
          CLICK_LIMIT_MS,
          1,
        ),
        figure(
          "requests that failed",
          "",
          failed,
          "all of them",
          load.clicks.length + load.restores.length,
          0,
        ),
      ];
    } finally {
      web.kill("SIGKILL");
      await services.db.end();
      await stopCluster(access, "immediate");
    }
  });
