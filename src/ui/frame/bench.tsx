"use client";

import { PanelRightClose, PanelRightOpen } from "lucide-react";
import { type PointerEvent, type ReactNode, useEffect, useState } from "react";

const LEAST = 320;
const MOST = 720;
const USUAL = 410;
const STEP = 20;

const kept = (name: string): string | null =>
  typeof window === "undefined" ? null : window.localStorage.getItem(name);

/** The bench: the view on the left, the docket on the right. Its width is the person's, and it collapses. */
export function Bench({ children, docket }: { children: ReactNode; docket: ReactNode }) {
  const [width, setWidth] = useState(USUAL);
  const [open, setOpen] = useState(true);
  useEffect(() => {
    setWidth(Number(kept("docket-width")) || USUAL);
    setOpen(kept("docket") !== "closed");
  }, []);
  const resize = (next: number) => {
    const fitting = Math.min(MOST, Math.max(LEAST, next));
    setWidth(fitting);
    window.localStorage.setItem("docket-width", String(fitting));
  };
  const toggle = () => {
    setOpen(!open);
    window.localStorage.setItem("docket", open ? "closed" : "open");
  };
  const drag = (event: PointerEvent<HTMLElement>) => {
    event.preventDefault();
    const start = event.clientX;
    const move = (moved: globalThis.PointerEvent) => resize(width + start - moved.clientX);
    const up = () => {
      window.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
    };
    window.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
  };
  return (
    <div
      className="grid h-full min-h-0"
      style={{
        gridTemplateColumns: docket ? `minmax(0,1fr) ${open ? `${width}px` : "36px"}` : "minmax(0,1fr)",
      }}
    >
      <main id="view" className="flex min-h-0 min-w-0 flex-col overflow-hidden">
        {children}
      </main>
      {docket && (
        <aside className="bg-base-100 border-base-300 relative min-h-0 border-l" aria-label="Docket">
          {open && (
            // biome-ignore lint/a11y/useSemanticElements: a splitter is no rule between texts
            <div
              role="separator"
              aria-orientation="vertical"
              aria-label="Width of the docket"
              aria-valuenow={width}
              aria-valuemin={LEAST}
              aria-valuemax={MOST}
              tabIndex={0}
              className="hover:bg-base-300 absolute inset-y-0 -left-[3px] w-[6px] cursor-col-resize"
              onPointerDown={drag}
              onKeyDown={(event) => {
                if (event.key === "ArrowLeft") resize(width + STEP);
                if (event.key === "ArrowRight") resize(width - STEP);
              }}
            />
          )}
          <button
            type="button"
            className="text-soft absolute top-2 right-2 z-10 p-1"
            onClick={toggle}
            aria-label={open ? "Close the docket" : "Open the docket"}
            aria-expanded={open}
          >
            {open ? <PanelRightClose size={16} /> : <PanelRightOpen size={16} />}
          </button>
          {open && (
            <div className="h-full overflow-y-auto px-[18px] py-[14px]" tabIndex={0} data-docket>
              {docket}
            </div>
          )}
        </aside>
      )}
    </div>
  );
}
