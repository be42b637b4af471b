"use client";

import dynamic from "next/dynamic";
import { useRouter } from "next/navigation";
import { useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { VIEW_LETTERS, type View } from "@/core/places";

const CommandDialog = dynamic(() => import("./command-dialog").then((module) => module.CommandDialog), {
  ssr: false,
});

export const KEY_LIST: readonly (readonly [keys: string, meaning: string])[] = [
  ["?", "this list"],
  ["Ctrl K", "commands and places"],
  ["/", "filter"],
  ["j  k", "next and previous row"],
  ["Enter", "open in the docket"],
  ["Esc", "back: close what is open"],
  ["x", "select the row"],
  ["b", "back up the chosen source now"],
  ["r", "restore from the chosen source"],
  ["g, then a letter", "go to a view: w s p d r e t l"],
  ["[  ]", "narrower and wider scope"],
  ["t", "drawing or its table"],
];

const rows = (): HTMLElement[] => [...document.querySelectorAll<HTMLElement>("[data-row]")];

function moveRow(step: number): void {
  const all = rows();
  if (all.length === 0) return;
  const at = all.indexOf(document.activeElement as HTMLElement);
  const current = at >= 0 ? at : all.findIndex((row) => row.getAttribute("aria-current") === "true");
  all[Math.min(all.length - 1, Math.max(0, current < 0 ? 0 : current + step))]?.focus();
}

const clickMarked = (name: string): void =>
  document.querySelector<HTMLElement>(`[data-key="${name}"]`)?.click();

/** The command field and all keys of the frame. */
export function CommandField({ base, view, views }: { base: string; view: string; views: readonly View[] }) {
  const router = useRouter();
  const [open, setOpen] = useState(false);
  const [help, setHelp] = useState(false);
  useHotkeys("mod+k", () => setOpen(true), { preventDefault: true, enableOnFormTags: true });
  useHotkeys("shift+slash", () => setHelp(true), { preventDefault: true });
  useHotkeys("slash", () => document.querySelector<HTMLElement>("[data-filter]")?.focus(), {
    preventDefault: true,
  });
  useHotkeys("j", () => moveRow(1));
  useHotkeys("k", () => moveRow(-1));
  useHotkeys("b", () => clickMarked("b"));
  useHotkeys("r", () => clickMarked("r"));
  useHotkeys("t", () => clickMarked("t"));
  useHotkeys("x", () =>
    (document.activeElement as HTMLElement | null)
      ?.closest("[data-row]")
      ?.parentElement?.querySelector<HTMLInputElement>("input[data-select]")
      ?.click(),
  );
  useHotkeys("bracketright", () =>
    router.push(`${base.split("/").length > 3 ? base.slice(0, base.lastIndexOf("/")) : "/all"}/${view}`),
  );
  useHotkeys("bracketleft", () => document.querySelector<HTMLElement>("[data-scope]")?.click());
  useHotkeys("escape", () => {
    if (new URL(window.location.href).search) router.push(`${base}/${view}`);
  });
  useHotkeys(
    views.map((one) => `g>${VIEW_LETTERS[one]}`).join(","),
    (_event, keys) => {
      const letter = keys.keys?.join("").slice(-1);
      const wanted = views.find((one) => VIEW_LETTERS[one] === letter);
      if (wanted) router.push(`${base}/${wanted}`);
    },
    {},
    [base, views],
  );
  return (
    <>
      <button
        type="button"
        className="btn btn-plain text-soft h-[30px] min-h-[30px] w-[190px] justify-between font-normal max-[1100px]:w-[110px]"
        onClick={() => setOpen(true)}
      >
        Find or run…
        <span className="text-[12.5px] max-[1100px]:hidden">Ctrl K</span>
      </button>
      {open && <CommandDialog base={base} view={view} views={views} close={() => setOpen(false)} />}
      {help && <KeyHelp close={() => setHelp(false)} />}
    </>
  );
}

function KeyHelp({ close }: { close: () => void }) {
  useHotkeys("escape", close, { enableOnFormTags: true });
  return (
    <div
      className="fixed inset-0 z-40 grid place-items-center bg-black/25"
      role="dialog"
      aria-modal="true"
      aria-label="Keys"
    >
      <div className="bg-base-100 border-base-300 w-[420px] border p-5 shadow-md">
        <h2 className="mb-3 text-lg">Keys</h2>
        <dl className="grid grid-cols-[130px_1fr] gap-y-2">
          {KEY_LIST.map(([keys, meaning]) => (
            <div key={keys} className="contents">
              <dt>
                <span className="kbd-key">{keys}</span>
              </dt>
              <dd>{meaning}</dd>
            </div>
          ))}
        </dl>
        <button
          type="button"
          ref={(button) => button?.focus()}
          className="btn btn-plain mt-4"
          onClick={close}
        >
          Close
        </button>
      </div>
    </div>
  );
}
