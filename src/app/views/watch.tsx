import Link from "next/link";
import { CODES } from "@/core/codes";
import { baseOf } from "@/core/places";
import type { Cause } from "@/core/protection/causes";
import { type ProtectionState, STATES } from "@/core/protection/state";
import { formatBytes } from "@/core/units/bytes";
import { counted } from "@/core/units/duration";
import { openConsents } from "@/db/access/consents";
import type { Tx } from "@/db/base/scope";
import { listDepots } from "@/db/depots/depots";
import { runRow } from "@/db/runs/runs";
import { standingsOf } from "@/db/sources/sources";
import { newestHandover, setAsides } from "@/db/sources/watch-notes";
import { computeStanding, type Standing } from "@/server/statements/standing";
import { ConsentLine } from "@/ui/clients/consents";
import { shownConsent } from "@/ui/clients/shown-consent";
import { Nights } from "@/ui/drawings/nights";
import { BackUpButton, BackUpEach, DrillButton, LiftAlarm } from "@/ui/parts/actions";
import { Mark } from "@/ui/parts/mark";
import { Ago, Clock, clockText } from "@/ui/parts/moment";
import { Handover, SetAside, SetAsides } from "@/ui/sources/watch-notes";
import type { ViewInput, ViewOutput } from "./view";

const SHOWN: readonly ProtectionState[] = ["kept", "slipping", "exposed", "never kept", "paused"];

export async function watchView({
  tx,
  place,
  now,
  provider,
  person,
  ask,
  href,
}: ViewInput): Promise<ViewOutput> {
  const standing = await computeStanding(tx, place.filter, now);
  const only = STATES.find((state) => state === ask("state"));
  const asides = await setAsides(tx, now);
  const aside = asides.filter((one) => standing.causes.some((cause) => cause.key === one.key));
  const inState = new Set(
    standing.sources.filter((source) => source.state === only).map((source) => source.id),
  );
  const causes = standing.causes.filter(
    (cause) =>
      !aside.some((one) => one.key === cause.key) && (!only || cause.sourceIds.some((id) => inState.has(id))),
  );
  const chosen = [...causes, ...standing.causes].find((cause) => cause.key === ask("sel")) ?? causes[0];
  const handover = await newestHandover(tx);
  const consents = await openConsents(tx, place.client?.id ?? null, now);
  const touched = new Set(causes.flatMap((cause) => cause.sourceIds));
  const main = (
    <>
      <div className="head-line whitespace-nowrap !gap-[2px]">
        <Link
          href={href({ state: undefined })}
          className={`rounded-[3px] px-[9px] py-[4px] ${only ? "" : "bg-verdigris-soft"}`}
        >
          <b>{standing.total}</b> {standing.total === 1 ? "source" : "sources"}
        </Link>
        {SHOWN.map((state) => (
          <Link
            key={state}
            href={href({ state: only === state ? undefined : state })}
            className={`flex items-center gap-[6px] rounded-[3px] px-[7px] py-[4px] ${only === state ? "bg-selected" : ""}`}
            aria-current={only === state}
          >
            <Mark state={state} />
            <span>
              <b>{standing.counts[state]}</b> {state}
            </span>
          </Link>
        ))}
        <span className="text-soft ml-auto pl-2 text-[13px]">
          as of {clockText(standing.at, provider.zone).slice(-5)} · last night{" "}
          {counted(standing.lastNight.runs, "run")}, {standing.lastNight.clean} clean
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto" tabIndex={0}>
        <div className="flex items-baseline gap-3 px-[14px] pt-[10px] pb-[6px]">
          <h2 className="part-title">Needs you</h2>
          <span className="text-soft text-[13px]">
            {causes.length ? `${counted(causes.length, "cause")}, ${counted(touched.size, "source")}` : ""}
          </span>
        </div>
        {consents.length > 0 && (
          <div className="grid gap-2 px-[14px] pb-3">
            {consents.map((consent) => (
              <ConsentLine
                key={consent.id}
                consent={{ ...shownConsent(consent), own: consent.askedBy === person.id }}
                zone={provider.zone}
              />
            ))}
          </div>
        )}
        {causes.length === 0 && aside.length === 0 && <Quiet standing={standing} />}
        <ul>
          {causes.map((cause) => (
            <li key={cause.key}>
              <Link
                href={href({ sel: cause.key })}
                className="row flex gap-4"
                data-row
                aria-current={cause === chosen}
                scroll={false}
              >
                <Mark state={cause.state} />
                <span className="min-w-0 flex-1">
                  <span className="block text-[15px] font-semibold">{cause.title}</span>
                  <span className="text-soft block truncate text-[13px]">{cause.detail}</span>
                </span>
                <span className="text-soft text-right text-[13px] whitespace-nowrap">
                  {cause.sourceIds.length > 0 && counted(cause.sourceIds.length, "source")}
                  <br />
                  {cause.since ? <Ago moment={cause.since} now={now} zone={provider.zone} /> : ""}
                </span>
              </Link>
            </li>
          ))}
        </ul>
        <SetAsides
          asides={aside.map(({ key, title, note, setBy, until }) => ({
            key,
            title,
            note,
            setBy,
            until: clockText(until, provider.zone),
          }))}
        />
        <Handover
          note={
            handover && {
              text: handover.text,
              by: handover.writtenBy,
              at: clockText(handover.writtenAt, provider.zone),
            }
          }
        />
        <div className="px-[14px] pt-[18px] pb-[14px]">
          <Nights
            nights={standing.nights}
            rows={standing.rows.map((row) => ({
              ...row,
              name: row.clientName,
              base: baseOf(row.clientSlug),
            }))}
          />
        </div>
      </div>
    </>
  );
  return {
    main,
    docket: chosen ? (
      await causeDocket(tx, chosen, now, provider.zone)
    ) : (
      <p className="text-soft">Nothing is selected.</p>
    ),
  };
}

function Quiet({ standing }: { standing: Standing }) {
  return (
    <div className="border-line border-b px-[14px] py-6">
      <p className="text-[15px] font-semibold">
        {standing.total ? "Nothing needs you." : "Nothing is protected here yet."}
      </p>
      <p className="text-soft mb-3">
        {standing.total
          ? "Every source is kept, and every run of the night left its recovery point."
          : "Add a client, then connect its sources. Each source appears here with its state."}
      </p>
      {!standing.total && (
        <Link className="btn btn-primary" href="/all/sources?sheet=client">
          Add client…
        </Link>
      )}
    </div>
  );
}

/** What renews a connection that was refused. */
const RENEWED: Readonly<Record<string, string>> = {
  "source.signin-refused": "Enter a new secret",
  "source.grant-ended": "Authorise again",
};
/** So many of the sources that a cause touches are listed. */
const LISTED = 12;

/** What these say is about a depot, not about the last run of a source. */
const ABOUT_DEPOTS: ReadonlySet<Cause["kind"]> = new Set(["depot-full", "damage"]);

async function causeDocket(tx: Tx, cause: Cause, now: Date, zone: string) {
  const sources = await standingsOf(tx, cause.sourceIds.slice(0, LISTED), now);
  const count = cause.sourceIds.length;
  const text = cause.code ? CODES[cause.code] : null;
  const depot = cause.depotId ? (await listDepots(tx)).find((one) => one.id === cause.depotId) : null;
  const first = sources[0];
  const runId = cause.runId ?? first?.lastRunId;
  const told = runId && cause.code && !ABOUT_DEPOTS.has(cause.kind) ? await runRow(tx, runId) : null;
  const base = first ? baseOf(first.clientSlug, first.siteSlug, first.name) : "/all";
  return (
    <div className="grid gap-5">
      <h2 className="flex gap-3 pr-7 text-[17px] leading-snug">
        <span className="pt-[3px]">
          <Mark state={cause.state} />
        </span>
        {cause.title}
      </h2>
      <dl className="facts">
        {depot && (
          <>
            <dt>Depot</dt>
            <dd>
              {depot.name} <span className="font-mono text-[12.5px]">{depot.path}</span>
            </dd>
            {cause.kind === "depot-full" && (
              <>
                <dt>Used</dt>
                <dd>
                  {formatBytes(depot.usedBytes)}
                  {depot.capacityBytes ? ` of ${formatBytes(depot.capacityBytes)}` : ""}
                </dd>
              </>
            )}
          </>
        )}
        {cause.kind === "damage" && (
          <>
            <dt>Found</dt>
            <dd>{cause.detail}</dd>
          </>
        )}
        {cause.kind === "burst" && first && (
          <>
            <dt>Evidence</dt>
            <dd>{cause.detail}</dd>
            {first.burst?.beforeMoment && (
              <>
                <dt>Last good</dt>
                <dd>
                  <Clock moment={new Date(first.burst.beforeMoment)} zone={zone} />, locked for 30 days
                </dd>
              </>
            )}
            <dt>Likely cause</dt>
            <dd>A program on {first.machineName} encrypts files. Take the machine off the network first.</dd>
            <dt>Meanwhile</dt>
            <dd>Nothing of {first.name} is dropped or purged until somebody dismisses the alarm.</dd>
          </>
        )}
        {cause.kind === "no-policy" && (
          <>
            <dt>Next step</dt>
            <dd>Assign a policy. Until then the source is not backed up.</dd>
          </>
        )}
        {cause.kind === "no-next-run" && first && (
          <>
            <dt>Next step</dt>
            <dd>
              {cause.key.includes(":rules-incomplete:")
                ? "Open the policy and add the clause that is missing; until then nothing of it is protected."
                : "Open the policy and change its clause When; until then it is backed up only by hand."}
            </dd>
          </>
        )}
        {cause.kind === "messages-unsent" && (
          <>
            <dt>Last error</dt>
            <dd>{cause.detail.split(" · ").slice(1).join(" · ")}</dd>
            <dt>Next step</dt>
            <dd>Check that the mail server or webhook responds, test it, and send the messages again.</dd>
          </>
        )}
        {cause.kind === "contract-exceeded" && (
          <>
            <dt>Meanwhile</dt>
            <dd>All of them are protected.</dd>
            <dt>Next step</dt>
            <dd>
              <Link className="underline" href="/all/statements?part=usage">
                Change the contract
              </Link>{" "}
              if the client has bought more, or disconnect what the client does not need.
            </dd>
          </>
        )}
        {cause.kind === "orphan" && (
          <>
            <dt>Next step</dt>
            <dd>
              No action is required. The recovery points can be restored to another machine of the client.
            </dd>
          </>
        )}
        {told?.message && (
          <>
            <dt>Message</dt>
            <dd>{told.message}</dd>
          </>
        )}
        {text && cause.kind !== "depot-full" && (
          <>
            <dt>Likely cause</dt>
            <dd>{text.cause}</dd>
            <dt>Next step</dt>
            <dd>{text.remedy}</dd>
          </>
        )}
        {cause.kind === "depot-full" && (
          <>
            <dt>Next step</dt>
            <dd>
              Enlarge the depot, or move a client to another depot with the clause Where of its policy. Stored
              data stays restorable.
            </dd>
          </>
        )}
        {cause.since && (
          <>
            <dt>Since</dt>
            <dd>
              <Ago moment={cause.since} now={now} zone={zone} />
            </dd>
          </>
        )}
      </dl>
      <section hidden={count === 0}>
        <h3 className="part-title mb-1">Affected sources</h3>
        <ul>
          {sources.map((source) => (
            <li key={source.id} className="border-line flex items-center gap-3 border-b py-[6px]">
              <Mark state={source.state} />
              <Link
                className="quiet min-w-0 flex-1 truncate"
                href={`${baseOf(source.clientSlug)}/sources?sel=${source.id}`}
              >
                {source.name}
              </Link>
              {cause.clientNames.length > 1 && (
                <span className="text-soft min-w-0 flex-1 truncate text-[13px]">{source.clientName}</span>
              )}
              <span className="whitespace-nowrap">{formatBytes(source.bytes)}</span>
            </li>
          ))}
        </ul>
        {count > LISTED && <p className="text-soft pt-1">and {count - LISTED} more</p>}
      </section>
      <div className="flex flex-wrap gap-2">
        {depot && (
          <Link className="btn btn-primary" href={`/all/depots?sel=${depot.id}`}>
            Open the depot
          </Link>
        )}
        {cause.kind === "messages-unsent" && (
          <Link className="btn btn-primary" href="/all/runs?part=messages">
            Open the messages
          </Link>
        )}
        {first && RENEWED[cause.code ?? ""] && cause.kind === "connection-failed" && (
          <Link
            className="btn btn-primary"
            href={`${baseOf(first.clientSlug)}/sources?sel=${first.id}&sheet=secret`}
          >
            {RENEWED[cause.code ?? ""]}
          </Link>
        )}
        {first && cause.kind === "damage" && (
          <BackUpEach sourceIds={cause.sourceIds} label="Back up the missing data again" />
        )}
        {first && ["policy-change", "no-next-run"].includes(cause.kind) && first.policyId && (
          <Link
            className="btn btn-primary"
            href={`${baseOf(first.clientSlug)}/policies?sel=${first.policyId}`}
          >
            {cause.kind === "no-next-run" ? "Open the policy" : "Open the policy and its history"}
          </Link>
        )}
        {first && ["connection-failed", "depot-failed", "one-code", "policy-change"].includes(cause.kind) && (
          <BackUpEach sourceIds={cause.sourceIds} label={`Run ${count === 1 ? "it" : "all of them"} again`} />
        )}
        {first && cause.kind === "no-policy" && (
          <Link className="btn btn-primary" href={`${baseOf(first.clientSlug)}/sources?sel=${first.id}`}>
            Assign a policy
          </Link>
        )}
        {first && cause.kind === "key-not-confirmed" && (
          <Link className="btn btn-primary" href={`${baseOf(first.clientSlug)}/policies`}>
            Confirm the key
          </Link>
        )}
        {first && (cause.kind === "burst" || cause.kind === "orphan" || cause.kind === "machine-silent") && (
          <Link
            className={`btn ${cause.kind === "machine-silent" ? "btn-plain" : "btn-primary"}`}
            data-key="r"
            href={`${base}/restore${cause.kind === "burst" && first.burst?.before ? `?point=${first.burst.before}` : ""}`}
          >
            {cause.kind === "burst" ? "Restore from before the change" : "Restore from it"}
          </Link>
        )}
        {first?.burstHoldId && cause.kind === "burst" && (
          <LiftAlarm sourceId={first.id} holdId={first.burstHoldId} />
        )}
        <SetAside key={cause.key} causeKey={cause.key} />
        {first && ["run-failed", "run-caution", "target-passed"].includes(cause.kind) && !first.gone && (
          <BackUpButton sourceId={first.id} label={`Run ${first.name} again`} />
        )}
        {first && cause.kind === "drill-failed" && <DrillButton sourceId={first.id} />}
        {first && runId && (
          <Link className="btn btn-plain" href={`${baseOf(first.clientSlug)}/runs?sel=${runId}`}>
            {cause.runId ? "The drill and its log" : "Last run and its log"}
          </Link>
        )}
      </div>
    </div>
  );
}
