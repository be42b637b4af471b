"use client";

import { useRouter } from "next/navigation";
import { createContext, type ReactNode, useContext, useEffect, useRef, useState } from "react";
import type { RunDepotShown } from "@/core/protection/run-depots";
import type { RunProgressShown } from "./progress";

/** A run that goes on, as the events tell it. */
export interface TapeRun {
  readonly id: string;
  readonly kind: "backup" | "restore" | "drill";
  readonly state: string;
  readonly sourceName: string;
  readonly machineName: string | null;
  readonly clientSlug: string;
  readonly progress: RunProgressShown;
  readonly startedAt: string | null;
  readonly depots: readonly RunDepotShown[];
}

const TapeContext = createContext<readonly TapeRun[]>([]);
export const useTape = (): readonly TapeRun[] => useContext(TapeContext);

/** Listens to the console's events: keeps the tape, and lets the view be read anew when something changed. */
export function Live({ children }: { children: ReactNode }) {
  const router = useRouter();
  const [tape, setTape] = useState<readonly TapeRun[]>([]);
  const refreshing = useRef(0);
  useEffect(() => {
    const events = new EventSource("/api/v1/events");
    events.addEventListener("tape", (event) => setTape(JSON.parse((event as MessageEvent<string>).data)));
    events.addEventListener("changed", () => {
      window.clearTimeout(refreshing.current);
      refreshing.current = window.setTimeout(() => router.refresh(), 150);
    });
    return () => {
      events.close();
      window.clearTimeout(refreshing.current);
    };
  }, [router]);
  return <TapeContext value={tape}>{children}</TapeContext>;
}
