import { join } from "node:path";

/**
 * What the agent's program is begun with, as `bin/agent` does: little room, and a collector that works in the thread that
 * needs it, since the other cores are busy with blocks and files (docs/decisions/0033).
 */
export const AGENT_FLAGS: readonly string[] = [
  "--max-old-space-size=192",
  "--max-semi-space-size=8",
  "--single-threaded-gc",
];
/** Two arenas of memory: threads do not each keep what they once needed. */
export const AGENT_ENVIRONMENT = { MALLOC_ARENA_MAX: "2" } as const;

export const agentProgram = (project: string): readonly string[] => [
  ...AGENT_FLAGS,
  join(project, "dist/agent.mjs"),
];
