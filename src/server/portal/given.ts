import type { PersonId } from "@/core/ids";
import { within } from "@/core/rights/within";
import type { Tx } from "@/db/base/scope";
import { type Point, pointById } from "@/db/points/points";
import { giftOfPerson, type ListedGift } from "@/db/portal/gifts";
import { type ByteString, showBytes } from "@/store/tree/tree";
import { notFound } from "../base/problem";
import { pathFromText, pathToText } from "../inside/path-text";

/** What a technician gave to one of a client's people, and what lies within it. Everything else is not there for them. */

export interface GivenItem {
  readonly giftId: string;
  readonly pointId: string;
  readonly path: string;
}
export interface FoundItem {
  readonly gift: ListedGift;
  readonly point: Point;
  readonly path: ByteString;
}

export async function giftThere(tx: Tx, personId: PersonId, giftId: string, now: Date): Promise<ListedGift> {
  const gift = await giftOfPerson(tx, personId, giftId, now);
  if (!gift) throw notFound();
  return gift;
}

/** A point of a gift's source, and a path within what was given. Throws not-found for anything else. */
export async function foundWithin(
  tx: Tx,
  gift: ListedGift,
  pointId: string,
  text: string,
  field?: string,
): Promise<FoundItem> {
  const path = pathFromText(text, field);
  if (!within(gift.path, path)) throw notFound();
  const point = await pointById(tx, Buffer.from(pointId, "hex"));
  if (!point || point.sourceId !== gift.sourceId) throw notFound();
  return { gift, point, path };
}

export async function foundItems(
  tx: Tx,
  personId: PersonId,
  items: readonly GivenItem[],
  now: Date,
): Promise<FoundItem[]> {
  const gifts = new Map<string, ListedGift>();
  const found: FoundItem[] = [];
  for (const [i, item] of items.entries()) {
    const gift = gifts.get(item.giftId) ?? (await giftThere(tx, personId, item.giftId, now));
    gifts.set(gift.id, gift);
    found.push(await foundWithin(tx, gift, item.pointId, item.path, `items.${i}.path`));
  }
  return found;
}

/** A gift as people and programs read it. */
export const shownGift = ({ path, ...gift }: ListedGift) => ({
  ...gift,
  path: pathToText(path),
  pathName: showBytes(path),
});
