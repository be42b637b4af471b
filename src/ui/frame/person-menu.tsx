"use client";

import Link from "next/link";
import { useEffect, useRef, useState } from "react";
import { mayDo, ROLE_NAMES } from "@/core/rights/rights";
import { callApi } from "../parts/api";
import { Radio } from "../parts/radio";
import type { BarPerson } from "./person";

const initials = (name: string): string =>
  name
    .split(/\s+/)
    .map((part) => part[0])
    .slice(0, 2)
    .join("")
    .toUpperCase();

const THEMES = [
  ["", "as the system"],
  ["daylight", "daylight"],
  ["nightwatch", "nightwatch"],
] as const;

/** Chooses a theme for this browser; without a choice the system's wish holds. */
function chooseTheme(theme: string): void {
  // biome-ignore lint/suspicious/noDocumentCookie: the server reads the choice with the next page, so that nothing flashes
  document.cookie = `theme=${theme}; path=/; max-age=${theme ? 31_536_000 : 0}; samesite=lax`;
  if (theme) document.documentElement.dataset.theme = theme;
  else delete document.documentElement.dataset.theme;
}

export function PersonMenu({ person }: { person: BarPerson }) {
  const [open, setOpen] = useState(false);
  const [theme, setTheme] = useState("");
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => setTheme(document.documentElement.dataset.theme ?? ""), []);
  useEffect(() => {
    const outside = (event: MouseEvent) => {
      if (!box.current?.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener("mousedown", outside);
    return () => document.removeEventListener("mousedown", outside);
  }, []);
  return (
    <div className="relative" ref={box}>
      <button
        type="button"
        className="bg-verdigris-soft text-primary rounded-[3px] px-[7px] py-[4px] text-[12.5px] font-bold"
        aria-label={`You: ${person.name}`}
        aria-expanded={open}
        onClick={() => setOpen(!open)}
      >
        {initials(person.name)}
      </button>
      {open && (
        <div className="bg-base-100 border-base-300 absolute top-[34px] right-0 z-30 w-[250px] border p-3 shadow-md">
          <p className="font-semibold">{person.name}</p>
          <p className="text-soft mb-3 break-all">
            {person.email}, {ROLE_NAMES[person.role]}
          </p>
          <fieldset className="mb-3">
            <legend className="text-soft mb-1 text-[13px]">Light</legend>
            {THEMES.map(([value, label]) => (
              <label key={value} className="flex items-center gap-2 py-[2px]">
                <Radio
                  name="theme"
                  size="xs"
                  checked={theme === value}
                  choose={() => {
                    setTheme(value);
                    chooseTheme(value);
                  }}
                />
                {label}
              </label>
            ))}
          </fieldset>
          <div className="mb-3 grid gap-1">
            <Link className="text-primary underline" href="/account" onClick={() => setOpen(false)}>
              Your account
            </Link>
            {mayDo(person.role, "client-people") && (
              <Link className="text-primary underline" href="/people" onClick={() => setOpen(false)}>
                People and rights
              </Link>
            )}
          </div>
          <button
            type="button"
            className="btn btn-plain w-full"
            onClick={async () => {
              await callApi("DELETE", "/sessions/current").catch(() => {});
              window.location.assign("/sign-in");
            }}
          >
            Sign out
          </button>
        </div>
      )}
    </div>
  );
}
