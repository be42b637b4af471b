"use client";

import { useEffect, useRef, useState } from "react";
import { callApi } from "../parts/api";

const SIGNS = ["pointerdown", "keydown", "scroll", "touchstart"] as const;
const WARN_MS = 60_000;

/** Signs out when nobody has touched anything for a while, and says so a minute before. The server does it too. */
export function IdleClose({ minutes }: { minutes: number }) {
  const last = useRef(0);
  const [closing, setClosing] = useState(false);
  useEffect(() => {
    last.current = Date.now();
    const seen = () => {
      last.current = Date.now();
      setClosing(false);
    };
    for (const sign of SIGNS) window.addEventListener(sign, seen, { passive: true });
    const timer = window.setInterval(async () => {
      const left = last.current + minutes * 60_000 - Date.now();
      setClosing(left <= WARN_MS);
      if (left > 0) return;
      window.clearInterval(timer);
      await callApi("DELETE", "/sessions/current").catch(() => {});
      window.location.assign("/sign-in?closed=1");
    }, 5000);
    return () => {
      for (const sign of SIGNS) window.removeEventListener(sign, seen);
      window.clearInterval(timer);
    };
  }, [minutes]);
  if (!closing) return null;
  return (
    <p className="warned fixed right-4 bottom-4 z-40 max-w-[360px] shadow-md" role="alert">
      No activity. You will be signed out in one minute to protect your files. Press any key or click to stay
      signed in.
    </p>
  );
}
