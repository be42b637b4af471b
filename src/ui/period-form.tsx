"use client";

import { usePathname, useRouter } from "next/navigation";
import { useState } from "react";

/** The days of a statement, both ends included. */
export function PeriodForm({ from, to, refused }: { from: string; to: string; refused: string | null }) {
  const router = useRouter();
  const pathname = usePathname();
  const [first, setFirst] = useState(from);
  const [last, setLast] = useState(to);
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        router.push(`${pathname}?from=${encodeURIComponent(first)}&to=${encodeURIComponent(last)}`);
      }}
    >
      <label className="text-soft" htmlFor="period-from">
        from
      </label>
      <input
        id="period-from"
        type="date"
        className="input h-[30px] w-[140px]"
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
        value={last}
        onChange={(event) => setLast(event.target.value)}
      />
      <button type="submit" className="btn btn-plain h-[30px] min-h-[30px]">
        Show
      </button>
      {refused && (
        <span className="field-error" role="alert">
          {refused}
        </span>
      )}
    </form>
  );
}
