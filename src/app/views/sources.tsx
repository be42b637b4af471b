import Link from "next/link";
import { Fragment } from "react";
import { CODES } from "@/core/codes";
import { drillSentence } from "@/core/drill/drill";
import { baseOf } from "@/core/places";
import { CLAUSE_TITLES } from "@/core/policy/cascade";
import { encryptionSentence } from "@/core/policy/clauses";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import type { Tx } from "@/db/base/scope";
import { listClients, listSites } from "@/db/clients/clients";
import { placesOfSource } from "@/db/points/copies";
import { holdsOf } from "@/db/points/holds";
import { pointsOf } from "@/db/points/points";
import { lastDrill } from "@/db/runs/drills";
import { openRuns, pastRuns } from "@/db/runs/runs";
import { type Connection, connectionById } from "@/db/sources/connections";
import { type Machine, machineById } from "@/db/sources/machines";
import { listPolicies, policyById } from "@/db/sources/policies";
import { type SourceStanding, sourceById, sourceStandings, standingsPage } from "@/db/sources/sources";
import { KINDS } from "@/kinds";
import { isGranted, settingFacts } from "@/kinds/settings";
import { keptTogether, whyKept } from "@/server/inside/kept";
import { sentencesOf } from "@/server/policies/policy-saving";
import {
  ClientSheet,
  ConnectionActions,
  ConnectSheet,
  Depth,
  Holds,
  RestoreDropped,
  SourceTable,
} from "@/ui/frame/lazy";
import { BackUpButton, DrillButton, PauseButton, PolicyChoice, RemoveConnection } from "@/ui/parts/actions";
import { Mark } from "@/ui/parts/mark";
import { Ago, Clock, clockText } from "@/ui/parts/moment";
import { Tags } from "@/ui/parts/tags";
import { DeleteSource } from "@/ui/sources/delete-source";
import type { ViewInput, ViewOutput } from "./view";

/** So many sources are on the page; more of them are found by typing. */
const PAGE = 300;

export async function sourcesView(input: ViewInput): Promise<ViewOutput> {
  const { tx, place, now, provider, ask, href } = input;
  const text = ask("q")?.trim().slice(0, 100) ?? "";
  const { sources, fitting } = await standingsPage(tx, place.filter, now, text, PAGE);
  const zone = place.client?.zone ?? provider.zone;
  const wanted = ask("sel");
  const chosen = place.source
    ? sources[0]
    : wanted && /^[0-9a-f-]{36}$/.test(wanted)
      ? (sources.find((source) => source.id === wanted) ??
        (await sourceStandings(tx, { ...place.filter, sourceId: wanted }, now))[0])
      : sources[0];
  const sheet = ask("sheet");
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">
          {place.source?.name ?? place.site?.name ?? place.client?.name ?? "All sources"}
        </h1>
        <span className="text-soft">
          {counted(fitting, "source")}
          {text && `, with “${text}”`}
          {place.client && `, ${place.client.zone}, data in ${place.client.region}`}
        </span>
        <span className="ml-auto flex gap-2">
          {!place.client && (
            <Link className="btn btn-plain" href={href({ sheet: "client", sel: undefined })}>
              Add client…
            </Link>
          )}
          <Link className="btn btn-primary" href={href({ sheet: "connect", sel: undefined })}>
            Connect…
          </Link>
        </span>
      </div>
      <SourceTable
        now={now}
        zone={zone}
        withClient={!place.client}
        found={{ text, fitting }}
        shown={sheet ? null : (chosen?.id ?? null)}
        sources={sources.map((source) => ({
          id: source.id,
          name: source.name,
          client: source.clientName,
          site: source.siteName,
          state: source.state,
          policy: source.policyName,
          newest: source.newestPoint,
          targetHours: source.targetHours,
          bytes: source.bytes,
          perDay: source.addedPerDay,
          next: source.paused ? null : source.nextDueAt,
          gone: source.gone,
          kind: source.kind,
          connection: source.machineName ?? source.connectionName,
        }))}
      />
    </>
  );
  return { main, docket: await docketOf(input, chosen, sheet, zone) };
}

async function docketOf(
  { tx, place, now, provider }: ViewInput,
  chosen: SourceStanding | undefined,
  sheet: string | undefined,
  zone: string,
) {
  if (sheet === "client")
    return <ClientSheet zones={Intl.supportedValuesOf("timeZone")} zone={provider.zone} />;
  if (sheet === "connect") {
    const sites = await listSites(tx);
    const clients = (await listClients(tx))
      .filter((client) => !place.client || client.id === place.client.id)
      .map(({ id, slug, name }) => ({
        id,
        slug,
        name,
        sites: sites
          .filter((site) => site.clientId === id && (!place.site || place.site.id === site.id))
          .map((site) => ({ id: site.id, name: site.name })),
      }));
    return <ConnectSheet clients={clients} />;
  }
  if (!chosen) {
    return <p className="text-soft">Recovery points, runs and rules of a source are shown here.</p>;
  }
  return sourceDocket(tx, chosen, now, zone, sheet === "secret");
}

/** So many reasons why points stay are shown; the others stand beside their points in Restore. */
const TOGETHER_SHOWN = 8;

const LEVEL_WORDS = {
  provider: "the provider,",
  client: "the client,",
  site: "the site",
  group: "the policy",
  source: "this source alone:",
} as const;

async function sourceDocket(tx: Tx, source: SourceStanding, now: Date, zone: string, renew: boolean) {
  const machine = source.machineId ? await machineById(tx, source.machineId) : null;
  const connection = source.connectionId ? await connectionById(tx, source.connectionId) : null;
  const policy = source.policyId ? await policyById(tx, source.policyId) : null;
  const policies = await listPolicies(tx, source.clientId);
  const points = await pointsOf(tx, source.id);
  const inGrace = points.filter((point) => point.droppedAt);
  const holds = await holdsOf(tx, source.id);
  /** Of which point alone a hold is. */
  const pointMoment = (id: Buffer | null): string | null => {
    const point = id && points.find((one) => one.id.equals(id));
    return point ? clockText(point.moment, zone) : null;
  };
  const runs = [
    ...(await openRuns(tx, { sourceId: source.id })),
    ...(await pastRuns(tx, { sourceId: source.id, limit: 6 })),
  ];
  const clientBase = baseOf(source.clientSlug);
  const base = baseOf(source.clientSlug, source.siteSlug, source.name);
  const withRules = (await sourceById(tx, source.id))!;
  const { rules, origins } = withRules;
  const together = keptTogether(points, await whyKept(tx, withRules, now, points));
  const sentences = await sentencesOf(tx, rules ?? {});
  // where all clauses have one origin, the choice above names it already
  const oneOrigin = new Set(Object.values(origins).map((origin) => origin.layerId)).size === 1;
  const keyState = source.keyDestroyed
    ? "destroyed"
    : source.keyConfirmed
      ? (source.keyHolding ?? "none")
      : "not confirmed";
  const places = await placesOfSource(tx, source.id);
  const drill = await lastDrill(tx, source.id);
  return (
    <div className="grid gap-5">
      <div>
        <h2 className="flex items-center gap-2 pr-7 text-[17px]">
          <Mark state={source.state} /> {source.name}
        </h2>
        <p className="text-soft">
          {source.clientName} › {source.siteName} · {source.state}
        </p>
      </div>
      <div className="flex flex-wrap gap-2">
        {!source.gone && <BackUpButton sourceId={source.id} />}
        <Link className="btn btn-plain" data-key="r" href={`${base}/restore`}>
          Restore from here
        </Link>
        {!source.gone && <PauseButton sourceId={source.id} paused={source.paused} />}
      </div>
      <Depth
        points={points.map((point) => ({
          id: point.id.toString("hex"),
          moment: point.moment,
          addedBytes: point.addedBytes,
          files: point.files,
          purgeAfter: point.purgeAfter,
        }))}
        now={now}
        zone={zone}
      />
      <section>
        <h3 className="part-title mb-1">Rules in force</h3>
        <PolicyChoice
          sourceId={source.id}
          policyId={source.policyId}
          base={clientBase}
          policies={policies.map(({ id, name }) => ({ id, name }))}
        />
        <dl className="facts mt-2">
          {sentences.map(({ clause, text }) => (
            <div key={clause} className="contents">
              <dt>{CLAUSE_TITLES[clause]}</dt>
              <dd>
                {text}
                {!oneOrigin && origins[clause] && (
                  <span className="text-soft block text-[13px]">
                    from {LEVEL_WORDS[origins[clause].level]} {origins[clause].name}
                    {origins[clause].pinned ? ", pinned" : ""}
                  </span>
                )}
              </dd>
            </div>
          ))}
          <dt>Encryption</dt>
          <dd>{encryptionSentence(keyState)}</dd>
        </dl>
        {policy && !rules && (
          <p className="warned mt-2">
            A clause is missing at every level, so there are no runs. Complete the policy.
          </p>
        )}
        {source.policyId && (
          <Link
            className="text-primary text-[13px] underline"
            href={`${clientBase}/policies?sel=source:${source.id}`}
          >
            Override a clause for this source
          </Link>
        )}
        <Tags key={source.tags.join()} sourceId={source.id} tags={source.tags} />
      </section>
      {places.length > 0 && (
        <section>
          <h3 className="part-title mb-1">Depots</h3>
          <table className="grid-table">
            <thead>
              <tr>
                <th scope="col">Depot</th>
                <th scope="col" className="num">
                  Points
                </th>
                <th scope="col">Newest</th>
              </tr>
            </thead>
            <tbody>
              {places.map((one) => (
                <tr key={one.depotName}>
                  <td>{one.depotName}</td>
                  <td className="num">{one.points}</td>
                  <td>
                    <Ago moment={one.newest} now={now} zone={zone} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      {together.length > 0 && (
        <section>
          <h3 className="part-title mb-1">Retention</h3>
          <dl className="facts text-[13px]" style={{ gridTemplateColumns: "126px minmax(0, 1fr)" }}>
            {together.slice(0, TOGETHER_SHOWN).map(({ why, points, newest, oldest }) => (
              <div key={newest.getTime()} className="contents">
                <dt>
                  <Clock moment={newest} zone={zone} />
                </dt>
                <dd>
                  {why}
                  {points > 1 && (
                    <>
                      , and so {counted(points - 1, "other")} back to <Clock moment={oldest} zone={zone} />
                    </>
                  )}
                </dd>
              </div>
            ))}
          </dl>
          {together.length > TOGETHER_SHOWN && (
            <Link className="text-primary text-[13px] underline" href={`${base}/restore`}>
              and {together.length - TOGETHER_SHOWN} more, each beside its point in Restore
            </Link>
          )}
        </section>
      )}
      {points.length > inGrace.length && (
        <section>
          <h3 className="part-title mb-1">Drills</h3>
          <p className="mb-2">
            {drill ? (
              <>
                <Mark state={drill.outcome} /> Drill of <Clock moment={drill.at} zone={zone} />:{" "}
                {drill.figures.moment
                  ? drillSentence(drill.figures)
                  : drill.code
                    ? CODES[drill.code].title
                    : "it did not finish"}
                .{" "}
                <Link className="text-primary underline" href={`${clientBase}/runs?sel=${drill.runId}`}>
                  Its run
                </Link>
              </>
            ) : (
              "No drill yet. Restores of this source are unproven."
            )}
          </p>
          <DrillButton sourceId={source.id} />
        </section>
      )}
      {inGrace.length > 0 && (
        <section>
          <h3 className="part-title mb-1">Dropped, in the grace period</h3>
          <ul>
            {inGrace.slice(0, 5).map((point) => (
              <li
                key={point.id.toString("hex")}
                className="border-line flex items-center gap-3 border-b py-[5px]"
              >
                <span className="flex-1">
                  <Clock moment={point.moment} zone={zone} />
                  <span className="text-soft block text-[13px]">
                    {point.dropReason}; purged <Ago moment={point.purgeAfter} now={now} zone={zone} />
                  </span>
                </span>
                <RestoreDropped pointId={point.id.toString("hex")} />
              </li>
            ))}
          </ul>
          {inGrace.length > 5 && <p className="text-soft pt-1">and {inGrace.length - 5} more</p>}
        </section>
      )}
      <section>
        <h3 className="part-title mb-1">Holds</h3>
        <Holds
          sourceId={source.id}
          holds={holds.map((hold) => ({
            id: hold.id,
            reason: hold.reason,
            point: pointMoment(hold.pointId),
            by: hold.placedBy,
            since: clockText(hold.placedAt, zone),
          }))}
        />
      </section>
      <DeleteSource key={source.id} sourceId={source.id} name={source.name} />
      <section>
        <h3 className="part-title mb-1">Last runs</h3>
        <ul>
          {runs.slice(0, 6).map((run) => (
            <li key={run.id} className="border-line flex items-center gap-2 border-b py-[5px]">
              <Mark state={run.outcome ?? (run.state === "due" ? "due" : "running")} />
              <Link className="quiet flex-1" href={`${clientBase}/runs?sel=${run.id}`}>
                {{ backup: "", restore: "Restore, ", drill: "Drill, " }[run.kind]}
                {run.outcome ?? (run.state === "due" ? "waiting" : "running")}
              </Link>
              <span className="text-soft text-[13px]">
                <Clock moment={run.startedAt ?? run.dueAt} zone={zone} />
              </span>
            </li>
          ))}
          {runs.length === 0 && <li className="text-soft">No run yet.</li>}
        </ul>
      </section>
      {machine && <MachinePart machine={machine} now={now} zone={zone} />}
      {connection && <ConnectionPart connection={connection} renew={renew} now={now} zone={zone} />}
    </div>
  );
}

function MachinePart({ machine, now, zone }: { machine: Machine; now: Date; zone: string }) {
  return (
    <section>
      <h3 className="part-title mb-1">The machine</h3>
      <dl className="facts">
        <dt>Name</dt>
        <dd>{machine.name}</dd>
        <dt>System</dt>
        <dd>{machine.system.system ?? "not reported"}</dd>
        <dt>Seen</dt>
        <dd>
          {machine.goneAt ? (
            <>
              removed <Ago moment={machine.goneAt} now={now} zone={zone} />
            </>
          ) : (
            <Ago moment={machine.seenAt} now={now} zone={zone} />
          )}
        </dd>
        {machine.system.volumes?.map((volume) => (
          <div key={volume.path} className="contents">
            <dt className="truncate font-mono text-[12.5px]">{volume.path}</dt>
            <dd>
              {formatBytes(volume.size - volume.free)} of {formatBytes(volume.size)}
            </dd>
          </div>
        ))}
      </dl>
      {!machine.goneAt && (
        <div className="mt-3">
          <RemoveConnection connectionId={machine.id} name={machine.name} kind="machine" />
        </div>
      )}
    </section>
  );
}

function ConnectionPart({
  connection,
  renew,
  now,
  zone,
}: {
  connection: Connection;
  renew: boolean;
  now: Date;
  zone: string;
}) {
  return (
    <section>
      <h3 className="part-title mb-1">{KINDS[connection.kind].connection.name}</h3>
      <dl className="facts mb-3">
        <dt>Name</dt>
        <dd>{connection.name}</dd>
        <dt>Address</dt>
        <dd className="font-mono text-[12.5px]">{connection.address}</dd>
        {settingFacts(connection.kind, connection.settings).map(({ label, value }) => (
          <Fragment key={label}>
            <dt>{label}</dt>
            <dd className="break-all">{value}</dd>
          </Fragment>
        ))}
        <dt>Last checked</dt>
        <dd>
          {connection.goneAt ? (
            <>
              removed <Ago moment={connection.goneAt} now={now} zone={zone} />
            </>
          ) : (
            <>
              <Ago moment={connection.checkedAt} now={now} zone={zone} />
              {connection.checkCode && `: ${connection.checkMessage}`}
            </>
          )}
        </dd>
      </dl>
      {!connection.goneAt && (
        <div className="grid gap-3">
          <ConnectionActions
            key={connection.id}
            connectionId={connection.id}
            open={renew}
            granted={isGranted(connection.settings)}
          />
          <div>
            <RemoveConnection
              connectionId={connection.id}
              name={connection.name}
              kind={KINDS[connection.kind].connection.name.toLowerCase()}
            />
          </div>
        </div>
      )}
    </section>
  );
}
