"use client";

import { useCallback, useEffect, useRef } from "react";
import { ApiError } from "./api";

/**
 * Asks for something at every change, without a pause and without a crowd: one question is under way at a time, and when
 * its answer is there the newest one that came meanwhile follows; those between are not asked. What the server refuses
 * changes nothing.
 */
export function useNewest<Wish, Answer>(
  ask: (wish: Wish) => Promise<Answer>,
  hear: (answer: Answer) => void,
): (wish: Wish) => void {
  const latest = useRef({ ask, hear });
  latest.current = { ask, hear };
  const waiting = useRef<{ readonly wish: Wish } | null>(null);
  const busy = useRef(false);
  const gone = useRef(false);
  useEffect(() => {
    gone.current = false;
    return () => {
      gone.current = true;
    };
  }, []);
  return useCallback((wish: Wish) => {
    waiting.current = { wish };
    if (busy.current) return;
    busy.current = true;
    const work = async () => {
      while (waiting.current && !gone.current) {
        const next = waiting.current;
        waiting.current = null;
        try {
          const answer = await latest.current.ask(next.wish);
          if (!gone.current) latest.current.hear(answer);
        } catch (error) {
          if (!(error instanceof ApiError)) throw error;
        }
      }
    };
    void work().finally(() => {
      busy.current = false;
    });
  }, []);
}
