"use client";

import { useEffect, useState } from "react";
import { flushSync } from "react-dom";
import type { Toaster } from "sonner";
import { whenToastsAreNeeded } from "../parts/say";

/** Where toasts appear, once there is one. */
export function Toasts() {
  const [Shown, setShown] = useState<typeof Toaster | null>(null);
  useEffect(() => whenToastsAreNeeded((toaster) => flushSync(() => setShown(() => toaster))), []);
  return Shown ? (
    <Shown position="bottom-center" toastOptions={{ classNames: { toast: "!rounded-[3px] !font-sans" } }} />
  ) : null;
}
