/** What is known of sources, depots and a client when it is asked what would follow. Bytes, minutes, bytes a second. */

export interface SourceFacts {
  readonly id: string;
  readonly name: string;
  readonly bytes: number;
  readonly points: number;
  readonly oldest: Date | null;
  /** What its points take up in their first depot. */
  readonly storedBytes: number;
  /** What a run adds, and its standard deviation; null before the second run. */
  readonly addedMean: number | null;
  readonly addedSpread: number | null;
  readonly addedWeekend: number | null;
  readonly addedMonday: number | null;
  /** Content that it has more each day. */
  readonly grownPerDay: number | null;
  readonly usualMinutes: number | null;
  readonly longMinutes: number | null;
  /** How fast its content was read and stored when all of it was; null where that is not known. */
  readonly readRate: number | null;
  /** Where its agent works; null where there is none, or it did not say. */
  readonly workFolder: {
    readonly fileSystem: string;
    readonly onSystemVolume: boolean;
    readonly free: number;
  } | null;
}

export interface DepotFacts {
  readonly id: string;
  readonly name: string;
  readonly region: string;
  /** What stands or falls together with it: the disk of a folder, the address of a bucket. */
  readonly house: string;
  readonly onSystemVolume: boolean;
  /** The client's share and what it uses of it; null for the provider's own rules. */
  readonly quotaBytes: number | null;
  readonly usedBytes: number;
}

export interface ClientFacts {
  readonly zone: string;
  readonly region: string;
  readonly keyConfirmed: boolean;
}

/** Bytes as things go, and where eight of ten outcomes would lie. */
export interface Band {
  readonly low: number;
  readonly mid: number;
  readonly high: number;
}
export interface SpaceAt extends Band {
  readonly days: number;
}
