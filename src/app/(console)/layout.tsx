import type { ReactNode } from "react";
import { isClientRole } from "@/core/rights/rights";
import type { Tx } from "@/db/base/scope";
import { listClients, listSites, readProvider } from "@/db/clients/clients";
import { comingRuns } from "@/db/sources/sources";
import { Bar } from "@/ui/frame/bar";
import { Live } from "@/ui/frame/live";
import { Tape } from "@/ui/frame/tape";
import { Toasts } from "@/ui/frame/toasts";
import { clockText } from "@/ui/parts/moment";
import { PortalFrame } from "../portal-frame";
import { viewsOf } from "../views/console-view";
import { asVisitor, signedInAnyhow } from "../visitor";

export const dynamic = "force-dynamic";

/** What runs next, for the end of the tape. */
async function nextRun(tx: Tx, zone: string): Promise<string | null> {
  const [next] = await comingRuns(tx, {}, 1);
  return next ? `next: ${clockText(next.at, zone)} ${next.name}` : null;
}

export default async function Layout({ children }: { children: ReactNode }) {
  const person = await signedInAnyhow();
  if (isClientRole(person.role)) return <PortalFrame person={person}>{children}</PortalFrame>;
  const shown = { name: person.name, email: person.email, role: person.role };
  // nothing of the console before the second factor that the role must have
  if (person.factorMissing) {
    return (
      <div className="frame">
        <Bar person={shown} views={[]} scopeNames={{}} />
        <div className="min-h-0">{children}</div>
        <Toasts />
      </div>
    );
  }
  const { names, next } = await asVisitor(async (tx) => {
    const clients = await listClients(tx);
    const slugs = new Map(clients.map((client) => [client.id, client.slug]));
    const sites = await listSites(tx);
    const zone = (await readProvider(tx))?.zone ?? "UTC";
    return {
      names: Object.fromEntries([
        ...clients.map((client) => [`/c/${client.slug}`, client.name]),
        ...sites.map((site) => [`/c/${slugs.get(site.clientId)}/${site.slug}`, site.name]),
      ]) as Record<string, string>,
      next: await nextRun(tx, zone),
    };
  });
  return (
    <div className="frame">
      <Live>
        <Bar person={shown} views={viewsOf(person.role)} scopeNames={names} />
        <div className="min-h-0">{children}</div>
        <Tape next={next} />
        <Toasts />
      </Live>
    </div>
  );
}
