import { type ChildProcess, spawn } from "node:child_process";
import { randomUUID } from "node:crypto";
import { mkdirSync, openSync } from "node:fs";
import { join } from "node:path";
import { setTimeout as pause } from "node:timers/promises";
import { operations } from "@/app/api/operations";
import { insertPerson, type Person, personById } from "@/db/access/people";
import { all, one } from "@/db/base/scope";
import { setProvider } from "@/db/clients/clients";
import { makeContext } from "@/server/api/operation";
import type { Services } from "@/server/base/services";
import { MailServer } from "@/standins/mail/server";
import { type Mailbox, MailTenants, STANDARD_FOLDERS } from "@/standins/mail/tenants";
import { withConsole } from "./bench-console";
import { type Figure, figure, inFolder, say } from "./ground";

/**
 * Due runs dealt to several runners, some of which are killed: real runs of mailboxes, read over JMAP, into a folder. What
 * is looked for: that each is done, and none twice.
 */
const MAILBOXES_EACH = 500;

export interface Dealt {
  readonly runs: number;
  /** Runs that did not end clean, or have no recovery point. */
  readonly lost: number;
  /** Sources with more than one recovery point, or more than one run that ended. */
  readonly twice: number;
  /** Runs that a runner left behind and another one took up. */
  readonly takenUp: number;
  readonly seconds: number;
}

const system = { role: "system" } as const;

/** A client with so many mailboxes, each with one message, and a run of each that is due. */
async function prepare(services: Services, folder: string, runs: number) {
  const world = new MailTenants(join(folder, "mail"));
  const server = new MailServer(world);
  const address = await server.listen();
  const owner: Person = await services.db.withScope(system, async (tx) => {
    await setProvider(tx, { name: "Lanternfold", zone: "Europe/London" });
    const person = { id: randomUUID(), clientId: null, email: "owner@lanternfold.example", name: "Owner" };
    await insertPerson(tx, { ...person, role: "owner" }, null, services.now());
    return (await personById(tx, person.id))!;
  });
  const call = async <T>(id: string, params: Record<string, string>, body: unknown): Promise<T> => {
    const operation = operations.find((candidate) => candidate.id === id)!;
    const request = new Request("http://127.0.0.1/");
    const context = makeContext(services, owner, { role: "provider" }, request, "127.0.0.1", null, null);
    return (await operation.run(context, {
      params,
      query: {},
      body: operation.body?.parse(body),
    } as never)) as T;
  };
  const { client, sites } = await call<{ client: { id: string }; sites: { id: string }[] }>(
    "addClient",
    {},
    {
      name: "Pendlewick Housing Trust",
      zone: "Europe/London",
      region: "north harbour",
      contactName: "Corin Ashby",
      contactEmail: "corin.ashby@pendlewick.example",
      sites: ["Trust house"],
    },
  );
  const place = join(folder, "depot");
  mkdirSync(place);
  const { depot } = await call<{ depot: { id: string } }>(
    "addDepot",
    {},
    { name: "Quay", kind: "folder", path: place, region: "north harbour" },
  );
  await call("grantDepot", { depotId: depot.id, clientId: client.id }, { quotaBytes: 1e12 });
  const { groups, askedGroup } = await call<{ groups: string[]; askedGroup: number }>(
    "createClientKey",
    { clientId: client.id },
    {},
  );
  await call("confirmClientKey", { clientId: client.id }, { group: groups[askedGroup]! });
  const { policy } = await call<{ policy: { id: string } }>(
    "createPolicy",
    {},
    {
      clientId: client.id,
      name: "When asked",
      clauses: {
        what: { mail: {} },
        when: { schedules: [], targetHours: 24 },
        howLong: { kind: "for-ever" },
        where: { depotId: depot.id },
      },
    },
  );
  for (let made = 0, number = 1; made < runs; number += 1) {
    const mailboxes: Mailbox[] = Array.from({ length: Math.min(MAILBOXES_EACH, runs - made) }, (_, i) => ({
      id: `box-${number}-${i}`,
      address: `box-${number}-${i}@pendlewick.example`,
      folders: STANDARD_FOLDERS,
      messages: [],
    }));
    made += mailboxes.length;
    const tenant = {
      tenantId: `part-${number}`,
      applications: [{ clientId: "deep-keep", secret: "right", expiresAt: "2100-01-01T00:00:00Z" }],
      mailboxes,
    };
    world.add(tenant);
    for (const mailbox of mailboxes)
      world.deliver(
        tenant,
        mailbox,
        {
          id: "e1",
          mailboxIds: { inbox: true },
          keywords: {},
          receivedAt: "2026-11-01T08:00:00Z",
          subject: "Rent",
        },
        Buffer.from(`Subject: Rent\r\n\r\nOf ${mailbox.address}: paid.\r\n`),
      );
    world.save(tenant);
    await call(
      "connect",
      { clientId: client.id },
      {
        kind: "mail",
        siteId: sites[0]!.id,
        name: `Trust mail ${number}`,
        address,
        tenantId: tenant.tenantId,
        clientId: "deep-keep",
        clientSecret: "right",
        region: "north harbour",
      },
    );
  }
  const first = await services.db.withScope(system, async (tx) =>
    one<{ id: string }>(tx, "select id from sources order by id limit 1"),
  );
  await call("changeSource", { sourceId: first!.id }, { policyId: policy.id });
  await services.db.withScope(system, async (tx) => {
    await tx.query(
      `update sources set policy_id = f.policy_id, rules = f.rules, origins = f.origins
       from (select policy_id, rules, origins from sources where id = $1) f where id <> $1`,
      [first!.id],
    );
    await tx.query(
      `insert into runs (id, client_id, source_id, kind, cause, due_at, request)
       select gen_random_uuid(), client_id, id, 'backup', 'schedule', $1, '{"pass": "incremental"}' from sources`,
      [services.now()],
    );
  });
  return server;
}

/**
 * Deals runs to runners and kills some of them when a fifth is done. With `hasten` the leases of what they leave behind
 * are over at once; without, they run out by themselves.
 */
export const dealRuns = (runs: number, runners: number, killed: number, hasten: boolean): Promise<Dealt> =>
  inFolder((folder) =>
    withConsole(folder, { fsync: "off" }, async ({ home, services, owner }) => {
      const children: ChildProcess[] = [];
      let mail: MailServer | null = null;
      try {
        mail = await prepare(services, folder, runs);
        const started = performance.now();
        for (let number = 1; number <= runners; number += 1) {
          const log = openSync(join(home, `log/runner-${number}.log`), "a");
          children.push(
            spawn(process.execPath, [join(process.cwd(), "dist/runner.mjs")], {
              env: { ...process.env, DEEPKEEP_HOME: home, DEEPKEEP_QUEUE_URL: owner },
              stdio: ["ignore", log, log],
            }),
          );
        }
        const counts = async () =>
          (await services.db.withScope(system, (tx) =>
            one<{ ended: number; open: number }>(
              tx,
              `select count(*) filter (where state = 'ended')::int as ended, count(*) filter (where state <> 'ended')::int as open from runs`,
            ),
          ))!;
        let left = killed;
        for (;;) {
          const { ended, open } = await counts();
          if (open === 0) break;
          if (left > 0 && ended >= runs / 5) {
            for (; left > 0; left -= 1) children[left - 1]!.kill("SIGKILL");
            if (hasten)
              await services.db.withScope(system, (tx) =>
                tx.query("update runs set lease_until = $1 where lease_until is not null", [services.now()]),
              );
          }
          await pause(200);
        }
        const seconds = (performance.now() - started) / 1000;
        const [found] = await services.db.withScope(system, (tx) =>
          all<Omit<Dealt, "runs" | "seconds">>(
            tx,
            `select (select count(*)::int from sources s where not exists (select from runs r where r.source_id = s.id and r.outcome = 'clean')
               or not exists (select from points p where p.source_id = s.id)) as lost,
             (select count(*)::int from sources s where (select count(*) from points p where p.source_id = s.id) > 1
               or (select count(*) from runs r where r.source_id = s.id) > 1) as twice,
             (select count(*)::int from runs where attempt > 1) as "takenUp"`,
          ),
        );
        return { runs, seconds, ...found! };
      } finally {
        for (const child of children) child.kill("SIGKILL");
        await mail?.close();
      }
    }),
  );

const RUNS = Number(process.env.DEEPKEEP_BENCH_DEALT ?? 10_000);

export async function benchDeal(): Promise<Figure[]> {
  const dealt = await dealRuns(RUNS, 4, 2, false);
  say(
    `${dealt.runs.toLocaleString("en-GB")} due runs, four runners, two killed: ${dealt.seconds.toFixed(0)} s, ${dealt.takenUp} taken up by others`,
  );
  return [
    figure("runs that were lost", "", dealt.lost, "all of them", dealt.runs, 0),
    figure("runs that were done twice", "", dealt.twice, "all of them", dealt.runs, 0),
  ];
}
