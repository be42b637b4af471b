"use client";

import type { ReactNode } from "react";
import type { Origin } from "@/core/policy/cascade";

/** One clause: what it says as a sentence and where that comes from; its fields below when it is open. */
export function Clause({
  title,
  sentence,
  own,
  origin,
  open,
  toggle,
  children,
}: {
  title: string;
  sentence: string;
  /** Set in these rules themselves. */
  own: boolean;
  origin: Origin | undefined;
  open: boolean;
  toggle: () => void;
  children: ReactNode;
}) {
  const from = own ? null : origin ? `${origin.name}${origin.pinned ? ", pinned" : ""}` : null;
  return (
    <section
      className={`border-line border-b ${open ? "bg-base-100 border-l-[3px] border-l-[var(--brass)]" : "border-l-[3px] border-l-transparent"}`}
    >
      <button
        type="button"
        className="grid w-full grid-cols-[96px_minmax(0,1fr)] gap-3 px-[14px] py-[11px] text-left"
        aria-expanded={open}
        onClick={toggle}
      >
        <b>{title}</b>
        <span className={own ? "" : "text-soft"}>
          {sentence}
          {from && <span className="text-soft block text-[13px]">from {from}</span>}
        </span>
      </button>
      {open && <div className="grid gap-3 pr-[16px] pb-4 pl-[123px]">{children}</div>}
    </section>
  );
}
