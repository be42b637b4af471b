"use client";

import { usePathname, useRouter } from "next/navigation";
import { useState } from "react";

/** The days of a statement, both ends included. `part`: of the view, kept in the address. */
export function PeriodForm({
  from,
  to,
  refused,
  part,
}: {
  from: string;
  to: string;
  refused: string | null;
  part?: string;
}) {
  const router = useRouter();
  const pathname = usePathname();
  const [first, setFirst] = useState(from);
  const [last, setLast] = useState(to);
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        const wanted = new URLSearchParams({ ...(part ? { part } : {}), from: first, to: last });
        router.push(`${pathname}?${wanted}`);
      }}
    >
      <label className="text-soft" htmlFor="period-from">
        from
      </label>
      <input
        id="period-from"
        type="date"
        className="input h-[30px] w-[140px]"
        aria-describedby={refused ? "period-error" : undefined}
        value={first}
        onChange={(event) => setFirst(event.target.value)}
      />
      <label className="text-soft" htmlFor="period-to">
        to
      </label>
      <input
        id="period-to"
        type="date"
        className="input h-[30px] w-[140px]"
        aria-describedby={refused ? "period-error" : undefined}
        value={last}
        onChange={(event) => setLast(event.target.value)}
      />
      <button type="submit" className="btn btn-plain h-[30px] min-h-[30px]">
        Show
      </button>
      {refused && (
        <span className="field-error" role="alert" id="period-error">
          {refused}
        </span>
      )}
    </form>
  );
}
