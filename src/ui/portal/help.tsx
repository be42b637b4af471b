"use client";

import { type ReactNode, useState } from "react";

/** A heading of a step with a `?` beside it that opens two sentences. */
export function Step({ title, help, children }: { title: string; help: string; children?: ReactNode }) {
  const [open, setOpen] = useState(false);
  return (
    <div>
      <h2 className="flex items-baseline gap-2 text-[18px]">
        {title}
        <button
          type="button"
          className="text-soft border-base-300 h-[24px] w-[24px] rounded-full border text-[14px] font-normal"
          aria-expanded={open}
          aria-label={`Help: ${title}`}
          onClick={() => setOpen(!open)}
        >
          ?
        </button>
        {children}
      </h2>
      {open && <p className="text-soft mt-1">{help}</p>}
    </div>
  );
}
