import type { View } from "@/core/places";
import { depotsView } from "./depots";
import { policiesView } from "./policies";
import { restoreView } from "./restore";
import { runsView } from "./runs";
import { sourcesView } from "./sources";
import { statementsView } from "./statements";
import { trailView } from "./trail";
import type { ViewInput, ViewOutput } from "./view";
import { watchView } from "./watch";

/** What makes each view of the console. */
export const VIEW_MAKERS: Readonly<Record<View, (input: ViewInput) => Promise<ViewOutput>>> = {
  watch: watchView,
  sources: sourcesView,
  policies: policiesView,
  depots: depotsView,
  runs: runsView,
  restore: restoreView,
  statements: statementsView,
  trail: trailView,
};
