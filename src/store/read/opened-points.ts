import { CodedError } from "@/core/codes";
import { lastPart, pointName, SPACES } from "../packs/layout";
import type { Place } from "../places/place";
import type { StoreKeys } from "../seal/keys";
import { openPoint, type PointContent } from "../tree/point";

export interface OpenedPoint {
  readonly id: Buffer;
  readonly size: number;
  readonly content: PointContent;
}

/** The points of one space that a key opens, the oldest first, and those that do not open although others do. */
export interface OpenedSpace {
  readonly spaceId: string;
  readonly points: readonly OpenedPoint[];
  readonly damaged: readonly { readonly id: string; readonly why: string }[];
}

/**
 * Opens the points of every space of a depot. A space is another client's when none of its points opens; where one does,
 * the others are damaged: one that was altered must not make all the rest look foreign.
 */
export async function openSpaces(
  place: Place,
  keys: StoreKeys,
): Promise<{ readonly spaces: readonly OpenedSpace[]; readonly foreign: number }> {
  const ids = new Map<string, string[]>();
  for await (const name of place.list(SPACES)) {
    const [, spaceId, shelf] = name.split("/") as [string, string, string];
    const there = ids.get(spaceId) ?? [];
    ids.set(spaceId, there);
    if (shelf === "points") there.push(lastPart(name));
  }
  const spaces: OpenedSpace[] = [];
  let foreign = 0;
  for (const [spaceId, points] of ids) {
    const opened = await openSpace(place, spaceId, points, keys);
    if (opened.points.length) spaces.push(opened);
    else foreign += points.length;
  }
  return { spaces, foreign };
}

async function openSpace(
  place: Place,
  spaceId: string,
  ids: readonly string[],
  keys: StoreKeys,
): Promise<OpenedSpace> {
  const points: OpenedPoint[] = [];
  const damaged: { id: string; why: string }[] = [];
  for (const id of ids) {
    try {
      const name = pointName(spaceId, id);
      const size = await place.size(name);
      points.push({ size, ...openPoint(keys, await place.read(name, 0, size)) });
    } catch (error) {
      if (!(error instanceof CodedError) || !UNREADABLE.has(error.code)) throw error;
      damaged.push({ id, why: error.code === "store.wrong-key" ? "its seal does not open" : error.message });
    }
  }
  points.sort((a, b) => a.content.moment - b.content.moment);
  return { spaceId, points, damaged };
}

/** What says that an object cannot be read; a depot that does not answer says nothing about it. */
const UNREADABLE = new Set(["store.wrong-key", "store.damaged", "depot.newer", "not-found"]);
