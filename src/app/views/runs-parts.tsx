import { DateTime } from "luxon";
import Link from "next/link";
import type { Tx } from "@/db/base/scope";
import { clientById, listClients, listSites } from "@/db/clients/clients";
import { type ListedMessage, listMessages, listWebhooks, mailSettings } from "@/db/notices/notices";
import type { Place } from "@/server/depots/place";
import { weekOf } from "@/server/policies/load";
import { Load, MessageSheet, MessageWays } from "@/ui/frame/lazy";
import { Mark } from "@/ui/parts/mark";
import { clockText } from "@/ui/parts/moment";
import type { LimitedLink } from "@/ui/runs/link-limits";
import type { ShownMessage } from "@/ui/runs/messages";
import type { ViewInput, ViewOutput } from "./view";

/** What the view Runs shows: the runs themselves, the load of the week, the messages that told of them. */
export const RUNS_PARTS = ["runs", "load", "messages"] as const;
export type RunsPart = (typeof RUNS_PARTS)[number];

const PART_NAMES: Record<RunsPart, string> = { runs: "Runs", load: "Load", messages: "Messages" };

export function PartLinks({ part, href }: { part: RunsPart; href: ViewInput["href"] }) {
  return (
    <nav className="flex items-baseline gap-4" aria-label="Parts of Runs">
      {RUNS_PARTS.map((one) =>
        one === part ? (
          <h1 key={one} className="text-[15px] font-bold">
            {PART_NAMES[one]}
          </h1>
        ) : (
          <Link
            key={one}
            className="text-soft underline"
            href={href({
              part: one === "runs" ? undefined : one,
              sel: undefined,
              outcome: undefined,
              night: undefined,
            })}
          >
            {PART_NAMES[one]}
          </Link>
        ),
      )}
    </nav>
  );
}

async function linksOf(tx: Tx, { client }: Place): Promise<LimitedLink[]> {
  if (!client) return [];
  const sites = await listSites(tx, client.id);
  return [
    { name: client.name, path: `/clients/${client.id}/limits`, ...client.limits },
    ...sites.map((site) => ({ name: site.name, path: `/sites/${site.id}/limits`, ...site.limits })),
  ];
}

export async function loadPart({ tx, place, provider, now, href }: ViewInput): Promise<ViewOutput> {
  const { groups, depots } = await weekOf(tx, place.filter, provider.zone, now);
  const main = (
    <>
      <div className="head-line">
        <PartLinks part="load" href={href} />
      </div>
      <Load
        groups={groups}
        depots={depots}
        links={await linksOf(tx, place)}
        zone={provider.zone}
        today={DateTime.fromJSDate(now, { zone: provider.zone }).weekday - 1}
      />
    </>
  );
  return { main, docket: null };
}

const stateOf = (message: ListedMessage): ShownMessage["state"] =>
  message.sentAt ? "sent" : message.givenUpAt ? "failed" : "waits";

export async function messagesPart({ tx, place, provider, ask, href }: ViewInput): Promise<ViewOutput> {
  const zone = provider.zone;
  const [messages, webhooks, server] = [
    await listMessages(tx, place.client?.id ?? null, 100),
    await listWebhooks(tx),
    await mailSettings(tx),
  ];
  const names = new Map((await listClients(tx)).map((client) => [client.id, client.name]));
  const hookNames = new Map(webhooks.map((webhook) => [webhook.id, webhook.name]));
  const toOf = (message: ListedMessage) =>
    message.recipient.startsWith("mail:")
      ? message.recipient.slice(5)
      : (hookNames.get(message.recipient.slice(8)) ?? "a removed webhook");
  const shown = (message: ListedMessage): ShownMessage => ({
    id: message.id,
    to: toOf(message),
    subject: message.subject,
    body: message.body,
    client: (message.clientId && names.get(message.clientId)) || "",
    made: clockText(message.madeAt, zone),
    state: stateOf(message),
    error: message.error,
    attempts: message.attempts,
  });
  const chosen = messages.find((message) => message.id === ask("sel"));
  const about = place.client ? (await clientById(tx, place.client.id))?.name : "all clients";
  const main = (
    <>
      <div className="head-line">
        <PartLinks part="messages" href={href} />
        <span className="text-soft">notices and statements of {about}</span>
        <Link className="btn btn-plain ml-auto h-[28px] min-h-[28px]" href={href({ sel: undefined })}>
          Mail server and webhooks
        </Link>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {messages.map((message) => (
            <li key={message.id}>
              <Link
                href={href({ sel: message.id })}
                className="row grid grid-cols-[14px_minmax(0,1fr)_220px_118px] items-center gap-x-3 !py-[6px]"
                data-row
                aria-current={message.id === chosen?.id}
                scroll={false}
              >
                <Mark
                  state={
                    stateOf(message) === "sent" ? "clean" : stateOf(message) === "waits" ? "due" : "failed"
                  }
                  label={stateOf(message)}
                />
                <span className="truncate">{message.subject}</span>
                <span className="text-soft truncate">{toOf(message)}</span>
                <span className="text-soft text-right text-[13px] whitespace-nowrap">
                  {clockText(message.madeAt, zone)}
                </span>
              </Link>
            </li>
          ))}
        </ul>
        {messages.length === 0 && (
          <p className="text-soft p-[17px]">
            No messages yet. Recipients are set in each policy's clause Notices.
          </p>
        )}
      </div>
    </>
  );
  return {
    main,
    docket: chosen ? (
      <MessageSheet message={shown(chosen)} />
    ) : (
      <MessageWays
        mailServer={
          server && {
            host: server.host,
            port: server.port,
            security: server.security,
            username: server.username,
            sender: server.sender,
            hasPassword: server.password !== null,
          }
        }
        webhooks={webhooks.map(({ id, name, url }) => ({ id, name, url }))}
      />
    ),
  };
}
