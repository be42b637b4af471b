import { randomUUID } from "node:crypto";
import { mkdirSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { DateTime } from "luxon";
import { AgentState, type Identity } from "@/agent/state";
import { describeSystem } from "@/agent/system";
import { doJob } from "@/agent/work";
import { operations } from "@/app/api/operations";
import type { ClientRole } from "@/core/rights/rights";
import type { Statement } from "@/core/statement/statement";
import { insertPerson, limitToClients, type Person, personById, setPassword } from "@/db/access/people";
import { insertToken, takeInvitation } from "@/db/access/sessions";
import { one } from "@/db/base/scope";
import { listClients, setProvider } from "@/db/clients/clients";
import { type Machine, machineById } from "@/db/sources/machines";
import { sourcesOfConnection } from "@/db/sources/sources";
import { enrolMachine } from "@/runs/agent-desk";
import { askAllCarries } from "@/runs/carry";
import { requestAllChecks } from "@/runs/check";
import { DrillRuns, requestDueDrills } from "@/runs/drills";
import { inProcessLink } from "@/runs/in-process-link";
import { NetworkRuns } from "@/runs/network-runs";
import { sendNotices } from "@/runs/notices";
import { sendDueStatements } from "@/runs/statements";
import { endPassedBy, tickSchedules } from "@/runs/tick";
import { hashPassword } from "@/server/access/sign-in";
import { makeContext } from "@/server/api/operation";
import { isDatabaseAway } from "@/server/base/problem";
import { makeServices, type Services } from "@/server/base/services";
import type { Settings } from "@/server/base/settings";
import { noteTodaysUsage } from "@/server/statements/usage";
import { HostServer } from "@/standins/host/server";
import { MailDrop } from "@/standins/inbox/mail-drop";
import { Receiver } from "@/standins/inbox/receiver";
import { LibraryServer } from "@/standins/library/server";
import { MailServer } from "@/standins/mail/server";
import { S3Server } from "@/standins/s3/server";
import { hashSecret, makeKeyPair, randomSecret } from "@/store/seal/secrets";
import { DatabaseLife, type DemoDatabase } from "./databases";
import { MachineLife } from "./files";
import { GuestLife } from "./guests";
import { CATALOGUE, LIBRARY_CLIENT, LIBRARY_PERSON, LibraryLife, OVERWRITTEN } from "./library";
import { MailLife } from "./mail";
import { loaf } from "./picture";
import { type DemoMachine, machinesFile, signInFile, writeStandins } from "./places";
import {
  CLIENTS,
  nightly,
  PROVIDER,
  PROVIDER_NOTICES,
  PROVIDER_RULES,
  STAFF,
  type WorldClient,
  type WorldDatabases,
  type WorldHosts,
  type WorldLibrary,
  type WorldMail,
} from "./world";

const NIGHTS = 31;
/** Days before the end on which the hypervisor hosts and the library are connected. */
const HOSTS_DAYS = 10;
const DAY_MS = 86_400_000;

/** A clock that is set, and runs on from there as time passes. */
class StoryClock {
  private base = 0;
  private setAt = 0;
  set(moment: Date): void {
    this.base = moment.getTime();
    this.setAt = performance.now();
  }
  readonly now = (): Date => new Date(this.base + (performance.now() - this.setAt));
}

/** Who can sign in, for the list that the start prints. */
interface SeededPerson {
  readonly name: string;
  readonly role: string;
  readonly email: string;
  readonly password: string;
  readonly client: string | null;
}

interface LivingMachine {
  readonly life: MachineLife;
  readonly machine: Machine;
  readonly identity: Identity;
  readonly state: AgentState;
  readonly sourceId: string;
  online: boolean;
}

/**
 * Makes the demo: lives through a month of the world under a simulated clock. Every recovery point comes from a real run
 * of the agent's own code on the files as they were that night.
 */
export async function seedDemo(
  settings: Settings,
  home: string,
  /** A PostgreSQL server for the clients' databases, as its owner reaches it; null: none are in the demo. */
  databases: string | null,
  say: (line: string) => void,
): Promise<void> {
  const clock = new StoryClock();
  const services = makeServices(
    { ...settings, databaseUrl: withoutWaiting(settings.databaseUrl) },
    clock.now,
  );
  try {
    const seeding = new Seeding(services, clock, home, databases, say);
    await seeding.run().finally(() => seeding.close());
  } finally {
    await services.db.end();
  }
}

/** A seeding that breaks off begins anew: no commit of it has to wait for the disk. */
function withoutWaiting(databaseUrl: string): string {
  const url = new URL(databaseUrl);
  url.searchParams.set("options", "-c synchronous_commit=off");
  return url.href;
}

/** The shared mailbox that somebody empties on a Thursday. */
const EMPTIED = "repairs@pendlewick.example";

class Seeding {
  private readonly living: LivingMachine[] = [];
  private owner!: Person;
  private readonly mail: MailLife;
  private readonly mailServer: MailServer;
  private mailAddress = "";
  private readonly guests: GuestLife;
  private readonly hostServer: HostServer;
  private readonly library: LibraryLife;
  private readonly libraryServer: LibraryServer;
  private libraryAddress = "";
  private hostAddress = "";
  private readonly bucketSecret = randomSecret(24);
  private readonly bucketServer: S3Server;
  private readonly network: NetworkRuns;
  private readonly drills: DrillRuns;
  private readonly inbox: MailDrop;
  private readonly receiver: Receiver;
  private webhookSecret = "";
  private readonly folder: string;
  private readonly end = new Date();
  private readonly start = new Date(this.end.getTime() - NIGHTS * DAY_MS);

  constructor(
    private readonly services: Services,
    private readonly clock: StoryClock,
    home: string,
    databases: string | null,
    private readonly say: (line: string) => void,
  ) {
    this.folder = join(home, "demo");
    this.home = home;
    this.mail = new MailLife(join(this.folder, "mail"));
    this.bucketServer = new S3Server({
      folder: join(this.folder, "bucket"),
      keys: { "deep-keep": { secret: this.bucketSecret } },
      // requests are signed by the machine's own clock
    });
    this.mailServer = new MailServer(this.mail.world, clock.now);
    this.guests = new GuestLife(this.folder);
    this.hostServer = new HostServer(this.guests.estates);
    this.library = new LibraryLife(this.folder);
    this.libraryServer = new LibraryServer({ folder: this.library.folder });
    this.databaseLife = databases === null ? null : new DatabaseLife(databases);
    this.network = new NetworkRuns(services);
    this.drills = new DrillRuns(services, join(home, "drills"));
    this.inbox = new MailDrop(join(this.folder, "messages/mail"));
    this.receiver = new Receiver(
      join(this.folder, "messages/hooks"),
      () => this.webhookSecret,
      this.inbox.folder,
      clock.now,
    );
  }
  private readonly home: string;
  private readonly databaseLife: DatabaseLife | null;
  private readonly databasesMade: DemoDatabase[] = [];

  /** Does an operation of the API as the owner would. */
  private async call<T>(id: string, params: Record<string, string>, body?: unknown): Promise<T> {
    const operation = operations.find((candidate) => candidate.id === id)!;
    const context = makeContext(
      this.services,
      this.owner,
      { role: "provider" },
      new Request("http://127.0.0.1/"),
      "127.0.0.1",
      null,
      null,
    );
    return (await operation.run(context, {
      params,
      query: operation.query?.parse({}) ?? {},
      body: operation.body?.parse(body ?? {}),
    } as never)) as T;
  }

  async close(): Promise<void> {
    await this.mailServer.close();
    await this.bucketServer.close();
    await this.hostServer.close();
    await this.libraryServer.close();
    await this.inbox.close();
    await this.receiver.close();
  }

  async run(): Promise<void> {
    this.clock.set(this.start);
    this.mailAddress = await this.mailServer.listen();
    const bucketAddress = await this.bucketServer.listen();
    this.hostAddress = await this.hostServer.listen();
    this.libraryAddress = await this.libraryServer.listen(0);
    const portOf = (address: string) => Number(new URL(address).port);
    const inboxPort = await this.inbox.listen(0);
    const receiverAddress = await this.receiver.listen(0);
    const people = await this.makeStaff();
    const webhookId = await this.setUpMessages(inboxPort, receiverAddress);
    writeStandins(this.home, [
      { kind: "mail", folder: join(this.folder, "mail"), port: portOf(this.mailAddress), env: {} },
      {
        kind: "bucket",
        folder: join(this.folder, "bucket"),
        port: portOf(bucketAddress),
        env: { KEEP_BUCKET_SECRET: this.bucketSecret },
      },
      { kind: "hosts", folder: join(this.folder, "hosts"), port: portOf(this.hostAddress), env: {} },
      { kind: "library", folder: this.library.folder, port: portOf(this.libraryAddress), env: {} },
      { kind: "inbox", folder: join(this.folder, "messages"), port: inboxPort, env: {} },
      {
        kind: "receiver",
        folder: join(this.folder, "messages"),
        port: portOf(receiverAddress),
        env: { KEEP_WEBHOOK_SECRET: this.webhookSecret },
      },
    ]);
    const depots = await this.makeDepots(bucketAddress);
    await this.call(
      "setRules",
      { level: "provider", ownerId: "all" },
      {
        clauses: {
          ...PROVIDER_RULES,
          notices: { ...PROVIDER_NOTICES, webhooks: [webhookId] },
        },
        reason: "A year, where nobody agreed on anything else",
      },
    );
    for (const client of CLIENTS) people.push(...(await this.takeOn(client, depots)));
    await this.limitStaff();
    await this.liveTheMonth();
    await this.writeToStatement();
    await this.setOstrelCapacity(depots.get("Ostrel office")!);
    await askAllCarries(this.services);
    await requestAllChecks(this.services, "trees");
    const token = await this.createToken();
    const machines: DemoMachine[] = this.living.map(({ life, state, online }) => ({
      name: life.machine.name,
      root: life.disk,
      state: state.folder,
      away: !online,
    }));
    writeFileSync(machinesFile(this.home), `${JSON.stringify(machines, null, 2)}\n`, { mode: 0o600 });
    writeFileSync(signInFile(this.home), `${JSON.stringify({ people, apiToken: token }, null, 2)}\n`, {
      mode: 0o600,
    });
  }

  /** What the desk did about exceptions stands in the statement. */
  private async writeToStatement(): Promise<void> {
    const clients = await this.services.db.withScope({ role: "system" }, listClients);
    for (const { name, word } of CLIENTS) {
      const { id: clientId } = clients.find((client) => client.name === name)!;
      if (!word) continue;
      const { statement } = await this.call<{ statement: Statement }>("readStatement", { clientId });
      const about = statement.exceptions.find((exception) => exception.key.startsWith(word.about));
      if (!about) throw new Error(`${name} has no exception that begins with “${word.about}”`);
      await this.call(
        "addStatementNote",
        { clientId },
        { about: about.key, day: about.firstDay, text: word.text },
      );
    }
  }

  private async makeStaff(): Promise<SeededPerson[]> {
    const shown: SeededPerson[] = [];
    await this.services.db.withScope({ role: "system" }, (tx) => setProvider(tx, PROVIDER));
    for (const { clients, ...staff } of STAFF) {
      const password = randomSecret(12);
      const id = randomUUID();
      const hash = await hashPassword(password);
      const person = await this.services.db.withScope({ role: "system" }, async (tx) => {
        await insertPerson(tx, { id, clientId: null, ...staff }, hash, this.clock.now());
        return (await personById(tx, id))!;
      });
      if (staff.role === "owner") this.owner = person;
      if (clients) this.limited.set(id, clients);
      shown.push({
        name: staff.name,
        role: clients ? `${staff.role} of ${clients.length} clients` : staff.role,
        email: staff.email,
        password,
        client: null,
      });
    }
    return shown;
  }
  /** Staff who look after some clients only. */
  private readonly limited = new Map<string, readonly string[]>();

  private async limitStaff(): Promise<void> {
    await this.services.db.withScope({ role: "system" }, async (tx) => {
      const clients = await listClients(tx);
      for (const [id, names] of this.limited)
        await limitToClients(
          tx,
          id,
          clients.filter(({ name }) => names.includes(name)).map((client) => client.id),
        );
    });
  }

  private giftOf(machine: WorldClient["machines"][number], askFirst: boolean) {
    const living = this.living.find(({ life }) => life.machine.name === machine.name);
    return living ? { sourceId: living.sourceId, path: machine.home, askFirst } : null;
  }

  /** Invites one of a client's people, who takes it up, and gives them a machine's files. */
  private async makeClientPerson(
    world: WorldClient,
    client: { id: string; slug: string },
    person: { name: string; email: string; role: ClientRole },
    gift: { sourceId: string; path: string; askFirst: boolean } | null,
  ): Promise<SeededPerson> {
    const password = randomSecret(12);
    const made = await this.call<{ person: { id: string }; invitation: { url: string } }>(
      "inviteClientPerson",
      { clientId: client.id },
      person,
    );
    const hash = await hashPassword(password);
    await this.services.db.withScope({ role: "system" }, async (tx) => {
      await takeInvitation(tx, hashSecret(made.invitation.url.split("/").at(-1)!));
      await setPassword(tx, made.person.id, hash);
    });
    if (gift) await this.call("give", { clientId: client.id }, { personId: made.person.id, ...gift });
    return {
      name: person.name,
      role: `${person.role === "manager" ? "manager" : "person"} at ${world.name}`,
      email: person.email,
      password,
      client: client.slug,
    };
  }

  /** How the desk hears: a mail server and its ticket system. Returns the webhook's id. */
  private async setUpMessages(port: number, receiver: string): Promise<string> {
    await this.call(
      "setMailServer",
      {},
      { host: "127.0.0.1", port, security: "none", sender: "deep-keep@lanternfold.example" },
    );
    const { webhook, secret } = await this.call<{ webhook: { id: string }; secret: string }>(
      "createWebhook",
      {},
      { name: "Tickets", url: `${receiver}/tickets` },
    );
    this.webhookSecret = secret;
    return webhook.id;
  }

  private async makeDepots(bucketAddress: string): Promise<Map<string, string>> {
    const made = new Map<string, string>();
    for (const [name, region] of [
      ["Harbour", "north harbour"],
      ["Quay", "north harbour"],
      ["Ostrel office", "north harbour"],
    ] as const) {
      const path = join(this.folder, "depots", name.toLowerCase().replace(/ /g, "-"));
      mkdirSync(path, { recursive: true, mode: 0o700 });
      const { depot } = await this.call<{ depot: { id: string } }>("addDepot", {}, { name, path, region });
      made.set(name, depot.id);
    }
    const { depot } = await this.call<{ depot: { id: string } }>(
      "addDepot",
      {},
      {
        kind: "s3",
        name: "South bucket",
        region: "south sea",
        endpoint: bucketAddress,
        bucketRegion: "north-harbour",
        bucket: "keep",
        prefix: "lanternfold/",
        accessKeyId: "deep-keep",
        secretAccessKey: this.bucketSecret,
      },
    );
    made.set("South bucket", depot.id);
    return made;
  }

  private async takeOn(world: WorldClient, depots: ReadonlyMap<string, string>) {
    const [contactName, contactEmail] = world.contact;
    const { client, sites } = await this.call<{
      client: { id: string; slug: string };
      sites: { id: string; name: string }[];
    }>(
      "addClient",
      {},
      {
        name: world.name,
        zone: world.zone,
        region: world.region,
        contactName,
        contactEmail,
        sites: world.sites,
        contract: world.contract,
      },
    );
    if (world.colour)
      await this.call(
        "setLook",
        { clientId: client.id },
        { colour: world.colour, logo: loaf(world.colour).toString("base64") },
      );
    const depotId = depots.get(world.depot)!;
    await this.call(
      "grantDepot",
      { depotId, clientId: client.id },
      { quotaBytes: world.quotaMiB * 1024 * 1024, lockDays: world.lockDays ?? 0 },
    );
    if (world.statements)
      await this.call(
        "setStatementSending",
        { clientId: client.id },
        { ...world.statements, at: "07:30", recipients: [contactEmail] },
      );
    if (world.limits) await this.call("setClientLimits", { clientId: client.id }, world.limits);
    const carryTo = world.carryTo ? [depots.get(world.carryTo)!] : [];
    const beside = world.beside ? [depots.get(world.beside)!] : [];
    for (const further of [...carryTo, ...beside])
      await this.call(
        "grantDepot",
        { depotId: further, clientId: client.id },
        { quotaBytes: world.quotaMiB * 1024 * 1024 },
      );
    const { groups, askedGroup } = await this.call<{ groups: string[]; askedGroup: number }>(
      "createClientKey",
      { clientId: client.id },
    );
    await this.call("confirmClientKey", { clientId: client.id }, { group: groups[askedGroup]! });
    mkdirSync(join(this.folder, "key-sheets"), { recursive: true, mode: 0o700 });
    writeFileSync(join(this.folder, "key-sheets", `${client.slug}.txt`), `${groups.join(" ")}\n`, {
      mode: 0o600,
    });
    const folders = [
      ...new Set(world.machines.map((machine) => machine.home.split("/").slice(0, 2).join("/"))),
    ];
    const policies = new Map<string, string>();
    for (const folder of folders) {
      const name = folders.length > 1 ? `${world.policy.name} (${folder.slice(1)})` : world.policy.name;
      const { policy } = await this.call<{ policy: { id: string } }>(
        "createPolicy",
        {},
        {
          clientId: client.id,
          name,
          clauses: {
            what: { files: { folders: [folder], include: [], exclude: world.policy.exclude ?? [] } },
            when: {
              schedules: world.policy.schedules,
              targetHours: world.policy.targetHours,
              ...world.policy.when,
            },
            howLong: world.policy.howLong,
            where: { depotId, carryTo, beside },
            ...world.policy.more,
          },
        },
      );
      policies.set(folder, policy.id);
    }
    for (const machine of world.machines) {
      if (machine.name === "pend-lt-11") continue; // a newcomer: enrols on the last day
      const living = await this.enrol(
        machine,
        client.id,
        sites.find((site) => site.name === machine.site)!.id,
      );
      await this.call(
        "changeSource",
        { sourceId: living.sourceId },
        { policyId: policies.get(machine.home.split("/").slice(0, 2).join("/")) },
      );
    }
    if (world.mail)
      await this.connectMail(world.mail, client.id, sites[0]!.id, {
        what: { mail: { excludeRoles: ["drafts", "junk"] } },
        when: { schedules: nightly(world.mail.at), targetHours: world.policy.targetHours },
        howLong: world.policy.howLong,
        where: { depotId },
      });
    if (world.databases && this.databaseLife)
      await this.connectDatabases(this.databaseLife, world.databases, client.id, sites[0]!.id, {
        what: { database: {} },
        when: { schedules: nightly(world.databases.at), targetHours: world.policy.targetHours },
        howLong: world.policy.howLong,
        where: { depotId },
      });
    const people = [
      await this.makeClientPerson(
        world,
        client,
        { name: contactName, email: contactEmail, role: "manager" },
        this.giftOf(world.machines[0]!, false),
      ),
    ];
    for (const { name, email, machine, askFirst } of world.people ?? [])
      people.push(
        await this.makeClientPerson(
          world,
          client,
          { name, email, role: "person" },
          this.giftOf(world.machines.find((one) => one.name === machine)!, askFirst ?? false),
        ),
      );
    await this.giveMailboxes(client.id);
    return people;
  }

  /** Whoever has a mailbox gets it shared. */
  private async giveMailboxes(clientId: string): Promise<void> {
    const owners = await this.services.db.withScope({ role: "system" }, (tx) =>
      tx.query<{ personId: string; sourceId: string }>(
        `select p.id as "personId", s.id as "sourceId" from people p join sources s on s.client_id = p.client_id and s.name = p.email
         where p.client_id = $1 and s.kind = 'mail'`,
        [clientId],
      ),
    );
    for (const { personId, sourceId } of owners.rows)
      await this.call("give", { clientId }, { personId, sourceId, path: "/", askFirst: false });
  }

  private async connectMail(
    mail: WorldMail,
    clientId: string,
    siteId: string,
    clauses: object,
  ): Promise<void> {
    const clientSecret = randomSecret(24);
    this.mail.begin(mail, clientSecret, new Date(this.end.getTime() + mail.secretEndsInDays * DAY_MS));
    const { policy } = await this.call<{ policy: { id: string } }>(
      "createPolicy",
      {},
      { clientId, name: `${mail.name}, every evening`, clauses },
    );
    const { connection } = await this.call<{ connection: { id: string } }>(
      "connect",
      { clientId },
      {
        kind: "mail",
        siteId,
        name: mail.name,
        address: this.mailAddress,
        tenantId: mail.tenantId,
        clientId: mail.clientId,
        clientSecret,
        dav: MailLife.dav(this.mailAddress),
        region: "north harbour",
      },
    );
    const mailboxes = await this.services.db.withScope({ role: "system" }, (tx) =>
      sourcesOfConnection(tx, connection.id),
    );
    for (const { id } of mailboxes)
      await this.call("changeSource", { sourceId: id }, { policyId: policy.id });
  }

  private async connectDatabases(
    life: DatabaseLife,
    databases: WorldDatabases,
    clientId: string,
    siteId: string,
    clauses: object,
  ): Promise<void> {
    const password = randomSecret(18);
    await life.begin(databases.database, password);
    this.databasesMade.push(databases.database);
    await this.call(
      "createPolicy",
      {},
      { clientId, name: `${databases.name}, every evening`, clauses, rule: { kind: "database" } },
    );
    await this.call(
      "connect",
      { clientId },
      {
        kind: "database",
        siteId,
        name: databases.name,
        address: life.address(),
        user: databases.database,
        password,
        maintenance: databases.database,
        tls: "off",
        region: "north harbour",
      },
    );
  }

  /** A policy for the sources of a kind that a client's connection will have, every evening; and its first machine. */
  private async policyOfKind(
    world: WorldClient,
    { name, at }: { readonly name: string; readonly at: string },
    kind: "guest" | "library",
  ): Promise<LivingMachine> {
    const living = this.living.find(({ life }) => life.machine.name === world.machines[0]!.name)!;
    const depot = await this.services.db.withScope({ role: "system" }, (tx) =>
      one<{ id: string }>(tx, "select id from depots where name = $1", [world.depot]),
    );
    await this.call(
      "createPolicy",
      {},
      {
        clientId: living.machine.clientId,
        name: `${name}, every evening`,
        clauses: {
          what: { [kind]: {} },
          when: { schedules: nightly(at), targetHours: world.policy.targetHours },
          howLong: { kind: "days", days: 30 },
          where: { depotId: depot!.id },
        },
        rule: { kind },
      },
    );
    return living;
  }

  /** A library is authorised by one of the client's people at its own page, and protected from then on. */
  private async connectLibrary(world: WorldClient, library: WorldLibrary): Promise<void> {
    const [password, clientSecret] = [randomSecret(12), randomSecret(24)];
    this.library.begin(password, clientSecret, this.clock.now());
    const { machine } = await this.policyOfKind(world, library, "library");
    const { url } = await this.call<{ url: string }>(
      "authorise",
      { clientId: machine.clientId },
      {
        kind: "library",
        siteId: machine.siteId,
        name: library.name,
        address: `${this.libraryAddress}/dav/`,
        auth: "grant",
        user: LIBRARY_CLIENT,
        secret: clientSecret,
        issuer: this.libraryAddress,
        teams: "teams",
        people: "people",
        region: world.region,
      },
    );
    const form = new URL(url).searchParams;
    for (const [name, value] of Object.entries({ name: LIBRARY_PERSON, password, decision: "allow" }))
      form.set(name, value);
    const agreed = await fetch(`${this.libraryAddress}/authorise`, {
      method: "POST",
      body: form,
      redirect: "manual",
    });
    const returned = new URL(agreed.headers.get("location")!).searchParams;
    await this.call(
      "completeAuthorisation",
      { authorisationId: returned.get("state")! },
      { returned: String(returned) },
    );
    this.libraryConnected = true;
  }
  private libraryConnected = false;

  /** The desk puts back the list that somebody overwrote the day before, in the place of the wrong one. */
  private async bringBackList(): Promise<void> {
    const best = await this.services.db.withScope({ role: "system" }, (tx) =>
      one<{ id: Buffer }>(
        tx,
        `select p.id from points p join sources s on s.id = p.source_id
         where s.kind = 'library' and s.name like $1 and p.dropped_at is null and p.moment < $2
         order by p.moment desc limit 1`,
        [`${CATALOGUE} %`, new Date(this.clock.now().getTime() - DAY_MS)],
      ),
    );
    if (!best) throw new Error(`${CATALOGUE} has no recovery point`);
    await this.call(
      "restore",
      {},
      {
        items: [{ pointId: best.id.toString("hex"), path: `/${OVERWRITTEN}` }],
        destination: { kind: "original" },
        clash: "replace",
      },
    );
    while ((await this.network.start()) > 0) await this.network.settled();
    this.library.restored(this.clock.now());
  }

  private readonly hostsConnected = new Map<string, WorldHosts>();
  /** The hosts of a client are connected, and their guests protected from then on. */
  private async connectHosts(world: WorldClient, hosts: WorldHosts): Promise<void> {
    await this.guests.begin(hosts.estate, this.clock.now());
    const { machine } = await this.policyOfKind(world, hosts, "guest");
    const { connection } = await this.call<{ connection: { id: string } }>(
      "connect",
      { clientId: machine.clientId },
      {
        kind: "guest",
        siteId: machine.siteId,
        name: hosts.name,
        address: `${this.hostAddress}/${hosts.estate}`,
        token: this.guests.estate(hosts.estate).token,
        transfer: "plain",
        region: world.region,
      },
    );
    this.hostsConnected.set(connection.id, hosts);
  }

  /** A guest was cloned overnight, another one deleted: the next look at the hosts finds both. */
  private async changeGuests(): Promise<void> {
    await this.guests.clone("pendlewick", "pend-app-01", "pend-app-02");
    this.guests.remove("pendlewick", "pend-wiki-01");
    for (const connectionId of this.hostsConnected.keys()) await this.call("discover", { connectionId });
  }

  private async enrol(
    machine: WorldClient["machines"][number],
    clientId: string,
    siteId: string,
  ): Promise<LivingMachine> {
    const life = new MachineLife(machine, join(this.folder, "machines", machine.name));
    life.begin(this.clock.now());
    const state = new AgentState(join(this.folder, "agents", machine.name));
    const { code } = await this.call<{ code: string }>("createEnrolmentCode", { clientId }, { siteId });
    const pair = makeKeyPair();
    const answer = await enrolMachine(
      this.services,
      {
        code,
        name: machine.name,
        publicKey: pair.publicKey.toString("base64"),
        system: describeSystem(life.disk, state.folder),
      },
      "127.0.0.1",
    );
    const identity: Identity = {
      console: "http://127.0.0.1",
      machineId: answer.machineId,
      token: answer.token,
      name: machine.name,
      root: life.disk,
      privateKey: pair.privateKey.toString("base64"),
    };
    state.writeIdentity(identity);
    const found = await this.services.db.withScope({ role: "system" }, async (tx) => ({
      machine: (await machineById(tx, answer.machineId))!,
      source: (await one<{ id: string }>(tx, "select id from sources where machine_id = $1", [
        answer.machineId,
      ]))!,
    }));
    const living: LivingMachine = {
      life,
      machine: found.machine,
      identity,
      state,
      sourceId: found.source.id,
      online: true,
    };
    this.living.push(living);
    return living;
  }

  private async liveTheMonth(): Promise<void> {
    for (let day = 0; day <= NIGHTS; day += 1) {
      const noon = new Date(Math.min(this.start.getTime() + day * DAY_MS, this.end.getTime()));
      await this.runUntil(noon);
      if (day === NIGHTS) break;
      this.clock.set(noon);
      const weekend = DateTime.fromJSDate(noon, { zone: "utc" }).weekday > 5;
      for (const { life, online } of this.living)
        if (online) life.day(new Date(noon.getTime() - 1000 * 60 * (5 + (day % 50))), weekend);
      await this.mail.day(noon);
      for (const database of this.databasesMade) await this.databaseLife!.day(database, noon);
      for (const { estate } of this.hostsConnected.values()) await this.guests.day(estate, noon);
      if (this.libraryConnected) this.library.day(noon);
      await requestDueDrills(this.services);
      while (await this.drills.start()) await this.drills.settled();
      await noteTodaysUsage(this.services);
      await this.story(NIGHTS - day);
      if (day % 10 === 0) this.say(`Demo: day ${day + 1} of ${NIGHTS}`);
    }
  }

  /** What happens so many days before the end. */
  private async story(daysLeft: number): Promise<void> {
    const of = (name: string) => this.living.find(({ life }) => life.machine.name === name)!;
    if (daysLeft === 12) {
      await this.call("removeConnection", { connectionId: of("brack-old-01").machine.id });
      of("brack-old-01").online = false;
    }
    if (daysLeft === HOSTS_DAYS)
      for (const world of CLIENTS) {
        if (world.hosts) await this.connectHosts(world, world.hosts);
        if (world.library) await this.connectLibrary(world, world.library);
      }
    if (daysLeft === 3) await this.changeGuests();
    if (daysLeft === 3) this.library.overwrite(this.clock.now());
    if (daysLeft === 2) await this.bringBackList();
    if (daysLeft === 1) this.guests.loseTrack("ostrel");
    if (daysLeft === 9) of("pend-lt-07").online = false;
    if (daysLeft === 4) of("quill-lt-04").life.deleteFolder("Templates");
    const emptied = this.lastThursday();
    if (daysLeft === emptied) this.mail.empty(EMPTIED);
    if (daysLeft === emptied) await this.databaseLife?.spoilRents();
    if (daysLeft === emptied - 1) {
      await this.bringBackMailbox();
      await this.bringBackRents();
    }
    if (daysLeft === 1) {
      of("thorn-arch-01").life.encrypt(0.38, this.clock.now());
      const { folder } = of("voss-lt-02").state;
      for (const name of readdirSync(folder)) if (name.endsWith(".tree")) rmSync(join(folder, name));
      const world = CLIENTS.find((client) => client.name.startsWith("Pendlewick"))!;
      const { machine } = of("pend-srv-01");
      await this.enrol(
        world.machines.find((one) => one.name === "pend-lt-11")!,
        machine.clientId,
        machine.siteId,
      );
    }
  }

  /** Days before the end of the last Thursday that a whole day followed. */
  private lastThursday(): number {
    const weekday = DateTime.fromJSDate(this.end, { zone: "utc" }).weekday;
    const days = (weekday + 7 - 4) % 7;
    return days < 2 ? days + 7 : days;
  }

  /** The desk restores the mailbox that somebody emptied the day before, from the last point that had everything. */
  private async bringBackMailbox(): Promise<void> {
    const best = await this.services.db.withScope({ role: "system" }, (tx) =>
      one<{ id: Buffer }>(
        tx,
        `select p.id from points p join sources s on s.id = p.source_id where s.name = $1 and p.dropped_at is null
         order by p.files desc, p.moment desc limit 1`,
        [EMPTIED],
      ),
    );
    if (!best) throw new Error(`${EMPTIED} has no recovery point`);
    await this.call(
      "restore",
      {},
      { items: [{ pointId: best.id.toString("hex"), path: "/" }], destination: { kind: "original" } },
    );
    while ((await this.network.start()) > 0) await this.network.settled();
  }

  /** The desk puts the database back that somebody changed the day before, as it was in the evening before that. */
  private async bringBackRents(): Promise<void> {
    if (!this.databaseLife) return;
    const dayBefore = new Date(this.clock.now().getTime() - 1.5 * DAY_MS);
    const point = await this.services.db.withScope({ role: "system" }, (tx) =>
      one<{ id: Buffer }>(
        tx,
        `select p.id from points p join sources s on s.id = p.source_id
         where s.kind = 'database' and s.name like 'rents %' and p.dropped_at is null and p.moment < $1
         order by p.moment desc limit 1`,
        [dayBefore],
      ),
    );
    if (!point) throw new Error("rents has no recovery point");
    await this.call(
      "restore",
      {},
      { items: [{ pointId: point.id.toString("hex"), path: "/" }], destination: { kind: "original" } },
    );
    while ((await this.network.start()) > 0) await this.network.settled();
    const ended = await this.services.db.withScope({ role: "system" }, (tx) =>
      one<{ outcome: string; code: string | null }>(
        tx,
        "select r.outcome, r.code from runs r join sources s on s.id = r.source_id where r.kind = 'restore' and s.kind = 'database'",
      ),
    );
    if (ended?.outcome !== "clean") throw new Error(`rents was not restored: ${ended?.code}`);
    await this.databaseLife.dropReplaced();
  }

  /** Lets every schedule fire up to a moment, and the machines that are on do their runs. */
  private async runUntil(moment: Date): Promise<void> {
    for (;;) {
      const next = await this.services.db.withScope({ role: "system" }, (tx) =>
        one<{ at: Date | null; told: Date | null }>(
          tx,
          `select min(next_due_at) as at, least((select min(due_at) from notice_events where message_id is null),
             (select min(next_at) from statement_schedules)) as told from sources`,
        ),
      );
      if (next?.told && next.told <= moment && (!next.at || next.told <= next.at)) {
        this.clock.set(next.told);
        await sendDueStatements(this.services, (error) => {
          throw error;
        });
        await sendNotices(this.services);
        continue;
      }
      if (!next?.at || next.at > moment) return;
      this.clock.set(next.at);
      await endPassedBy(this.services);
      await tickSchedules(this.services);
      for (const living of this.living) if (living.online) await this.work(living);
      while ((await this.network.start()) > 0) await this.network.settled();
      await sendNotices(this.services);
    }
  }

  private async work({ machine, identity, state, sourceId }: LivingMachine): Promise<void> {
    const due = await this.services.db.withScope({ role: "system" }, (tx) =>
      one(tx, "select from runs where source_id = $1 and state = 'due'", [sourceId]),
    );
    if (!due) return;
    const link = inProcessLink(this.services, machine);
    const job = await link.work(["backup", "restore"], new AbortController().signal);
    if (job) await doJob(link, job, identity, state, true, isDatabaseAway);
  }

  /** The surveyors' own disk: what is on it fills it to 96 of a hundred. */
  private async setOstrelCapacity(depotId: string): Promise<void> {
    await this.services.db.withScope({ role: "system" }, (tx) =>
      tx.query("update depots set capacity_bytes = ceil(depot_used(id) / 0.96) where id = $1", [depotId]),
    );
  }

  private async createToken(): Promise<string> {
    const token = randomSecret();
    const now = this.clock.now();
    await this.services.db.withScope({ role: "system" }, (tx) =>
      insertToken(tx, hashSecret(token), this.owner.id, "demo", now, new Date(now.getTime() + 365 * DAY_MS)),
    );
    return token;
  }
}
