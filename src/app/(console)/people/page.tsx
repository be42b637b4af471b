import Link from "next/link";
import { notFound } from "next/navigation";
import { mayDo, ROLE_NAMES } from "@/core/rights/rights";
import { factorRoles, listPeople } from "@/db/access/people";
import { listClients, readProvider } from "@/db/clients/clients";
import { giftsOfClient } from "@/db/portal/gifts";
import { sourceNames } from "@/db/sources/sources";
import { kindOf } from "@/kinds";
import { shownGift } from "@/server/portal/given";
import { DemandFactor, InvitePerson, PeopleOf, PersonDocket } from "@/ui/clients/people-sheet";
import { Bench } from "@/ui/frame/bench";
import { Ago } from "@/ui/parts/moment";
import { theServices } from "../../console";
import { asVisitor, signedIn } from "../../visitor";

export const metadata = { title: "People and rights" };

export default async function Page({
  searchParams,
}: {
  searchParams: Promise<{ of?: string; sel?: string }>;
}) {
  const me = await signedIn();
  if (!mayDo(me.role, "client-people")) notFound();
  const { of, sel } = await searchParams;
  const owner = mayDo(me.role, "provider-people");
  const now = theServices().now();
  const shown = await asVisitor(async (tx) => {
    const clients = await listClients(tx);
    const provider = (await readProvider(tx))!;
    const client = clients.find(({ slug }) => slug === of) ?? (owner ? null : clients[0]);
    if (client === undefined)
      return { clients, provider, client, people: [], gifts: [], sources: [], roles: [] };
    return {
      clients,
      provider,
      client,
      people: await listPeople(tx, client?.id ?? null),
      gifts: client ? (await giftsOfClient(tx, client.id)).map(shownGift) : [],
      sources: client ? (await sourceNames(tx, client.id)).filter(({ kind }) => kindOf(kind)?.shared) : [],
      roles: await factorRoles(tx),
    };
  });
  const { client, people, clients, provider } = shown;
  const chosen = people.find(({ id }) => id === sel);
  const base = `/people?of=${client?.slug ?? "provider"}`;
  const names = new Map(clients.map(({ id, name }) => [id, name]));
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">People and rights</h1>
        <PeopleOf
          chosen={client?.slug ?? "provider"}
          choices={[
            ...(owner ? [{ value: "provider", name: `${provider.name}, the provider` }] : []),
            ...clients.map(({ slug, name }) => ({ value: slug, name })),
          ]}
        />
        <span className="text-soft">
          {client === null ? "roles and clients" : "what each person can restore"}
        </span>
        {chosen && (
          <Link className="btn btn-plain ml-auto h-[30px] min-h-[30px]" href={base}>
            Invite…
          </Link>
        )}
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {people.map((person) => (
            <li key={person.id}>
              <Link
                href={`${base}&sel=${person.id}`}
                data-row
                aria-current={person.id === sel ? "true" : undefined}
                className="row grid grid-cols-[minmax(150px,1fr)_minmax(180px,1fr)_minmax(150px,1.3fr)_150px] items-baseline gap-x-4"
              >
                <span className="truncate font-semibold">{person.name}</span>
                <span className="text-soft truncate">{person.email}</span>
                <span className="truncate">
                  {ROLE_NAMES[person.role]}
                  {person.clientIds &&
                    ` of ${person.clientIds
                      .map((id) => names.get(id))
                      .filter(Boolean)
                      .join(", ")}`}
                  {client && (
                    <span className="text-soft">
                      {" "}
                      · {person.gifts === 0 ? "nothing shared" : `${person.gifts} shared`}
                    </span>
                  )}
                </span>
                <span className="text-soft truncate text-right">
                  {person.invited ? (
                    "invited"
                  ) : (
                    <>
                      {person.factor ? "2nd factor · " : ""}
                      {person.seenAt ? (
                        <Ago moment={person.seenAt} now={now} zone={provider.zone} />
                      ) : (
                        "not seen"
                      )}
                    </>
                  )}
                </span>
              </Link>
            </li>
          ))}
        </ul>
        {people.length === 0 && (
          <p className="text-soft p-4">
            Nobody yet. Invite one of {client?.name ?? "your"} people: they set their own password and see
            only what you share with them.
          </p>
        )}
      </div>
    </>
  );
  const docket = chosen ? (
    <PersonDocket
      key={chosen.id}
      person={chosen}
      me={me.id}
      clients={clients.map(({ id, name }) => ({ id, name }))}
      gifts={shown.gifts.filter((gift) => gift.personId === chosen.id)}
      sources={shown.sources}
    />
  ) : client === undefined ? null : (
    <div className="grid gap-6">
      <InvitePerson clientId={client?.id ?? null} clientName={client?.name ?? provider.name} base={base} />
      {client === null && <DemandFactor roles={shown.roles} />}
    </div>
  );
  return <Bench docket={docket}>{main}</Bench>;
}
