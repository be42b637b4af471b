import { access, statfs } from "node:fs/promises";
import { join } from "node:path";
import Link from "next/link";
import { Fragment } from "react";
import type { BucketPlace } from "@/core/bucket";
import { type Filling as Forecast, forecastFilling, growthOf } from "@/core/consequences/filling";
import { furtherDepots } from "@/core/policy/where";
import { type DamageSummary, summariseDamage } from "@/core/protection/damages";
import type { ProtectionState } from "@/core/protection/state";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { inTurn } from "@/db/base/scope";
import { listClients } from "@/db/clients/clients";
import { absenceNow, absencesOf } from "@/db/depots/absences";
import { type Depot, listDepots, listGrants, savingsOf } from "@/db/depots/depots";
import { checksOf, damagedShares, damagesOf, pointsNamed } from "@/db/runs/checks";
import { listPolicies } from "@/db/sources/policies";
import { fillingOf } from "@/server/statements/usage";
import { DEPOT_FILE } from "@/store/packs/layout";
import {
  Absences,
  BucketKeys,
  CheckForm,
  DepotSheet,
  DepotTestButton,
  DirectWay,
  Filling,
  GrantForm,
} from "@/ui/frame/lazy";
import { Mark } from "@/ui/parts/mark";
import { Ago, clockText, dayText } from "@/ui/parts/moment";
import type { ViewInput, ViewOutput } from "./view";

/** What the disk behind a depot has free; null when it is not there, or an empty folder stands in its place. */
async function diskFree(depot: Depot): Promise<number | null> {
  if (depot.kind === "s3") return null;
  try {
    await access(join(depot.path, DEPOT_FILE));
    const disk = await statfs(depot.path);
    return disk.bavail * disk.bsize;
  } catch {
    return null;
  }
}

/** What a depot can hold: what it may, or what its disk has; null where nothing limits it. */
const limitOf = (depot: Depot & { usedBytes: number }, free: number | null): number | null =>
  depot.capacityBytes ?? (free === null ? null : depot.usedBytes + free);

const KIND_NAMES = { folder: "local folder", share: "network share", s3: "bucket" } as const;
const CHECK_WORDS = { objects: "all there", trees: "trees open", bytes: "every byte" } as const;
const FILLING_DAYS = 30;

/** What is saved from one size to the next, in a word. */
const saved = (before: number, after: number): string =>
  before > after ? `${Math.round((1 - after / before) * 100)} % saved` : "nothing saved";

/** When a depot will be full, in a sentence. */
function whenFull(forecast: Forecast | null, now: Date, zone: string): string {
  if (!forecast) return "No forecast yet: too few days of data.";
  const pace = `${formatBytes(Math.max(0, forecast.perDay))} a day`;
  if (forecast.days === null) return `At ${pace} it will not become full.`;
  const day = (days: number) => dayText(new Date(now.getTime() + days * 86_400_000), zone);
  if (forecast.days > 3650) return `At ${pace} it will not be full within ten years.`;
  const band =
    forecast.soonest !== null && forecast.latest !== null && forecast.latest < 3650
      ? `, probably between ${day(forecast.soonest)} and ${day(forecast.latest)}`
      : forecast.soonest !== null
        ? `, at the soonest on ${day(forecast.soonest)}`
        : "";
  return `At ${pace} it will be full on ${day(forecast.days)}${band}.`;
}

const PATHS_SHOWN = 6;

/** What checks found damaged of a client's share. */
function DamageFound({ client, summary, zone }: { client: string; summary: DamageSummary; zone: string }) {
  const { points, sources, reasons, paths } = summary;
  return (
    <div className="warned mb-2">
      <p className="font-semibold">
        {client}:{" "}
        {points
          ? `${counted(points, "recovery point")} ${points === 1 ? "has" : "have"} missing data`
          : "damage that touches no point"}
      </p>
      {sources.map((source) => (
        <p key={source.name}>
          {source.name}: {counted(source.points, "point")}, {clockText(source.oldest, zone)}
          {source.newest > source.oldest && ` to ${clockText(source.newest, zone)}`}
        </p>
      ))}
      <ul className="my-1 font-mono text-[12.5px]">
        {paths.slice(0, PATHS_SHOWN).map((path) => (
          <li key={path} className="truncate" title={path}>
            {path}
          </li>
        ))}
        {paths.length > PATHS_SHOWN && <li>and {paths.length - PATHS_SHOWN} more</li>}
      </ul>
      <p className="text-[13px]">
        {reasons.map(({ text, times }) => (times > 1 ? `${text} (${times} times)` : text)).join("; ")}. The
        next run of each source stores the missing data again, where the source still has it.
      </p>
    </div>
  );
}

export async function depotsView({ tx, place, ask, href, now, provider }: ViewInput): Promise<ViewOutput> {
  const grants = (await listGrants(tx)).filter(
    (grant) => !place.client || grant.clientId === place.client.id,
  );
  const depots = (await listDepots(tx)).filter(
    (depot) => !place.client || grants.some((grant) => grant.depotId === depot.id),
  );
  const clients = await listClients(tx);
  const nameOf = new Map(clients.map((client) => [client.id, client]));
  const free = new Map(
    await Promise.all(depots.map(async (depot) => [depot.id, await diskFree(depot)] as const)),
  );
  const chosen = depots.find((depot) => depot.id === ask("sel")) ?? (ask("sheet") ? undefined : depots[0]);
  const policies = await listPolicies(tx);
  const away = new Map(
    await inTurn(depots, async (depot) => [depot.id, await absenceNow(tx, depot.id, now)] as const),
  );
  const damaged = new Set(
    (await damagedShares(tx))
      .filter(({ clientId }) => !place.client || clientId === place.client.id)
      .map(({ depotId }) => depotId),
  );
  /** How a depot stands, as a mark and in words. */
  const standing = (depot: (typeof depots)[number]): readonly [ProtectionState, string] => {
    const absence = away.get(depot.id);
    if (absence) return ["paused", `absent until ${clockText(absence.to, provider.zone)}`];
    if (depot.kind !== "s3" && free.get(depot.id) === null) return ["exposed", "not reached"];
    const share = depot.capacityBytes ? depot.usedBytes / depot.capacityBytes : 0;
    if (share >= 0.95) return ["exposed", "full"];
    if (damaged.has(depot.id)) return ["slipping", "damage found"];
    return share >= 0.9 ? ["slipping", "filling"] : ["kept", "fits"];
  };
  const main = (
    <>
      <div className="head-line">
        <h1 className="text-[15px] font-bold">Depots</h1>
        <span className="text-soft">
          storage for recovery points{place.client ? ` for ${place.client.name}` : ""}
        </span>
        {!place.client && (
          <Link className="btn btn-primary ml-auto" href={href({ sheet: "depot", sel: undefined })}>
            Add depot…
          </Link>
        )}
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <ul>
          {depots.map((depot) => {
            const own = grants.filter((grant) => grant.depotId === depot.id);
            const limit = limitOf(depot, free.get(depot.id) ?? null);
            const share = limit ? depot.usedBytes / limit : 0;
            const [state, words] = standing(depot);
            return (
              <li key={depot.id}>
                <Link
                  href={href({ sel: depot.id, sheet: undefined })}
                  data-row
                  scroll={false}
                  aria-current={depot.id === chosen?.id}
                  className="row grid grid-cols-[14px_minmax(180px,1fr)_minmax(180px,1fr)_220px] items-center gap-x-4"
                >
                  <Mark state={state} label={words} />
                  <span className="min-w-0">
                    <span className="block font-semibold">{depot.name}</span>
                    <span className="text-soft block truncate font-mono text-[12.5px]">{depot.path}</span>
                  </span>
                  <span className="text-soft truncate">
                    {state !== "kept" && `${words} · `}
                    {own.map((grant) => nameOf.get(grant.clientId)?.name).join(", ") || "no grants"}
                  </span>
                  <span>
                    {formatBytes(depot.usedBytes)} {limit ? `of ${formatBytes(limit)}` : "used"}
                    <span className="thin-bar mt-1 block">
                      <i
                        style={{
                          width: `${Math.min(100, share * 100)}%`,
                          background:
                            state === "exposed"
                              ? "var(--vermilion)"
                              : state === "slipping"
                                ? "var(--brass)"
                                : "var(--color-primary)",
                        }}
                      />
                    </span>
                  </span>
                </Link>
              </li>
            );
          })}
        </ul>
        {depots.length === 0 && (
          <div className="p-4">
            <p className="mb-3">
              {place.client
                ? `No depot is granted to ${place.client.name} yet.`
                : "No depots yet. A folder on a separate disk is enough to start."}
            </p>
            <Link className="btn btn-primary" href={place.client ? "/all/depots" : href({ sheet: "depot" })}>
              {place.client ? "Grant one…" : "Add depot…"}
            </Link>
          </div>
        )}
      </div>
    </>
  );
  if (ask("sheet") === "depot") return { main, docket: <DepotSheet /> };
  if (!chosen)
    return {
      main,
      docket: <p className="text-soft">Select a depot to see its usage, grants and tests.</p>,
    };
  const own = grants.filter((grant) => grant.depotId === chosen.id);
  const users = policies.filter(
    (policy) =>
      policy.clauses.where &&
      [policy.clauses.where.depotId, ...furtherDepots(policy.clauses.where)].includes(chosen.id) &&
      (!place.client || policy.clientId === place.client.id),
  );
  const limit = limitOf(chosen, free.get(chosen.id) ?? null);
  const usedHere = place.client ? (own[0]?.usedBytes ?? 0) : chosen.usedBytes;
  const limitHere = place.client ? (own[0]?.quotaBytes ?? null) : limit;
  const days = await fillingOf(tx, chosen.id, place.client?.id ?? null, usedHere, FILLING_DAYS, now);
  // today is not over
  const forecast = forecastFilling(growthOf(days.slice(0, -1)), usedHere, limitHere);
  const savings = await savingsOf(tx, chosen.id, place.client?.id ?? null);
  const absences = await absencesOf(tx, chosen.id, now);
  const checks = await checksOf(tx, chosen.id, place.client?.id ?? null, 6);
  const damages = await inTurn(own, async (grant) => {
    const found = await damagesOf(tx, grant.spaceId);
    const ids = new Set(found.flatMap(({ touches }) => touches.map(({ pointId }) => pointId)));
    const points = ids.size ? await pointsNamed(tx, [...ids]) : [];
    const summary = summariseDamage(found, new Map(points.map((point) => [point.id, point])));
    return { clientId: grant.clientId, name: nameOf.get(grant.clientId)?.name ?? "", summary };
  });
  const docket = (
    <div className="grid gap-5">
      <h2 className="flex items-center gap-2 pr-7 text-[17px]">
        <Mark state={standing(chosen)[0]} label={standing(chosen)[1]} /> {chosen.name}
      </h2>
      <dl className="facts">
        <dt>Kind</dt>
        <dd>{KIND_NAMES[chosen.kind]}</dd>
        <dt>{chosen.kind === "s3" ? "Address" : "Path"}</dt>
        <dd className="font-mono text-[12.5px] [overflow-wrap:anywhere]">
          {chosen.path.split("/").map((name, i) => (
            // a path is parted where a name begins, where it does not fit
            // biome-ignore lint/suspicious/noArrayIndexKey: the parts of one text
            <Fragment key={i}>
              {i > 0 && "/"}
              <wbr />
              {name}
            </Fragment>
          ))}
        </dd>
        <dt>Region</dt>
        <dd>{chosen.region}</dd>
        <dt>Used</dt>
        <dd>
          {formatBytes(chosen.usedBytes)}
          {chosen.capacityBytes
            ? ` of ${formatBytes(chosen.capacityBytes)} (${Math.round((chosen.usedBytes / chosen.capacityBytes) * 100)} %)`
            : ""}
        </dd>
        {chosen.kind !== "s3" && (
          <>
            <dt>Disk</dt>
            <dd>
              {free.get(chosen.id) === null ? "not reached" : `${formatBytes(free.get(chosen.id)!)} free`}
            </dd>
          </>
        )}
      </dl>
      <Filling
        days={days}
        forecast={forecast}
        used={usedHere}
        limit={limitHere}
        fullText={whenFull(forecast, now, provider.zone)}
      />
      {savings && savings.stored > 0 && (
        <section>
          <h3 className="part-title mb-1">Space savings</h3>
          <dl className="facts">
            <dt>Points show</dt>
            <dd>{formatBytes(savings.shown)} together</dd>
            <dt>Stored once</dt>
            <dd>
              {formatBytes(savings.once)}{" "}
              <span className="text-soft">
                {saved(savings.shown, savings.once)} by keeping each chunk once
              </span>
            </dd>
            <dt>Compressed</dt>
            <dd>
              {formatBytes(savings.stored)}{" "}
              <span className="text-soft">{saved(savings.once, savings.stored)} by compression</span>
            </dd>
          </dl>
        </section>
      )}
      <section>
        <h3 className="part-title mb-1">Grants</h3>
        <table className="grid-table">
          <thead>
            <tr>
              <th scope="col">Client</th>
              <th scope="col" className="num">
                Used
              </th>
              <th scope="col" className="num">
                Quota
              </th>
              <th scope="col" className="num">
                Lock
              </th>
            </tr>
          </thead>
          <tbody>
            {own.map((grant) => (
              <tr key={grant.clientId}>
                <td>{nameOf.get(grant.clientId)?.name}</td>
                <td className="num">{formatBytes(grant.usedBytes)}</td>
                <td className="num">{formatBytes(grant.quotaBytes)}</td>
                <td className="num">{grant.lockDays ? counted(grant.lockDays, "day") : "none"}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {own.length === 0 && <p className="text-soft">Not granted to any client yet.</p>}
      </section>
      <section>
        <h3 className="part-title mb-2">Grant, or change quota and lock</h3>
        <GrantForm
          depotId={chosen.id}
          clients={clients
            .filter((client) => !place.client || client.id === place.client.id)
            .map(({ id, name }) => ({
              id,
              name,
              quotaBytes: own.find((grant) => grant.clientId === id)?.quotaBytes ?? null,
              lockDays: own.find((grant) => grant.clientId === id)?.lockDays ?? 0,
            }))}
        />
      </section>
      {users.length > 0 && (
        <section>
          <h3 className="part-title mb-1">Policies using this depot</h3>
          <ul>
            {users.map((policy) => (
              <li key={policy.id}>
                <Link
                  className="text-primary underline"
                  href={`/c/${nameOf.get(policy.clientId)?.slug}/policies?sel=${policy.id}`}
                >
                  {policy.name}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
      {chosen.kind === "s3" && (
        <section>
          <h3 className="part-title mb-1">Credentials</h3>
          <BucketKeys
            key={chosen.id}
            depotId={chosen.id}
            accessKeyId={(chosen.settings as BucketPlace).accessKeyId}
          />
        </section>
      )}
      <section>
        <h3 className="part-title mb-1">Direct access</h3>
        <DirectWay key={chosen.id} depotId={chosen.id} kind={chosen.kind} direct={chosen.direct} />
      </section>
      <section>
        <h3 className="part-title mb-1">Planned absences</h3>
        <Absences
          key={chosen.id}
          depotId={chosen.id}
          zone={provider.zone}
          absences={absences.map((absence) => ({
            id: absence.id,
            text: `${clockText(absence.from, provider.zone)} to ${clockText(absence.to, provider.zone)}`,
            note: absence.note,
          }))}
        />
      </section>
      <section>
        <h3 className="part-title mb-1">Checks</h3>
        {damages
          .filter(({ summary }) => summary.reasons.length > 0)
          .map(({ clientId, name, summary }) => (
            <DamageFound key={clientId} client={name} summary={summary} zone={provider.zone} />
          ))}
        <ul className="mb-3">
          {checks.map((check) => (
            <li key={check.id} className="border-line flex items-center gap-2 border-b py-[5px]">
              <Mark
                state={
                  check.outcome === null
                    ? check.startedAt
                      ? "running"
                      : "due"
                    : check.outcome === "clean"
                      ? "clean"
                      : "failed"
                }
                label={check.outcome ?? "going on"}
              />
              <span className="min-w-0 flex-1 truncate" title={check.message ?? undefined}>
                {check.clientName}: {CHECK_WORDS[check.depth]}
                {check.outcome === null && check.figures.ofPacks
                  ? `, ${check.figures.packs} of ${check.figures.ofPacks} packs`
                  : ""}
                {check.outcome === "damage" && ", damage found"}
                {check.outcome === "failed" && `, ${check.message}`}
              </span>
              <span className="text-soft text-[13px] whitespace-nowrap">
                <Ago moment={check.endedAt ?? check.requestedAt} now={now} zone={provider.zone} />
              </span>
            </li>
          ))}
          {checks.length === 0 && <li className="text-soft">Not checked yet. A check runs every day.</li>}
        </ul>
        <CheckForm
          key={chosen.id}
          depotId={chosen.id}
          clients={own.map((grant) => ({
            id: grant.clientId,
            name: nameOf.get(grant.clientId)?.name ?? "",
          }))}
        />
      </section>
      <section>
        <h3 className="part-title mb-2">Test</h3>
        <DepotTestButton key={chosen.id} depotId={chosen.id} />
      </section>
    </div>
  );
  return { main, docket };
}
