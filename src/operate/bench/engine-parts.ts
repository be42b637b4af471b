/** Parts that measure the engine: `bench/engine.ts` runs them. */
export const ENGINE_PARTS = ["files", "restore", "versions", "disk"] as const;
