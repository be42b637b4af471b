"use client";

import Link from "next/link";
import { usePathname } from "next/navigation";
import { addressOfView, VIEW_NAMES, type View } from "@/core/places";
import { Sign } from "../parts/mark";
import { CommandField } from "./command-field";
import type { BarPerson } from "./person";
import { PersonMenu } from "./person-menu";
import { ScopePicker } from "./scope-picker";

/** Scope and view from the address: `/all/watch`, `/c/quillmere/north-clinic/sources`. */
export function useAddress(): { base: string; view: string } {
  const pathname = usePathname();
  const cut = pathname.lastIndexOf("/");
  return { base: pathname.slice(0, cut) || "/all", view: pathname.slice(cut + 1) };
}

/** The one bar on top: our sign, the scope, the views of that scope, the command field, the person. */
export function Bar({
  person,
  views,
  scopeNames,
}: {
  person: BarPerson;
  views: readonly View[];
  scopeNames: Readonly<Record<string, string>>;
}) {
  const { base, view } = useAddress();
  return (
    <header className="no-print bg-base-100 border-base-300 flex items-center gap-3 border-b px-[14px]">
      <Link
        href="/"
        className="flex items-center gap-2 text-base font-bold whitespace-nowrap"
        aria-label="Deep Keep"
      >
        <Sign />
        <span className="max-[1100px]:hidden">Deep Keep</span>
      </Link>
      {views.length > 0 && <ScopePicker base={base} view={view} names={scopeNames} />}
      <nav className="flex items-center" aria-label="Views">
        {views.map((one) => (
          <Link
            key={one}
            href={addressOfView(base, one)}
            className="view-link"
            aria-current={one === view ? "page" : undefined}
            prefetch={false}
          >
            {VIEW_NAMES[one]}
          </Link>
        ))}
      </nav>
      <div className="ml-auto flex items-center gap-3">
        {views.length > 0 && <CommandField base={base} view={view} views={views} />}
        <PersonMenu person={person} />
      </div>
    </header>
  );
}
