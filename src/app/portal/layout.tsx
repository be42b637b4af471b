import { redirect } from "next/navigation";
import type { ReactNode } from "react";
import { isClientRole } from "@/core/rights/rights";
import { PortalFrame } from "../portal-frame";
import { homeOf, signedIn } from "../visitor";

export const dynamic = "force-dynamic";
export const metadata = { title: "Restore" };

export default async function Layout({ children }: { children: ReactNode }) {
  const person = await signedIn();
  if (!isClientRole(person.role)) redirect(homeOf(person));
  return <PortalFrame person={person}>{children}</PortalFrame>;
}
