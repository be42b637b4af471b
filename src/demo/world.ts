import type { ProviderRole } from "@/core/rights/rights";
import { rulesAt } from "@/core/schedule/rule";
import type { Contract } from "@/core/usage/contract";
import type { DemoDatabase } from "./databases";
import type { DemoEstate } from "./guests";

/** The demo's world: made up, every name in it. Files are described by kind; `files.ts` writes them. */
export type FileKind = "letters" | "ledger" | "photos" | "drawings" | "readings" | "recipes" | "scans";

export interface WorldMachine {
  readonly name: string;
  readonly site: string;
  readonly system: string;
  readonly home: string;
  readonly kinds: readonly FileKind[];
  /** How many files of each kind at first. */
  readonly size: number;
}

/** A client's database server. */
export interface WorldDatabases {
  readonly name: string;
  readonly database: DemoDatabase;
  /** When it is backed up, every evening. */
  readonly at: string;
}

/** The management of a client's hypervisor hosts. */
export interface WorldHosts {
  readonly name: string;
  readonly estate: DemoEstate;
  /** When its guests are backed up, every evening. */
  readonly at: string;
}

/** A client's file library. */
export interface WorldLibrary {
  readonly name: string;
  /** When it is backed up, every evening. */
  readonly at: string;
}

/** A client's mail tenant. */
export interface WorldMail {
  readonly name: string;
  readonly domain: string;
  readonly tenantId: string;
  readonly clientId: string;
  readonly mailboxes: readonly string[];
  /** When the client secret runs out, in days from the end of the story. */
  readonly secretEndsInDays: number;
  readonly at: string;
}

export interface WorldClient {
  readonly name: string;
  readonly zone: string;
  readonly region: string;
  readonly contact: readonly [name: string, email: string];
  readonly sites: readonly string[];
  readonly depot: "Harbour" | "Quay" | "Ostrel office" | "South bucket";
  readonly quotaMiB: number;
  /** Where points are carried afterwards. */
  readonly carryTo?: "Quay" | "South bucket";
  /** Written by the same run. */
  readonly beside?: "Quay" | "South bucket";
  /** Days in which what is stored cannot be dropped. */
  readonly lockDays?: number;
  readonly policy: {
    readonly name: string;
    readonly schedules: readonly object[];
    readonly targetHours: number;
    /** More of the clause When. */
    readonly when?: object;
    /** More clauses. */
    readonly more?: object;
    /** Left to the client's or the provider's rules where it is not given. */
    readonly howLong?: object;
    readonly exclude?: readonly string[];
  };
  /** How many sources of each kind the client has bought. */
  readonly contract: Contract;
  /** The client's own colour; with it, a made-up logo. */
  readonly colour?: string;
  /** What may run at once over its links, and how fast. */
  readonly limits?: object;
  readonly machines: readonly WorldMachine[];
  readonly mail?: WorldMail;
  readonly databases?: WorldDatabases;
  readonly hosts?: WorldHosts;
  readonly library?: WorldLibrary;
  /** People who get back by themselves what is on their machine; the contact has the first machine. */
  readonly people?: readonly WorldPerson[];
  /** When its contact gets the statement by itself. */
  readonly statements?: { readonly every: "week" | "month"; readonly onDay: number };
  /** What the desk wrote to an exception of the statement: it begins with its outcome. */
  readonly word?: { readonly about: string; readonly text: string };
}

export interface WorldPerson {
  readonly name: string;
  readonly email: string;
  readonly machine: string;
  /** The contact is asked first. */
  readonly askFirst?: boolean;
}

const DEBIAN = "Debian GNU/Linux 12 (bookworm)";
const machine = (
  name: string,
  site: string,
  home: string,
  kinds: readonly FileKind[],
  size: number,
): WorldMachine => ({ name, site, system: DEBIAN, home, kinds, size });
export const nightly = (at: string) => [{ rule: rulesAt(at) }];

/** The provider's own rules: what holds where nobody says otherwise. */
export const PROVIDER_RULES = { howLong: { kind: "days", days: 365 } };

/** The desk hears once a day of what went wrong, and its ticket system of the same. */
export const PROVIDER_NOTICES = {
  on: ["failed", "missed", "caution"],
  mail: ["desk@lanternfold.example"],
  digestAt: "07:15",
};

export const PROVIDER = { name: "Lanternfold", zone: "Europe/London" };

export const STAFF: readonly {
  readonly name: string;
  readonly email: string;
  readonly role: ProviderRole;
  /** The clients that they are limited to, by name. */
  readonly clients?: readonly string[];
}[] = [
  { name: "Ines Marlow", email: "ines@lanternfold.example", role: "owner" },
  { name: "Tobias Renn", email: "tobias@lanternfold.example", role: "technician" },
  {
    name: "Bryn Ashdown",
    email: "bryn@lanternfold.example",
    role: "technician",
    clients: ["Saltrow Ferries", "Kestrin Aquaculture"],
  },
  { name: "Sela Wynn", email: "sela@lanternfold.example", role: "reader" },
];

export const CLIENTS: readonly WorldClient[] = [
  {
    name: "Quillmere Veterinary Group",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Maren Pell", "maren.pell@quillmere.example"],
    sites: ["North clinic", "South clinic", "Harbour clinic"],
    depot: "Harbour",
    beside: "Quay",
    quotaMiB: 2048,
    contract: { files: 3 },
    policy: {
      name: "Clinics, every evening",
      schedules: nightly("21:30"),
      targetHours: 26,
      howLong: { kind: "days", days: 90 },
      exclude: ["*.tmp"],
    },
    machines: [
      machine("quill-srv-01", "North clinic", "/srv/practice", ["ledger", "scans", "letters"], 30),
      machine("quill-lt-04", "North clinic", "/home/reception", ["letters", "photos"], 34),
      machine("quill-lt-07", "South clinic", "/home/surgery", ["letters", "scans"], 22),
    ],
    statements: { every: "week", onDay: 1 },
    people: [{ name: "Isla Brandt", email: "isla.brandt@quillmere.example", machine: "quill-lt-04" }],
  },
  {
    name: "Saltrow Ferries",
    zone: "Atlantic/Azores",
    region: "islands",
    contact: ["Odran Fisk", "odran.fisk@saltrow.example"],
    sites: ["Saltrow Star", "Saltrow Tern"],
    depot: "Quay",
    quotaMiB: 256,
    // a satellite link that the bridge needs by day
    limits: {
      atOnce: 1,
      bandwidth: [
        { hours: { days: [], from: "06:00", to: "22:00" }, kibPerSecond: 64 },
        { hours: null, kibPerSecond: 512 },
      ],
    },
    contract: { files: 4 },
    policy: {
      name: "Ships, thin links",
      schedules: nightly("03:15"),
      targetHours: 30,
      when: { windows: [{ days: [], from: "22:00", to: "06:00" }], missed: "next", spreadMinutes: 30 },
      more: { conduct: { compression: "strong", retries: 1, retryMinutes: 20 } },
      howLong: { kind: "last", count: 60 },
      exclude: ["*.mp4", "*.iso"],
    },
    machines: [
      machine("salt-ship-01", "Saltrow Star", "/home/bridge", ["ledger", "readings"], 16),
      machine("salt-ship-02", "Saltrow Tern", "/home/bridge", ["ledger", "readings"], 14),
    ],
  },
  {
    name: "Thornquay Maritime Museum",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Ailsa Brandreth", "ailsa@thornquay.example"],
    sites: ["Museum quay"],
    depot: "Harbour",
    quotaMiB: 1024,
    contract: { files: 2, library: 4 },
    library: { name: "Museum library", at: "20:15" },
    policy: {
      name: "Archive, nightly",
      schedules: [...nightly("02:14"), { rule: "FREQ=MONTHLY;BYDAY=1SA;BYHOUR=2;BYMINUTE=14", pass: "full" }],
      targetHours: 26,
      howLong: { kind: "tiers", tiers: { daily: 14, weekly: 8, monthly: 24, quarterly: 0, yearly: 20 } },
    },
    machines: [
      machine("thorn-arch-01", "Museum quay", "/srv/archive", ["letters", "readings", "ledger"], 60),
    ],
  },
  {
    name: "Vossel & Daughters Bakery",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Hanne Vossel", "hanne@vossel.example"],
    sites: ["Bakehouse"],
    statements: { every: "month", onDay: 1 },
    word: {
      about: "failed",
      text: "The mail system's secret ran out. The new one is asked for; the mailboxes follow at once when it is there.",
    },
    depot: "Harbour",
    quotaMiB: 512,
    contract: { files: 3, mail: 4 },
    colour: "#7a3b2e",
    policy: {
      name: "Laptops after closing",
      schedules: nightly("19:00"),
      targetHours: 26,
      howLong: { kind: "days", days: 60 },
    },
    machines: [
      machine("voss-lt-01", "Bakehouse", "/home/hanne", ["recipes", "ledger"], 20),
      machine("voss-lt-02", "Bakehouse", "/home/greta", ["recipes", "photos"], 14),
      machine("voss-lt-03", "Bakehouse", "/home/till", ["ledger"], 18),
      machine("voss-lt-04", "Bakehouse", "/home/orders", ["letters"], 16),
    ],
    people: [
      { name: "Greta Vossel", email: "greta@vossel.example", machine: "voss-lt-02" },
      { name: "Emmet Till", email: "till@vossel.example", machine: "voss-lt-03", askFirst: true },
    ],
    mail: {
      name: "Bakery mail",
      domain: "vossel.example",
      tenantId: "vossel-bakery",
      clientId: "deep-keep",
      mailboxes: ["hanne", "greta", "till", "orders"],
      secretEndsInDays: -3,
      at: "19:30",
    },
  },
  {
    name: "Ostrel Land Surveyors",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Piers Ostrel", "piers@ostrel.example"],
    sites: ["Drawing office"],
    depot: "Ostrel office",
    carryTo: "Quay",
    quotaMiB: 1024,
    contract: { files: 5, guest: 1 },
    policy: {
      name: "Drawings, near first",
      schedules: [{ rule: "FREQ=HOURLY;INTERVAL=12" }],
      targetHours: 24,
      howLong: { kind: "days", days: 120 },
    },
    hosts: { name: "Survey host", estate: "ostrel", at: "22:10" },
    machines: [machine("ostr-ws-01", "Drawing office", "/srv/drawings", ["drawings", "letters"], 18)],
  },
  {
    name: "Brackenfold Dental",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Leonie Brack", "leonie@brackenfold.example"],
    sites: ["High street surgery", "Mill surgery"],
    depot: "Harbour",
    quotaMiB: 1024,
    lockDays: 30,
    contract: { files: 2 },
    policy: {
      name: "Dental, seven years",
      schedules: nightly("22:00"),
      targetHours: 26,
      howLong: { kind: "days", days: 2557 },
    },
    machines: [
      machine("brack-srv-01", "High street surgery", "/srv/practice", ["scans", "ledger"], 26),
      machine("brack-old-01", "Mill surgery", "/srv/practice", ["scans"], 20),
    ],
  },
  {
    name: "Pendlewick Housing Trust",
    zone: "Europe/London",
    region: "north harbour",
    contact: ["Corin Ashby", "corin.ashby@pendlewick.example"],
    sites: ["Trust house"],
    word: {
      about: "missed",
      text: "pend-lt-07 is with its maker for a new hinge. Its files of the last evening can be got back at any time.",
    },
    depot: "Quay",
    quotaMiB: 1024,
    contract: { files: 2, mail: 6, database: 1, guest: 3 },
    policy: {
      name: "Trust, every evening",
      schedules: nightly("20:45"),
      targetHours: 26,
      howLong: { kind: "days", days: 45 },
      exclude: ["*.tmp", "cache"],
    },
    databases: { name: "Rent database", database: "rents", at: "21:20" },
    hosts: { name: "Trust cluster", estate: "pendlewick", at: "21:40" },
    machines: [
      machine("pend-srv-01", "Trust house", "/srv/tenancies", ["letters", "ledger", "scans"], 32),
      machine("pend-lt-07", "Trust house", "/home/visits", ["letters", "photos"], 18),
      machine("pend-lt-11", "Trust house", "/home/newcomer", ["letters"], 12),
    ],
    mail: {
      name: "Trust mail",
      domain: "pendlewick.example",
      tenantId: "pendlewick-trust",
      clientId: "deep-keep",
      mailboxes: ["corin.ashby", "lettings", "repairs", "accounts", "reception"],
      secretEndsInDays: 240,
      at: "21:10",
    },
  },
  {
    name: "Kestrin Aquaculture",
    zone: "Pacific/Auckland",
    region: "south sea",
    contact: ["Rewi Tamahana", "rewi@kestrin.example"],
    sites: ["Hatchery"],
    depot: "South bucket",
    quotaMiB: 512,
    contract: { files: 3, database: 1 },
    policy: {
      name: "Hatchery, nightly",
      schedules: nightly("23:30"),
      targetHours: 26,
    },
    databases: { name: "Sensor database", database: "sensor_readings", at: "20:15" },
    machines: [machine("kest-srv-01", "Hatchery", "/srv/sensors", ["readings", "ledger"], 30)],
  },
];
