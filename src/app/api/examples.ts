import type { ClientId, DepotId, PersonId, PolicyId, SiteId, SourceId } from "@/core/ids";
import { exceptionKey } from "@/core/statement/statement";

/** What an example names: things of the made-up world, or of a test. */
export interface ExampleIds {
  readonly clientId: ClientId;
  readonly siteId: SiteId;
  readonly sourceId: SourceId;
  readonly policyId: PolicyId;
  readonly depotId: DepotId;
  readonly personId: PersonId;
  readonly giftId: string;
  readonly pointId: string;
  readonly folder: string;
  readonly mailServer: string;
}

const PASSWORD = "eleven boats on a grey harbour";
const example = (last: string) => `00000000-0000-4000-8000-${last.padStart(12, "0")}`;
const IDS: ExampleIds = {
  clientId: example("c1"),
  siteId: example("51"),
  sourceId: example("5a"),
  policyId: example("90"),
  depotId: example("de"),
  personId: example("9e"),
  giftId: example("91"),
  pointId: "0123456789abcdef0123456789abcdef",
  folder: "/srv/depots/harbour",
  mailServer: "https://mail.orrin.example",
};

/** A body for each operation that takes one, which passes its schema. The document shows them; the tests send them. */
export function exampleBodies(ids: ExampleIds = IDS): Readonly<Record<string, unknown>> {
  const items = [{ pointId: ids.pointId, path: "/data" }];
  const givenItems = [{ giftId: ids.giftId, pointId: ids.pointId, path: "/data" }];
  const clauses = {
    what: { files: { folders: ["/data"] } },
    when: { schedules: [], targetHours: 24 },
    howLong: { kind: "for-ever" },
    where: { depotId: ids.depotId },
  };
  return {
    signIn: { email: "bram@lanternfold.example", password: PASSWORD, code: "492039" },
    createOwner: {
      provider: "Lanternfold",
      zone: "Europe/Lisbon",
      name: "Maren Dahl",
      email: "maren@lanternfold.example",
      password: PASSWORD,
    },
    acceptInvitation: { password: PASSWORD },
    changePassword: { password: PASSWORD, newPassword: "seven herons over a low tide", endTokens: true },
    beginFactor: { password: PASSWORD },
    confirmFactor: { code: "492039" },
    createRecoveryCodes: { password: PASSWORD, code: "492039" },
    removeFactor: { password: PASSWORD, code: "492039" },
    createToken: { name: "Ticket system", reach: "read", days: 90 },
    changePerson: { role: "technician", clientIds: [] },
    changeClient: { contactName: "Ada Orrin" },
    createClientKey: { passphrase: null },
    backUpNow: { pass: "incremental" },
    addClient: {
      name: "Orrin Glassworks",
      zone: "Europe/Lisbon",
      region: "north harbour",
      contactName: "Ada Orrin",
      contactEmail: "ada@orrin.example",
      sites: ["Kiln lane"],
    },
    inviteClientPerson: { name: "Ada Orrin", email: "ada@orrin.example", role: "person" },
    inviteProviderPerson: { name: "Bram Sole", email: "bram@lanternfold.example", role: "technician" },
    requireFactor: { roles: [] },
    give: { personId: ids.personId, sourceId: ids.sourceId, path: "/" },
    measureGiven: { items: givenItems },
    restoreGiven: { items: givenItems },
    prepareGivenDownload: { items: givenItems, format: "zip" },
    decideAsk: { decision: "agreed" },
    addSite: { name: "Lower quay" },
    createEnrolmentCode: { siteId: ids.siteId },
    holdClientKey: { newPassphrase: PASSWORD },
    unlockClientKey: { passphrase: PASSWORD },
    requestSourceDeletion: { reason: "The machine was scrapped." },
    requestKeyDestruction: { reason: "The contract has ended." },
    decideConsent: { decision: "declined" },
    changeDepot: { direct: null },
    confirmClientKey: { group: "00000" },
    testPlace: { path: ids.folder },
    addDepot: { name: "Harbour disk", path: ids.folder, region: "north harbour" },
    grantDepot: { quotaBytes: 500_000_000_000 },
    changeDepotKeys: { accessKeyId: "a key", secretAccessKey: "a secret" },
    createPolicy: { clientId: ids.clientId, name: "Laptops", clauses },
    changePolicy: { name: "Laptops", clauses, revision: 1 },
    setAside: { key: "machine.silent", until: "2030-01-01T00:00:00Z", note: "the machine is being repaired" },
    resumeCause: { key: "machine.silent" },
    writeHandover: { text: "No open causes. The tape of Lower quay comes back on Thursday." },
    setRules: { clauses: {} },
    previewRules: { policyId: ids.policyId, clauses: {} },
    restorePolicyVersion: {},
    importPolicy: { format: "deep-keep-policy", version: 1, name: "Laptops", clauses: {} },
    consequences: { clientId: ids.clientId, clauses },
    dismissAdvice: { reason: "The contract covers one depot." },
    setContract: { files: 12, mail: 30, database: 2 },
    setLook: { colour: "#2f5d62" },
    setClientLimits: { atOnce: 1, bandwidth: [] },
    setSiteLimits: { atOnce: 1, bandwidth: [] },
    setMailServer: {
      host: "mail.example",
      port: 25,
      security: "none",
      sender: "console@lanternfold.example",
    },
    testMessage: { mail: "bram@lanternfold.example" },
    testSelection: { files: clauses.what.files },
    moveSchedules: { moves: [{ policyId: ids.policyId, minutes: 15 }] },
    createWebhook: { name: "Tickets", url: "https://tickets.example/hook" },
    changeSource: { paused: true },
    connect: {
      kind: "mail",
      siteId: ids.siteId,
      name: "Orrin mail",
      address: ids.mailServer,
      tenantId: "orrin",
      clientId: "deep-keep",
      clientSecret: "a secret of the application",
      region: "north harbour",
    },
    authorise: {
      kind: "library",
      siteId: ids.siteId,
      name: "Orrin files",
      address: `${ids.mailServer}/dav/`,
      auth: "grant",
      user: "deep-keep",
      issuer: ids.mailServer,
      teams: "teams",
      region: "north harbour",
    },
    completeAuthorisation: { returned: "state=6f3c1a52-0000-4000-8000-000000000000&code=4f1c" },
    renewSecret: { clientSecret: "a new secret of the application" },
    planAbsence: {
      from: "2030-01-01T00:00:00Z",
      to: "2030-01-02T00:00:00Z",
      note: "the disk is stored off site",
    },
    requestCheck: { depth: "objects" },
    addStatementNote: {
      about: exceptionKey("missed", "No answer"),
      day: "2026-01-01",
      text: "The machine was repaired on this day.",
    },
    sendStatement: { recipients: ["ada@orrin.example"] },
    setStatementSending: { every: "month", onDay: 1, at: "07:30", recipients: ["ada@orrin.example"] },
    createStatementLink: {},
    openViewing: { people: [ids.personId], hours: 1 },
    placeHold: { reason: "Legal hold until the hearing." },
    measureBasket: { items },
    restore: { items, destination: { kind: "original" } },
    prepareDownload: { items, format: "zip" },
  };
}
