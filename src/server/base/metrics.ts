import { collectDefaultMetrics, Gauge, Registry } from "prom-client";
import { STATES } from "@/core/protection/state";
import { consoleFigures } from "@/db/base/metrics";
import { stateCounts } from "@/db/sources/sources";
import type { Services } from "./services";

/** What the process itself does: memory, handles, the lag of its loop. Collected once. */
const kept = globalThis as typeof globalThis & { deepKeepProcess?: Registry };
function processRegistry(): Registry {
  if (!kept.deepKeepProcess) {
    kept.deepKeepProcess = new Registry();
    collectDefaultMetrics({ register: kept.deepKeepProcess });
  }
  return kept.deepKeepProcess;
}

/** The console's figures and the web's own, in Prometheus' text format (0.0.4). */
export async function metricsText(services: Services): Promise<{ text: string; type: string }> {
  const now = services.now();
  const { figures, counts } = await services.db.withScope({ role: "system" }, async (tx) => ({
    figures: await consoleFigures(tx, now),
    counts: await stateCounts(tx, {}, now),
  }));
  const registry = new Registry();
  const gauge = (name: string, help: string, labelNames: string[] = []) =>
    new Gauge({ name: `deepkeep_${name}`, help, labelNames, registers: [registry] });
  const sources = gauge("sources", "Sources by state.", ["state"]);
  for (const state of STATES)
    sources.set(
      { state },
      counts.reduce((sum, row) => sum + row.counts[state], 0),
    );
  gauge("runs_due", "Runs that are due and not begun.").set(figures.runsDue);
  gauge("runs_under_way", "Runs that are going on.").set(figures.runsUnderWay);
  gauge("runs_longest_wait_seconds", "Longest wait among due runs, in seconds.").set(
    figures.longestWaitSeconds,
  );
  gauge("messages_waiting", "Messages that are still to be sent.").set(figures.messagesWaiting);
  gauge("messages_given_up", "Messages that could not be delivered.").set(figures.messagesGivenUp);
  if (figures.trailUnsent !== null)
    gauge("trail_unsent_rows", "Rows of the trail that the log server has not got yet.").set(
      figures.trailUnsent,
    );
  const used = gauge("depot_used_bytes", "Space used in a depot, in bytes.", ["depot"]);
  const capacity = gauge("depot_capacity_bytes", "Capacity of a depot, where it is limited, in bytes.", [
    "depot",
  ]);
  for (const depot of figures.depots) {
    used.set({ depot: depot.name }, depot.used);
    if (depot.capacity !== null) capacity.set({ depot: depot.name }, depot.capacity);
  }
  const parts = [await registry.metrics(), await processRegistry().metrics()];
  return { text: parts.join("\n"), type: registry.contentType };
}
