import { type Code, CodedError } from "@/core/codes";

/** One step of a test, with how long it took in milliseconds. */
export interface TestStep {
  readonly step: string;
  readonly ok: boolean;
  readonly ms: number;
  readonly message: string | null;
}

/** A test that was done step by step, up to the first that failed. */
export interface Steps {
  readonly ok: boolean;
  readonly code: Code | null;
  readonly steps: readonly TestStep[];
}

/** Does steps in turn until one fails; each returns a word on how it went, or null. `otherwise` codes other errors. */
export async function trySteps(
  wanted: readonly (readonly [step: string, work: () => Promise<string | null>])[],
  otherwise: Code = "internal.error",
): Promise<Steps> {
  const steps: TestStep[] = [];
  for (const [step, work] of wanted) {
    const started = performance.now();
    try {
      const message = await work();
      steps.push({ step, ok: true, ms: performance.now() - started, message });
    } catch (error) {
      steps.push({ step, ok: false, ms: performance.now() - started, message: (error as Error).message });
      return { ok: false, code: error instanceof CodedError ? error.code : otherwise, steps };
    }
  }
  return { ok: true, code: null, steps };
}
