"use client";

import { type ComponentProps, type ReactNode, useId, useState } from "react";
import { ApiError, type ApiProblem } from "./api";

/** One labelled field. What is wrong stands below it; a `?` opens two sentences of help. */
export function Field({
  label,
  error,
  help,
  children,
}: {
  label: string;
  error?: string | undefined;
  help?: string;
  /** `described`: what says what is wrong, for `aria-describedby`. */
  children: (id: string, invalid: boolean, described: string | undefined) => ReactNode;
}) {
  const id = useId();
  const [open, setOpen] = useState(false);
  return (
    <div>
      <div className="flex items-baseline gap-2">
        <label className="field-label" htmlFor={id}>
          {label}
        </label>
        {help && (
          <button
            type="button"
            className="text-soft text-xs underline"
            aria-expanded={open}
            aria-label={`Help: ${label}`}
            onClick={() => setOpen(!open)}
          >
            ?
          </button>
        )}
      </div>
      {open && <p className="text-soft mb-1 text-[13px]">{help}</p>}
      {children(id, Boolean(error), error ? `${id}-error` : undefined)}
      {error && (
        <p className="field-error" role="alert" id={`${id}-error`}>
          {error}
        </p>
      )}
    </div>
  );
}

/** Fields that belong together, such as boxes to tick; what is wrong with them stands below. */
export function FieldGroup({
  legend,
  error,
  className,
  children,
}: {
  legend?: string;
  error?: string | undefined;
  className?: string;
  children: ReactNode;
}) {
  const id = useId();
  return (
    <fieldset className={className} aria-describedby={error ? id : undefined}>
      {legend && <legend className="field-label">{legend}</legend>}
      {children}
      {error && (
        <p className="field-error" role="alert" id={id}>
          {error}
        </p>
      )}
    </fieldset>
  );
}

interface Labelled {
  readonly label: string;
  readonly error?: string | undefined;
  readonly help?: string;
}

/** A labelled line of text; with `rows` a box of lines. */
export function TextField({
  label,
  error,
  help,
  mono = false,
  rows,
  ...rest
}: Labelled & { readonly mono?: boolean; readonly rows?: number } & ComponentProps<"input"> &
  ComponentProps<"textarea">) {
  const font = mono ? " font-mono" : "";
  return (
    <Field label={label} error={error} {...(help ? { help } : {})}>
      {(id, invalid, described) =>
        rows ? (
          <textarea
            id={id}
            className={`textarea w-full${font}`}
            rows={rows}
            aria-invalid={invalid}
            aria-describedby={described}
            {...rest}
          />
        ) : (
          <input
            id={id}
            className={`input w-full${font}`}
            aria-invalid={invalid}
            aria-describedby={described}
            {...rest}
          />
        )
      }
    </Field>
  );
}

/** A labelled choice. */
export function SelectField({ label, error, help, children, ...rest }: Labelled & ComponentProps<"select">) {
  return (
    <Field label={label} error={error} {...(help ? { help } : {})}>
      {(id, invalid, described) => (
        <select
          id={id}
          className="select w-full"
          aria-invalid={invalid}
          aria-describedby={described}
          {...rest}
        >
          {children}
        </select>
      )}
    </Field>
  );
}

export interface Sending {
  readonly busy: boolean;
  readonly problem: ApiProblem | null;
  /** What is wrong with a field, by its dotted path or the beginning of one. */
  errorOf(field: string): string | undefined;
  /** Runs a call; what was typed stays when it is refused. Returns whether it was done. */
  send(work: () => Promise<void>): Promise<boolean>;
  clear(): void;
}

/** The state of a form that is being sent. */
export function useSending(): Sending {
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<ApiProblem | null>(null);
  return {
    busy,
    problem,
    errorOf: (field) =>
      problem?.errors.find((error) => error.field === field || error.field.startsWith(`${field}.`))?.message,
    send: async (work) => {
      setBusy(true);
      try {
        await work();
        setProblem(null);
        return true;
      } catch (error) {
        if (!(error instanceof ApiError)) throw error;
        setProblem(error.problem);
        return false;
      } finally {
        setBusy(false);
      }
    },
    clear: () => setProblem(null),
  };
}

/** What was refused as a whole: fields say theirs themselves. */
export function Refusal({ problem }: { problem: ApiProblem | null }) {
  if (!problem) return null;
  return (
    <div className="refused" role="alert">
      <p className="font-semibold">{problem.title}</p>
      <p>{problem.detail}</p>
      {problem.remedy && problem.errors.length === 0 && <p className="text-soft">{problem.remedy}</p>}
    </div>
  );
}
