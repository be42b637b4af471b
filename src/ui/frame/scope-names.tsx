"use client";

import { useEffect, useSyncExternalStore } from "react";

/** Names of scopes that a page has told: the bar shows them in place of the address's short forms. */
let names: Readonly<Record<string, string>> = {};
const waiting = new Set<() => void>();

const subscribe = (tell: () => void) => {
  waiting.add(tell);
  return () => waiting.delete(tell);
};

/** Tells the bar what a scope is called. */
export function ScopeName({ base, name }: { base: string; name: string }) {
  useEffect(() => {
    if (names[base] === name) return;
    names = { ...names, [base]: name };
    for (const tell of waiting) tell();
  }, [base, name]);
  return null;
}

export function useScopeNames(known: Readonly<Record<string, string>>): Readonly<Record<string, string>> {
  const told = useSyncExternalStore(
    subscribe,
    () => names,
    () => names,
  );
  return { ...told, ...known };
}
