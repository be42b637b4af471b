import { Mark } from "./mark";

/** A test as the server reports it: its steps in turn, up to the first that failed. */
export interface StepsShown {
  readonly ok: boolean;
  readonly steps: readonly {
    readonly step: string;
    readonly ok: boolean;
    readonly ms: number;
    readonly message: string | null;
  }[];
}

/** The steps of a test with their times; the step that failed says why. */
export function TestSteps({ test }: { test: StepsShown }) {
  return (
    <ol>
      {test.steps.map((step) => (
        <li key={step.step} className="border-line flex items-baseline gap-2 border-b py-[4px]">
          <Mark state={step.ok ? "clean" : "failed"} label={step.ok ? "done" : "failed"} />
          <span className="flex-1">
            {step.step}
            {step.message && <span className="text-soft"> · {step.message}</span>}
          </span>
          <span className="text-soft text-[13px]">
            {step.ms < 10 ? step.ms.toFixed(1) : Math.round(step.ms)} ms
          </span>
        </li>
      ))}
    </ol>
  );
}
