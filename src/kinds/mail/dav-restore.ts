import { createHash } from "node:crypto";
import { setTimeout as sleep } from "node:timers/promises";
import ICAL from "ical.js";
import { CodedError } from "@/core/codes";
import type { RestoreWork } from "../network";
import type { DavClient, DavCollection } from "./dav";
import { davHead } from "./dav-entry";
import type { DavKind } from "./dav-kinds";
import type { MailboxDav } from "./reader";
import { bytesOfItem, LOST_ATTEMPTS, type Planned, type Tally } from "./restoring";

/** Items of one calendar or address book that is to be restored. */
export interface DavGroup {
  readonly kind: DavKind;
  readonly name: string;
  readonly items: readonly Planned[];
}

/**
 * Restores calendar entries and contacts. A calendar or address book is found by its name and created where it is missing;
 * an item whose UID is there already is kept as it is. Nobody is invited anew: see `withoutScheduling`.
 */
export async function restoreDav(
  { client, mailbox }: MailboxDav,
  groups: readonly DavGroup[],
  work: RestoreWork,
  tally: Tally,
  pauseMs: number,
): Promise<void> {
  const collections = await client.collections(mailbox);
  for (const group of groups) {
    work.signal.throwIfAborted();
    const same = (one: DavCollection) =>
      one.kind === group.kind && one.name.normalize("NFC") === group.name.normalize("NFC");
    let collection = collections.find(same);
    if (!collection) {
      collection = await client.create(mailbox, group.kind, group.name);
      collections.push(collection);
      tally.folders += 1;
    }
    const there = await client.uids(mailbox, collection);
    for (const { store, entry, path } of group.items) {
      work.signal.throwIfAborted();
      try {
        const bytes = await bytesOfItem(store, entry);
        const { uid } = davHead(bytes, group.kind);
        const present = uid !== null && there.has(uid);
        if (present) tally.present += 1;
        else {
          await add(client, mailbox, collection, nameOf(entry.name, uid), bytes, pauseMs);
          if (uid !== null) there.add(uid);
          tally.files += 1;
          tally.bytes += entry.size ?? 0;
        }
        work.log(
          "info",
          null,
          path,
          present ? `already in ${group.name}, kept` : `restored to ${group.name}`,
        );
      } catch (error) {
        if (!(error instanceof CodedError) || !OF_ONE_ITEM.has(error.code)) throw error;
        tally.cautions += 1;
        work.log("caution", error.code, path, error.message);
      }
      work.progress.items += 1;
      work.progress.bytes += entry.size ?? 0;
    }
  }
}
const OF_ONE_ITEM: ReadonlySet<string> = new Set(["restore.message-rejected", "store.damaged"]);

interface Names {
  readonly file: string;
  /** Where the collection has another item of that name. */
  readonly instead: string;
}
const nameOf = (name: string, uid: string | null): Names => {
  const file = Buffer.from(name, "latin1").toString("utf8");
  const extension = file.slice(file.lastIndexOf("."));
  const digest = createHash("sha256")
    .update(uid ?? file)
    .digest("hex");
  return { file, instead: `${digest.slice(0, 32)}${extension}` };
};

async function add(
  client: DavClient,
  mailbox: string,
  collection: DavCollection,
  { file, instead }: Names,
  bytes: Buffer,
  pauseMs: number,
): Promise<void> {
  const { uid } = davHead(bytes, collection.kind);
  const sent = collection.kind === "calendar" ? withoutScheduling(bytes) : Buffer.from(bytes);
  for (const name of [file, instead]) {
    for (let attempt = 1; ; attempt += 1)
      try {
        if ((await client.add(mailbox, collection, name, sent)) === "added") return;
        // after a lost answer it may be ours
        if (attempt > 1 && uid !== null && (await client.uids(mailbox, collection)).has(uid)) return;
        break;
      } catch (error) {
        const lost = error instanceof CodedError && error.code === "source.not-reached";
        if (!lost || attempt >= LOST_ATTEMPTS) throw error;
        await sleep(pauseMs * attempt);
      }
  }
  throw new CodedError(
    "restore.message-rejected",
    `${collection.name} has other items named ${file} and ${instead}`,
  );
}

/**
 * A calendar entry that a server which sends invitations itself (RFC 6638) does not send any for: its organiser and
 * attendees get `SCHEDULE-AGENT=CLIENT`. An entry that names nobody stays byte for byte as it was.
 */
export function withoutScheduling(bytes: Buffer): Buffer<ArrayBuffer> {
  const text = bytes.toString("utf8");
  if (!/^(?:ATTENDEE|ORGANIZER)[;:]/im.test(text)) return Buffer.from(bytes);
  let calendar: ICAL.Component;
  try {
    calendar = new ICAL.Component(ICAL.parse(text) as unknown[]);
  } catch {
    // no calendar entry: the server will say so
    return Buffer.from(bytes);
  }
  for (const part of calendar.getAllSubcomponents())
    for (const name of ["organizer", "attendee"])
      for (const property of part.getAllProperties(name)) property.setParameter("schedule-agent", "CLIENT");
  return Buffer.from(`${calendar.toString()}\r\n`, "utf8");
}
