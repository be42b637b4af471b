import type { DepotId } from "../ids";
/**
 * What became of a depot in a run; `behind` lacks the point that the run builds on, so it is caught up first; `broken off`:
 * the run ended without a point.
 */
export type RunDepotState = "writing" | "kept" | "failed" | "behind" | "away" | "caught up" | "broken off";

/** What a run puts into one depot. */
export interface RunDepotShown {
  readonly depotId: DepotId;
  readonly depotName: string;
  readonly state: RunDepotState;
  readonly message: string | null;
  readonly packs: number;
  readonly bytes: number;
}
