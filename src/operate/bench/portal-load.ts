import { randomUUID } from "node:crypto";
import { setTimeout as pause } from "node:timers/promises";
import { insertPerson } from "@/db/access/people";
import { insertToken } from "@/db/access/sessions";
import { one } from "@/db/base/scope";
import type { Services } from "@/server/base/services";
import { hashSecret, randomSecret } from "@/store/seal/secrets";

/** People who use the portal as people do: they click, read, and click again; others get everything of a moment back. */
const system = { role: "system" } as const;

export interface Visitor {
  readonly token: string;
  readonly giftId: string;
}

/** People of the bakery, to each of whom the same laptop is given. */
export async function invite(services: Services, count: number, mark = ""): Promise<Visitor[]> {
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
        email: `p${mark}${number}@quillmere.example`,
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

const pick = <T>(list: readonly T[]): T => list[Math.floor(Math.random() * list.length)]!;

interface Listed {
  readonly entries: readonly { readonly path: string; readonly type: string }[];
}

export class Load {
  readonly clicks: number[] = [];
  readonly restores: number[] = [];
  bytes = 0;
  readonly failed = new Map<number, number>();
  private readonly until: number;

  constructor(
    private readonly url: string,
    seconds: number,
  ) {
    this.until = performance.now() + seconds * 1000;
  }

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
      const { byteLength } = await response.arrayBuffer();
      this.bytes += byteLength;
      if (!response.ok) this.failed.set(response.status, (this.failed.get(response.status) ?? 0) + 1);
      this.restores.push(performance.now() - started);
    }
  }
}
