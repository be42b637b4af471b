import Link from "next/link";
import { type KeyState, keyStateOf } from "@/core/keysheet/wrapping";
import { baseOf } from "@/core/places";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { listPeople } from "@/db/access/people";
import { clientKey } from "@/db/clients/keys";
import { isSuspect, lastGoodMoment } from "@/db/points/holds";
import { pointsOf } from "@/db/points/points";
import { pastRuns } from "@/db/runs/runs";
import { listMachines } from "@/db/sources/machines";
import { reachableSources, sourceById, standingsPage } from "@/db/sources/sources";
import { KINDS, kindOf, restoredWords } from "@/kinds";
import { asSession } from "@/server/access/unlocked";
import { whyKept, whyWords } from "@/server/inside/kept";
import { RestoreForm } from "@/ui/frame/lazy";
import { Mark } from "@/ui/parts/mark";
import { Ago, clockText } from "@/ui/parts/moment";
import { PassphraseForm } from "@/ui/parts/passphrase-form";
import { OpenViewings } from "@/ui/restore/viewings";
import { theServices } from "../console";
import { shownViewings } from "./shown-viewings";
import type { ViewInput, ViewOutput } from "./view";

/** So many sources are listed; more are found by choosing. */
const LISTED = 300;

const KEY_WORDS: Readonly<Record<KeyState, string>> = {
  none: "no key",
  "not confirmed": "key not confirmed",
  escrow: "key in escrow",
  passphrase: "key under the client’s passphrase",
  destroyed: "key destroyed",
};

export async function restoreView({
  tx,
  place,
  now,
  provider,
  session,
  ask,
}: ViewInput): Promise<ViewOutput> {
  const { sources, fitting } = await standingsPage(tx, place.filter, now, "", LISTED);
  const zone = place.client?.zone ?? provider.zone;
  const viewings = await shownViewings(tx, place.filter, zone, now);
  if (!place.source || !sources[0]) {
    const main = (
      <>
        <div className="head-line">
          <h1 className="text-[15px] font-bold">Restore</h1>
          <span className="text-soft">
            select the source, then the recovery point, the files and the destination
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
          {viewings.length > 0 && (
            <section className="border-base-300 border-b px-4 py-3" aria-label="Open viewings">
              <h2 className="part-title mb-2">{counted(viewings.length, "viewing")} open</h2>
              <OpenViewings viewings={viewings} />
            </section>
          )}
          <ul>
            {sources.map((source) => (
              <li key={source.id}>
                <Link
                  href={`${baseOf(source.clientSlug, source.siteSlug, source.name)}/restore`}
                  data-row
                  className="row grid grid-cols-[14px_minmax(160px,1fr)_minmax(160px,1fr)_160px_100px] items-center gap-x-4 !py-[7px]"
                >
                  <Mark state={source.state} />
                  <span className="truncate font-semibold">{source.name}</span>
                  <span className="text-soft truncate">
                    {source.clientName} › {source.siteName}
                  </span>
                  <span>
                    newest <Ago moment={source.newestPoint} now={now} zone={zone} />
                  </span>
                  <span className="text-soft text-right">{counted(source.points, "point")}</span>
                </Link>
              </li>
            ))}
          </ul>
          {fitting > sources.length && (
            <p className="text-soft p-4">
              {(fitting - sources.length).toLocaleString("en-GB")} more: choose a client above, or a source by
              typing its name there.
            </p>
          )}
          {sources.length === 0 && (
            <p className="text-soft p-4">
              Nothing to restore from yet: connect a machine and let it run once.
            </p>
          )}
        </div>
      </>
    );
    return { main, docket: null };
  }
  const source = sources[0];
  const points = await pointsOf(tx, source.id);
  const alarm = await lastGoodMoment(tx, source.id);
  const why = await whyKept(tx, (await sourceById(tx, source.id))!, now, points);
  const machines = (await listMachines(tx, source.clientId)).filter((machine) => !machine.goneAt);
  const alike = source.machineId ? [] : await reachableSources(tx, source.clientId, source.kind);
  const people = [...(await listPeople(tx, source.clientId)), ...(await listPeople(tx, null))]
    .filter((person) => !person.clientIds || person.clientIds.includes(source.clientId))
    .map(({ id, name, clientId }) => ({ id, name, ours: clientId === null }));
  const lately = await pastRuns(tx, { sourceId: source.id, kind: "restore", limit: 4 });
  const words = kindOf(source.kind) ?? KINDS.files;
  const restored = restoredWords(words);
  const key = await clientKey(tx, source.clientId);
  const locked =
    key?.holding === "passphrase" &&
    key.sealed !== null &&
    (await asSession(session, () => theServices().lentKeys.keyOf(source.clientId))) === null;
  const main = (
    <>
      <div className="head-line">
        <Mark state={source.state} />
        <h1 className="text-[15px] font-bold">{source.name}</h1>
        <span className="text-soft">
          newest point <Ago moment={source.newestPoint} now={now} zone={zone} />
          {source.targetHours ? `, target ${source.targetHours} h` : ""} · {counted(points.length, "point")} ·
          encrypted, {key ? KEY_WORDS[keyStateOf(key)] : "no key"}
        </span>
      </div>
      {key?.destroyedAt ? (
        <p className="text-soft p-4">
          The key of {source.clientName} was destroyed on {clockText(key.destroyedAt, zone)}: nothing that was
          kept can be read any more.
        </p>
      ) : locked ? (
        <div className="p-4">
          <p className="mb-3 max-w-[560px]">
            {source.clientName} keeps its own key. Its recovery points open only with its passphrase. The key
            stays open in memory for your session and is discarded when you sign out.
          </p>
          <PassphraseForm clientId={source.clientId} label="Open it" />
        </div>
      ) : points.length === 0 ? (
        <p className="text-soft p-4">
          This source has no recovery point yet. Choose Back up now in Sources first.
        </p>
      ) : (
        <RestoreForm
          source={{
            id: source.id,
            name: source.name,
            kind: source.kind,
            machineId: source.gone ? null : source.machineId,
            machineName: source.machineName,
            reachable: !source.gone,
          }}
          sources={alike}
          clientName={source.clientName}
          zone={zone}
          now={now}
          startPath={ask("path") ?? "/"}
          startPoint={ask("point")}
          machines={machines.map(({ id, name, system, seenAt }) => ({
            id,
            name,
            volumes: system.volumes ?? [],
            said: seenAt ? clockText(seenAt, zone) : "its enrolment",
          }))}
          points={points.map((point) => ({
            id: point.id.toString("hex"),
            moment: point.moment,
            addedBytes: point.addedBytes,
            files: point.files,
            purgeAfter: point.purgeAfter,
            suspect: isSuspect(alarm, point.moment),
            why: whyWords(why.get(point.id.toString("hex"))),
          }))}
          lately={lately.map((run) => ({
            id: run.id,
            text: `${clockText(run.endedAt!, zone)} · ${counted(Number(run.figures.files ?? 0), restored.one, restored.many)}, ${formatBytes(Number(run.figures.bytes ?? 0))} · ${run.requestedBy ?? ""} · ${run.outcome}`,
          }))}
          runsBase={baseOf(source.clientSlug)}
          people={people}
          viewings={viewings}
        />
      )}
    </>
  );
  return { main, docket: null };
}
