import type { RestoreSeen } from "@/core/protection/own-restore";

/** What was given to a person, as the portal shows it. */
export interface GivenShown {
  readonly id: string;
  readonly sourceName: string;
  /** Of the source. */
  readonly kind: string;
  /** For the API. */
  readonly path: string;
  /** For people. */
  readonly pathName: string;
  readonly askFirst: boolean;
  readonly machine: { readonly name: string } | null;
  /** There is a way to its machine or mailbox. */
  readonly reachable: boolean;
  readonly points: number;
  readonly newest: string | null;
}
export interface OwnRestoreShown extends RestoreSeen {
  readonly id: string;
  readonly sourceName: string;
  readonly dueAt: string;
}
export interface AskShown {
  readonly id: string;
  readonly personName: string;
  readonly sourceName: string;
  readonly paths: readonly string[];
  readonly folder: string | null;
  readonly files: number;
  readonly bytes: number;
  readonly askedAt: string;
  readonly expiresAt: string;
  readonly decision: "agreed" | "declined" | null;
  readonly decidedBy: string | null;
}
export interface AllGiven {
  readonly client: { readonly name: string; readonly zone: string };
  readonly passphraseNeeded: boolean;
  readonly gifts: readonly GivenShown[];
  readonly restores: readonly OwnRestoreShown[];
  readonly asks: readonly AskShown[];
}

/** A source as its people call it: a machine's files are that machine. */
export const plainName = (sourceName: string): string => sourceName.replace(/ files$/, "");

/** A gift's name: the machine or mailbox, and the folder where it is one. */
export const giftName = (gift: GivenShown): string =>
  gift.pathName === "/"
    ? plainName(gift.sourceName)
    : (gift.pathName.split("/").at(-1) ?? plainName(gift.sourceName));
