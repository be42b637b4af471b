"use client";

import { Command } from "cmdk";
import { useRouter } from "next/navigation";
import { useEffect, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { VIEW_LETTERS, VIEW_NAMES, type View } from "@/core/places";
import { callApi } from "./api";

interface FoundPlace {
  readonly kind: string;
  readonly label: string;
  readonly base: string;
}

const DEEDS = [
  { label: "Take on a client…", address: "/all/sources?sheet=client" },
  { label: "Connect a machine…", address: "/all/sources?sheet=connect" },
  { label: "Add a depot…", address: "/all/depots?sheet=depot" },
] as const;

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
  const [text, setText] = useState("");
  const [places, setPlaces] = useState<readonly FoundPlace[]>([]);
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
  useEffect(() => {
    if (!open) return;
    let current = true;
    callApi<{ places: FoundPlace[] }>("GET", `/places?q=${encodeURIComponent(text)}`).then(
      (answer) => current && setPlaces(answer.places),
      () => {},
    );
    return () => {
      current = false;
    };
  }, [open, text]);
  const go = (address: string) => {
    setOpen(false);
    setText("");
    router.push(address);
  };
  const deeds = DEEDS.filter((deed) => deed.label.toLowerCase().includes(text.toLowerCase()));
  const wanted = views.filter((one) => VIEW_NAMES[one].toLowerCase().includes(text.toLowerCase()));
  return (
    <>
      <button
        type="button"
        className="btn btn-plain text-soft h-[30px] min-h-[30px] w-[190px] justify-between font-normal max-[1100px]:w-[110px]"
        onClick={() => setOpen(true)}
      >
        Go to or do…
        <span className="text-[12.5px] max-[1100px]:hidden">Ctrl K</span>
      </button>
      <Command.Dialog
        open={open}
        onOpenChange={setOpen}
        label="Go to or do"
        shouldFilter={false}
        overlayClassName="fixed inset-0 z-40 bg-black/25"
        contentClassName="bg-base-100 border-base-300 fixed top-[12vh] left-1/2 z-50 w-[560px] max-w-[94vw] -translate-x-1/2 border p-3 shadow-md"
      >
        <Command.Input
          value={text}
          onValueChange={setText}
          placeholder="A place, a view, or something to do…"
          className="input w-full mb-2"
        />
        <Command.List className="max-h-[46vh] overflow-y-auto">
          <Command.Empty className="text-soft px-2 py-2">Nothing is called “{text}”.</Command.Empty>
          {deeds.map((deed) => (
            <Command.Item
              key={deed.address}
              value={deed.address}
              onSelect={() => go(deed.address)}
              className="data-[selected=true]:bg-selected cursor-pointer rounded-[3px] px-2 py-1"
            >
              {deed.label}
            </Command.Item>
          ))}
          {wanted.map((one) => (
            <Command.Item
              key={one}
              value={one}
              onSelect={() => go(`${base}/${one}`)}
              className="data-[selected=true]:bg-selected flex cursor-pointer justify-between rounded-[3px] px-2 py-1"
            >
              {VIEW_NAMES[one]}
              <span className="text-soft">g {VIEW_LETTERS[one]}</span>
            </Command.Item>
          ))}
          {places.map((place) => (
            <Command.Item
              key={place.base}
              value={place.base}
              onSelect={() => go(`${place.base}/${view}`)}
              className="data-[selected=true]:bg-selected cursor-pointer rounded-[3px] px-2 py-1"
            >
              {place.label}
            </Command.Item>
          ))}
        </Command.List>
      </Command.Dialog>
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
