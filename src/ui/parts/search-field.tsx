"use client";

import { usePathname, useRouter, useSearchParams } from "next/navigation";
import { useState } from "react";

/** A field whose text goes into the address, so that a link shows a colleague the same. */
export function SearchField({
  name,
  label,
  placeholder,
}: {
  name: string;
  label: string;
  placeholder: string;
}) {
  const router = useRouter();
  const pathname = usePathname();
  const search = useSearchParams();
  const [text, setText] = useState(search.get(name) ?? "");
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        const values = new URLSearchParams(search);
        for (const other of ["sel", "before"]) values.delete(other);
        if (text.trim()) values.set(name, text.trim());
        else values.delete(name);
        router.push(`${pathname}?${values}`);
      }}
    >
      <input
        className="input w-full h-[30px]"
        data-filter
        aria-label={label}
        placeholder={placeholder}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
    </form>
  );
}
