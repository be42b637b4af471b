/**
 * Where objects lie in a depot. Each client has a space of its own under a random id; nothing in a name tells whose.
 *
 *     deep-keep-depot.json            what this folder is: format, version, id
 *     spaces/SPACE/packs/AB/PACK      AB: the first two digits of the pack's id
 *     spaces/SPACE/points/POINT
 */
export const DEPOT_FILE = "deep-keep-depot.json";
export const SPACES = "spaces/";

export const packName = (spaceId: string, packId: string): string =>
  `spaces/${spaceId}/packs/${packId.slice(0, 2)}/${packId}`;
export const pointName = (spaceId: string, pointId: string): string => `spaces/${spaceId}/points/${pointId}`;
export const packsOf = (spaceId: string): string => `spaces/${spaceId}/packs/`;
export const pointsOf = (spaceId: string): string => `spaces/${spaceId}/points/`;
export const lastPart = (name: string): string => name.slice(name.lastIndexOf("/") + 1);
