import { setTimeout as sleep } from "node:timers/promises";
import { CodedError } from "@/core/codes";
import { findEntry, findFolder, walkTree } from "@/store/read/browse";
import type { ByteString, Entry } from "@/store/tree/tree";
import { idKey, showBytes } from "@/store/tree/tree";
import type { RestoreResult, RestoreWork } from "../network";
import type { MailClient, MailFolder, NewMessage, PresentMessage } from "./client";
import { DAV_KINDS, type DavKind } from "./dav-kinds";
import { type DavGroup, restoreDav } from "./dav-restore";
import { KEYWORDS, NAME, ROLE } from "./names";
import type { MailboxDav } from "./reader";
import { bytesOfItem, LOST_ATTEMPTS, type Planned, type Tally } from "./restoring";

/** So many messages are on their way at once. */
const AT_ONCE = 4;
const LOST_PAUSE_MS = 1000;

/** A folder by its name and what it is for; top first. */
interface Step {
  readonly name: string;
  readonly role: string | null;
  /** A calendar, an address book, or the folder above them: not a folder of the mail. */
  readonly dav: DavKind | "container" | null;
}
interface Group {
  readonly steps: readonly Step[];
  readonly messages: Planned[];
}

/**
 * Restores messages and folders of recovery points into a mailbox. What is there is kept; a message that its folder
 * already has, with the same Message-ID and content, is not put there again, so that a restore can be repeated. Flags and
 * the time of receipt are restored. A message that the server rejects is a caution, and the others go on.
 */
export async function restoreMail(
  client: MailClient,
  accountId: string,
  work: RestoreWork,
  {
    dav = async () => null,
    pauseMs = LOST_PAUSE_MS,
  }: {
    /** Calendars and address books of the target, where it has any. */
    readonly dav?: () => Promise<MailboxDav | null>;
    readonly pauseMs?: number;
  } = {},
): Promise<RestoreResult> {
  const all = await planOf(work);
  const messages = all.flatMap((group) => group.messages);
  work.expect(
    messages.length,
    messages.reduce((sum, { entry }) => sum + (entry.size ?? 0), 0),
  );
  const groups = all.filter(({ steps }) => steps.at(-1)!.dav === null);
  const result: Tally = { files: 0, folders: 0, bytes: 0, present: 0, cautions: 0 };
  await restoreCollections(all, work, result, dav, pauseMs);
  if (groups.length === 0) return result;
  const folders = await Folders.of(client, accountId, pauseMs);
  /** Ids in the target of messages that are in several folders, by their number in their point. */
  const restored = new Map<string, string>();
  for (const group of groups) {
    work.signal.throwIfAborted();
    const { id, created } = await folders.reach(group.steps);
    result.folders += created;
    if (group.messages.length === 0) continue;
    const name = group.steps.map((step) => step.name).join(" / ");
    const there = new Present(client, accountId, id, pauseMs);
    await there.look();
    await eachOf(group.messages, AT_ONCE, work.signal, async (planned) => {
      const { entry, path } = planned;
      try {
        const done = await restoreOne(client, accountId, id, there, restored, planned);
        if (done === "present") result.present += 1;
        else {
          result.files += 1;
          result.bytes += entry.size ?? 0;
        }
        work.log(
          "info",
          null,
          path,
          done === "present" ? `already in ${name}, unchanged` : `restored to ${name}`,
        );
      } catch (error) {
        if (!(error instanceof CodedError) || !OF_ONE_MESSAGE.has(error.code)) throw error;
        result.cautions += 1;
        work.log("caution", error.code, path, error.message);
      }
      work.progress.items += 1;
      work.progress.bytes += entry.size ?? 0;
    });
  }
  return result;
}

/** Restores what is in calendars and address books, where the target has a place for them. */
async function restoreCollections(
  all: readonly Group[],
  work: RestoreWork,
  tally: Tally,
  dav: () => Promise<MailboxDav | null>,
  pauseMs: number,
): Promise<void> {
  const groups = all.flatMap(({ steps, messages }): DavGroup[] => {
    const { dav: kind, name } = steps.at(-1)!;
    return kind === null || kind === "container" ? [] : [{ kind, name, items: messages }];
  });
  if (groups.length === 0) return;
  const target = await dav();
  if (target) return restoreDav(target, groups, work, tally, pauseMs);
  for (const { path, entry } of groups.flatMap(({ items }) => items)) {
    tally.cautions += 1;
    work.progress.items += 1;
    work.progress.bytes += entry.size ?? 0;
    work.log(
      "caution",
      "restore.message-rejected",
      path,
      "the connection of the target has no address for calendars and contacts",
    );
  }
}

/** Errors that concern one message: the others go on. */
const OF_ONE_MESSAGE: ReadonlySet<string> = new Set(["restore.message-rejected", "store.damaged"]);

async function restoreOne(
  client: MailClient,
  accountId: string,
  folderId: string,
  there: Present,
  restored: Map<string, string>,
  { entry, store }: Planned,
): Promise<"restored" | "present"> {
  const message: NewMessage = {
    bytes: await bytesOfItem(store, entry),
    receivedAt: `${new Date(Number(entry.mtime / 1_000_000n)).toISOString().slice(0, 19)}Z`,
    keywords: keywordsOf(entry),
  };
  const { id, done } = await there.once(message, async () => {
    const elsewhere = entry.sameFile && restored.get(entry.sameFile);
    if (!elsewhere || !client.putInto) return client.add(accountId, folderId, message);
    await client.putInto(accountId, elsewhere, folderId);
    return elsewhere;
  });
  if (entry.sameFile && id) restored.set(entry.sameFile, id);
  return done;
}

interface Added {
  readonly done: "restored" | "present";
  /** Null where the server does not tell it. */
  readonly id: string | null;
}

/** A message of the target; one that was put there a moment ago has no `blobId`, and perhaps no id. */
type There = Omit<PresentMessage, "id" | "blobId"> & {
  readonly id: string | null;
  readonly blobId: string | null;
};

/** The messages of one folder of the target. */
class Present {
  private readonly byKey = new Map<string, There[]>();
  private readonly queues = new Map<string, Promise<unknown>>();

  constructor(
    private readonly client: MailClient,
    private readonly accountId: string,
    private readonly folderId: string,
    private readonly pauseMs: number,
  ) {}

  async look(): Promise<void> {
    this.byKey.clear();
    for (const message of await this.client.present(this.accountId, this.folderId)) this.take(message);
  }

  private take(message: There): void {
    const key = keyOf(message.messageId, message.size);
    const list = this.byKey.get(key);
    if (list) list.push(message);
    else this.byKey.set(key, [message]);
  }

  /** Adds a message unless it is there; the same one is never on its way twice. */
  async once(message: NewMessage, add: () => Promise<string | null>): Promise<Added> {
    const messageId = messageIdOf(message.bytes);
    const key = keyOf(messageId, message.bytes.length);
    const work = (this.queues.get(key) ?? Promise.resolve()).then(async (): Promise<Added> => {
      const before = await this.find(key, message);
      if (before) return { done: "present", id: before.id };
      for (let attempt = 1; ; attempt += 1) {
        try {
          const id = await add();
          const { receivedAt, bytes } = message;
          this.take({ id, blobId: null, receivedAt, size: bytes.length, messageId });
          return { done: "restored", id };
        } catch (error) {
          // the call broke: whether it was carried out is seen in the folder
          const lost = error instanceof CodedError && error.code === "source.not-reached";
          if (!lost || attempt >= LOST_ATTEMPTS) throw error;
          await sleep(this.pauseMs * attempt);
          await this.look();
          const found = await this.find(key, message);
          if (found) return { done: "restored", id: found.id };
        }
      }
    });
    this.queues.set(
      key,
      work.catch(() => {}),
    );
    return work;
  }

  /** The message that is the same: by its content, or by its Message-ID, size and time. */
  private async find(key: string, message: NewMessage): Promise<There | null> {
    const alike = this.byKey.get(key) ?? [];
    const second = (text: string) => Math.floor(Date.parse(text) / 1000);
    const same = (one: There) => second(one.receivedAt) === second(message.receivedAt);
    const found = alike.find((one) => (one.messageId !== null || one.blobId === null) && same(one));
    if (found) return found;
    for (const one of alike) {
      if (one.blobId === null) continue;
      const { blobId, size } = one;
      const bytes = await this.client.content(this.accountId, { blobId, size }).catch((error) => {
        // what cannot be compared counts as another
        if (error instanceof CodedError && error.code.startsWith("file.")) return null;
        throw error;
      });
      if (bytes?.equals(message.bytes)) return one;
    }
    return null;
  }
}
const keyOf = (messageId: string | null, size: number): string => `${size} ${messageId ?? ""}`;

/** The Message-ID of a message (RFC 5322, section 3.6.4) without its brackets; null where it has none. */
export function messageIdOf(bytes: Buffer): string | null {
  const end = bytes.indexOf("\r\n\r\n");
  const head = bytes.toString("latin1", 0, end < 0 ? Math.min(bytes.length, 65_536) : end);
  const field = /(?:^|\r?\n)message-id[ \t]*:((?:[^\r\n]|\r?\n[ \t])*)/i.exec(head)?.[1];
  return field ? (/<([^<>]*)>/.exec(field.replaceAll(/[\r\n\t ]+/g, ""))?.[1] ?? null) : null;
}

const textOf = (entry: Entry, name: string): string | null => {
  const value = entry.xattrs?.find(([key]) => key === name)?.[1];
  return value ? Buffer.from(value).toString("utf8") : null;
};
const keywordsOf = (entry: Entry): string[] => textOf(entry, KEYWORDS)?.split(" ").filter(Boolean) ?? [];

/** Names by which folders of points without roles are recognised. */
const ROLES: Readonly<Record<string, string>> = {
  inbox: "inbox",
  sent: "sent",
  drafts: "drafts",
  junk: "junk",
  trash: "trash",
  archive: "archive",
};
const nameOf = (entry: Entry): string =>
  textOf(entry, NAME) ?? Buffer.from(entry.name, "latin1").toString("utf8");
const stepOf = (entry: Entry, top: boolean): Step => {
  const name = nameOf(entry);
  const role = textOf(entry, ROLE);
  const dav = isDavKind(role) ? role : role === "calendars" || role === "contacts" ? "container" : null;
  return { name, role: top && !dav ? (role ?? ROLES[name.toLowerCase()] ?? null) : null, dav };
};
const isDavKind = (role: string | null): role is DavKind => DAV_KINDS.includes(role as DavKind);

/** What goes where: the folders with their messages, each folder before what is below it. */
async function planOf({ items, folder }: RestoreWork): Promise<Group[]> {
  const groups = new Map<string, Group>();
  const groupOf = (steps: readonly Step[]): Group => {
    const key = JSON.stringify(steps.map((step) => [step.name, step.dav]));
    const found = groups.get(key) ?? { steps, messages: [] };
    groups.set(key, found);
    return found;
  };
  const target =
    folder
      ?.split("/")
      .filter(Boolean)
      .map((name): Step => ({ name, role: null, dav: null })) ?? null;
  /** A folder and one inside it may both be chosen: what is in both goes where the first puts it. */
  const planned = new Set<string>();
  const put = (root: Uint8Array, steps: readonly Step[], message: Planned): void => {
    const key = `${idKey(root)} ${message.path}`;
    if (planned.has(key)) return;
    planned.add(key);
    groupOf(steps).messages.push(message);
  };
  for (const { store, root, path } of items) {
    const above: Step[] = [];
    const names = path.split("/").filter(Boolean);
    const stepsOf = new Map<ByteString, readonly Step[]>();
    for (let depth = 1; depth < names.length; depth += 1) {
      const entry = await findEntry(store, root, `/${names.slice(0, depth).join("/")}`);
      if (entry) above.push(stepOf(entry, depth === 1 && !target));
    }
    const within = above.at(-1)?.dav ?? null;
    // an item of a calendar goes into the calendar of that name
    const base =
      target?.map((step, i) => (i === target.length - 1 ? { ...step, dav: within } : step)) ?? above;
    const entry = names.length ? await findEntry(store, root, path) : null;
    if (names.length && !entry)
      throw new CodedError("not-found", `the recovery point has no ${showBytes(path)}`);
    if (entry && entry.type !== "folder") {
      if (base.length === 0) throw new CodedError("not-found", `${showBytes(path)} is in no folder`);
      put(root, base, { path, entry, store });
      continue;
    }
    const own = entry ? [...base, stepOf(entry, base.length === 0)] : base;
    stepsOf.set(names.length ? path : "", own);
    if (own.length) groupOf(own);
    const node = (await findFolder(store, root, path))!;
    for await (const { path: at, entry: inside } of walkTree(store, node, path)) {
      const steps = stepsOf.get(at.slice(0, at.lastIndexOf("/"))) ?? own;
      if (inside.type === "folder") {
        const below = [...steps, stepOf(inside, steps.length === 0)];
        stepsOf.set(at, below);
        groupOf(below);
      } else if (inside.type === "file") put(root, steps, { path: at, entry: inside, store });
    }
  }
  return [...groups.values()];
}

/** The folders of the target; those that are missing are created. */
class Folders {
  private constructor(
    private readonly client: MailClient,
    private readonly accountId: string,
    private readonly all: MailFolder[],
    private readonly pauseMs: number,
  ) {}

  static async of(client: MailClient, accountId: string, pauseMs: number): Promise<Folders> {
    return new Folders(client, accountId, await client.folders(accountId), pauseMs);
  }

  /** Creates a folder. After a broken call it is looked for before it is created again. */
  private async create(name: string, parentId: string | null): Promise<string> {
    for (let attempt = 1; ; attempt += 1)
      try {
        return await this.client.addFolder(this.accountId, name, parentId);
      } catch (error) {
        const lost = error instanceof CodedError && error.code === "source.not-reached";
        if (!lost || attempt >= LOST_ATTEMPTS) throw error;
        await sleep(this.pauseMs * attempt);
        const there = await this.client.folders(this.accountId);
        const made = there.find((one) => one.parentId === parentId && one.name === name);
        if (made) return made.id;
      }
  }

  /** Returns the folder's id, and how many were created on the way. */
  async reach(steps: readonly Step[]): Promise<{ id: string; created: number }> {
    let parentId: string | null = null;
    let created = 0;
    for (const { role, name: wish } of steps) {
      const name = (await this.client.folderName?.(this.accountId, wish)) ?? wish;
      const inside: MailFolder[] = this.all.filter((one) => one.parentId === parentId);
      const found: MailFolder | undefined =
        (role ? inside.find((one) => one.role === role) : undefined) ??
        inside.find((one) => one.name.normalize("NFC") === name.normalize("NFC"));
      if (found) {
        parentId = found.id;
        continue;
      }
      const id: string = await this.create(name, parentId);
      this.all.push({ id, name, parentId, role: null });
      created += 1;
      parentId = id;
    }
    return { id: parentId!, created };
  }
}

/** Works through a list, some at once; the first error ends it when those under way are done. */
async function eachOf<T>(
  list: readonly T[],
  atOnce: number,
  signal: AbortSignal,
  work: (one: T) => Promise<void>,
): Promise<void> {
  let at = 0;
  let failed: unknown = null;
  const worker = async () => {
    while (at < list.length && failed === null) {
      signal.throwIfAborted();
      const one = list[at]!;
      at += 1;
      try {
        await work(one);
      } catch (error) {
        failed ??= error;
      }
    }
  };
  await Promise.all(Array.from({ length: Math.min(atOnce, list.length) }, worker));
  if (failed !== null) throw failed;
}
