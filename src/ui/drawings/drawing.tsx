"use client";

import { type ReactNode, useState } from "react";

/** A drawing with the table behind it; the button, or `t`, changes between them. */
export function Drawing({
  title,
  aside,
  drawing,
  table,
}: {
  title: string;
  aside?: ReactNode;
  drawing: ReactNode;
  /** As a function where it is long: then it is made when it is wanted. */
  table: ReactNode | (() => ReactNode);
}) {
  const [asTable, setAsTable] = useState(false);
  return (
    <section aria-label={title}>
      <div className="mb-1 flex items-baseline gap-3">
        <h3 className="part-title">{title}</h3>
        <button
          type="button"
          className="text-soft text-[12.5px] underline"
          data-key="t"
          onClick={() => setAsTable(!asTable)}
        >
          {asTable ? "as a drawing" : "as a table"}
        </button>
        <span className="text-soft ml-auto text-[12.5px]">{aside}</span>
      </div>
      {asTable ? (typeof table === "function" ? table() : table) : drawing}
    </section>
  );
}
