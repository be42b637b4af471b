import Link from "next/link";
import type { ReactNode } from "react";
import { mayDo } from "@/core/rights/rights";
import type { Person } from "@/db/access/people";
import { IDLE_MINUTES } from "@/db/access/sessions";
import { clientById } from "@/db/clients/clients";
import { lookOf } from "@/db/clients/looks";
import { scopeOf } from "@/server/access/sign-in";
import { ClientLogo } from "@/ui/clients/client-logo";
import { PersonMenu } from "@/ui/frame/person-menu";
import { Toasts } from "@/ui/frame/toasts";
import { Sign } from "@/ui/parts/mark";
import { IdleClose } from "@/ui/portal/idle-close";
import { PortalLink } from "@/ui/portal/portal-link";
import { theServices } from "./console";

/** The frame of a client's people: one scope, few views, larger type. It closes by itself when nobody is there. */
export async function PortalFrame({ person, children }: { person: Person; children: ReactNode }) {
  const { client, look } = await theServices().db.withScope(scopeOf(person), async (tx) => ({
    client: (await clientById(tx, person.clientId!))!,
    look: await lookOf(tx, person.clientId!),
  }));
  return (
    <div className="portal">
      <header
        className="no-print bg-base-100 border-base-300 flex min-h-[52px] flex-wrap items-center gap-x-4 border-b px-4 max-[560px]:pt-2"
        style={look.colour ? { borderTop: `4px solid ${look.colour}` } : undefined}
      >
        <Link href="/" className="flex items-center gap-2 font-bold whitespace-nowrap" aria-label="Deep Keep">
          <Sign />
          <span className="max-[720px]:hidden">Deep Keep</span>
        </Link>
        {look.hasLogo && <ClientLogo src={`/api/v1/clients/${client.id}/logo`} name="" />}
        <span className="min-w-0 flex-1 truncate font-semibold">{client.name}</span>
        <nav className="flex items-center max-[560px]:order-last max-[560px]:w-full" aria-label="Views">
          {!person.factorMissing && <PortalLink href="/portal/restore">Restore</PortalLink>}
          {!person.factorMissing && mayDo(person.role, "statement") && (
            <PortalLink href={`/c/${client.slug}/statements`}>Statements</PortalLink>
          )}
        </nav>
        <PersonMenu person={{ name: person.name, email: person.email, role: person.role }} />
      </header>
      <div className="min-h-0 flex-1">{children}</div>
      <IdleClose minutes={IDLE_MINUTES} />
      <Toasts />
    </div>
  );
}
