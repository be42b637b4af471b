"use client";

import { ChevronDown } from "lucide-react";
import { useRouter } from "next/navigation";
import { useEffect, useId, useRef, useState } from "react";
import { callApi } from "../parts/api";
import { useScopeNames } from "./scope-names";

interface FoundPlace {
  readonly kind: string;
  readonly label: string;
  readonly base: string;
}

const ALL: FoundPlace = { kind: "all", label: "All clients", base: "/all" };

/** The names on the way to a scope: `Quillmere › North clinic › quill-lt-04 files`. */
function scopeLabel(base: string, names: Readonly<Record<string, string>>): string {
  if (base === "/all") return ALL.label;
  const parts = base.split("/").slice(2);
  return parts.map((part, i) => names[`/c/${parts.slice(0, i + 1).join("/")}`] ?? part).join(" › ");
}

/** Chooses the scope by typing. */
export function ScopePicker({
  base,
  view,
  names: known,
}: {
  base: string;
  view: string;
  names: Readonly<Record<string, string>>;
}) {
  const names = useScopeNames(known);
  const router = useRouter();
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [found, setFound] = useState<readonly FoundPlace[]>([ALL]);
  const [at, setAt] = useState(0);
  const box = useRef<HTMLDivElement>(null);
  const list = useId();
  useEffect(() => {
    if (!open) return;
    let current = true;
    callApi<{ places: FoundPlace[] }>("GET", `/places?q=${encodeURIComponent(text)}`).then(
      ({ places }) => {
        if (!current) return;
        setFound("all clients".includes(text.toLowerCase()) ? [ALL, ...places] : places);
        setAt(0);
      },
      () => {},
    );
    return () => {
      current = false;
    };
  }, [open, text]);
  useEffect(() => {
    const outside = (event: MouseEvent) => {
      if (!box.current?.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener("mousedown", outside);
    return () => document.removeEventListener("mousedown", outside);
  }, []);
  const go = (place: FoundPlace | undefined) => {
    if (!place) return;
    setOpen(false);
    setText("");
    router.push(`${place.base}/${view}`);
  };
  return (
    <div className="relative" ref={box}>
      <button
        type="button"
        className="btn btn-plain h-[30px] min-h-[30px] max-w-[330px] gap-1"
        aria-haspopup="listbox"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        data-scope
      >
        <span className="truncate">{scopeLabel(base, names)}</span>
        <ChevronDown size={15} aria-hidden="true" />
      </button>
      {open && (
        <div className="bg-base-100 border-base-300 absolute top-[36px] left-0 z-30 w-[420px] border p-2 shadow-md">
          <input
            ref={(input) => input?.focus()}
            className="input w-full"
            placeholder="Client, site or source…"
            aria-label="Find a scope"
            role="combobox"
            aria-expanded="true"
            aria-controls={list}
            aria-activedescendant={found[at] ? `${list}-${at}` : undefined}
            value={text}
            onChange={(event) => setText(event.target.value)}
            onKeyDown={(event) => {
              if (event.key === "Escape") setOpen(false);
              if (event.key === "Enter") go(found[at]);
              if (event.key === "ArrowDown") setAt(Math.min(found.length - 1, at + 1));
              if (event.key === "ArrowUp") setAt(Math.max(0, at - 1));
            }}
          />
          <div id={list} role="listbox" aria-label="Scopes" className="mt-2 max-h-[340px] overflow-y-auto">
            {found.map((place, i) => (
              <button
                key={place.base}
                id={`${list}-${i}`}
                type="button"
                role="option"
                aria-selected={i === at}
                tabIndex={-1}
                className={`block w-full truncate rounded-[3px] px-2 py-1 text-left ${i === at ? "bg-selected" : ""}`}
                onClick={() => go(place)}
                onMouseEnter={() => setAt(i)}
              >
                {place.label}
              </button>
            ))}
            {found.length === 0 && <p className="text-soft px-2 py-1">Nothing is called “{text}”.</p>}
          </div>
        </div>
      )}
    </div>
  );
}
