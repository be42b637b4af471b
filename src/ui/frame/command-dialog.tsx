"use client";

import { Command } from "cmdk";
import { useRouter } from "next/navigation";
import { useEffect, useState } from "react";
import { VIEW_LETTERS, VIEW_NAMES, type View } from "@/core/places";
import { callApi } from "../parts/api";

interface FoundPlace {
  readonly kind: string;
  readonly label: string;
  readonly base: string;
}

const ACTIONS = [
  { label: "Add client…", address: "/all/sources?sheet=client" },
  { label: "Connect a machine…", address: "/all/sources?sheet=connect" },
  { label: "Add depot…", address: "/all/depots?sheet=depot" },
] as const;

/** What opens from the command field: places, views and things to do, by typing. */
export function CommandDialog({
  base,
  view,
  views,
  close,
}: {
  base: string;
  view: string;
  views: readonly View[];
  close: () => void;
}) {
  const router = useRouter();
  const [text, setText] = useState("");
  const [places, setPlaces] = useState<readonly FoundPlace[]>([]);
  useEffect(() => {
    let current = true;
    callApi<{ places: FoundPlace[] }>("GET", `/places?q=${encodeURIComponent(text)}`).then(
      (answer) => current && setPlaces(answer.places),
      () => {},
    );
    return () => {
      current = false;
    };
  }, [text]);
  const go = (address: string) => {
    close();
    router.push(address);
  };
  const actions = ACTIONS.filter((action) => action.label.toLowerCase().includes(text.toLowerCase()));
  const wanted = views.filter((one) => VIEW_NAMES[one].toLowerCase().includes(text.toLowerCase()));
  return (
    <Command.Dialog
      open
      onOpenChange={close}
      label="Find or run a command"
      shouldFilter={false}
      overlayClassName="fixed inset-0 z-40 bg-black/25"
      contentClassName="bg-base-100 border-base-300 fixed top-[12vh] left-1/2 z-50 w-[560px] max-w-[94vw] -translate-x-1/2 border p-3 shadow-md"
    >
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="Client, site, source, view or command…"
        className="input w-full mb-2"
      />
      <Command.List className="max-h-[46vh] overflow-y-auto">
        <Command.Empty className="text-soft px-2 py-2">Nothing is called “{text}”.</Command.Empty>
        {actions.map((action) => (
          <Command.Item
            key={action.address}
            value={action.address}
            onSelect={() => go(action.address)}
            className="data-[selected=true]:bg-selected cursor-pointer rounded-[3px] px-2 py-1"
          >
            {action.label}
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
  );
}
