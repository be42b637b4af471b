import { type ProtectionState, STATES } from "../protection/state";
import { counted } from "../units/duration";

/** How high a day stands in the drawing of states, of 1: worse is higher, so that the drawing tells without its colours. */
export const STATE_HEIGHT: Readonly<Record<ProtectionState, number>> = {
  kept: 0.3,
  slipping: 0.62,
  exposed: 1,
  "never kept": 1,
  paused: 0.12,
};

/** The days in each state, as a sentence: `26 days kept, 2 slipping`. */
export function statesSentence(states: readonly (ProtectionState | null)[]): string {
  const counts = (["kept", ...STATES.filter((state) => state !== "kept")] as const)
    .map((state) => [states.filter((one) => one === state).length, state] as const)
    .filter(([count]) => count > 0);
  if (counts.length === 0) return "not protected yet";
  return counts.map(([count, state], i) => `${i === 0 ? counted(count, "day") : count} ${state}`).join(", ");
}
