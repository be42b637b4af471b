"use client";

import Link from "next/link";
import { usePathname } from "next/navigation";
import type { ReactNode } from "react";

export function PortalLink({ href, children }: { href: string; children: ReactNode }) {
  const here = usePathname() === href;
  return (
    <Link href={href} className="view-link" aria-current={here ? "page" : undefined}>
      {children}
    </Link>
  );
}
