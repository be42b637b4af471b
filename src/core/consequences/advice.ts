import type { Clauses } from "../policy/clauses";
import { isInterval, parseRule } from "../schedule/rule";
import { formatBytes } from "../units/bytes";
import { counted } from "../units/duration";
import type { ClientFacts, DepotFacts, SourceFacts, SpaceAt } from "./facts";

/** Known mistakes, by a name that stays when the words change: it is what is set aside. */
export const ADVICE_KEYS = [
  "nothing-runs",
  "target-not-met",
  "one-point",
  "dropped-too-soon",
  "one-place",
  "same-house",
  "system-volume",
  "region-differs",
  "over-quota",
  "runs-too-close",
  "window-too-short",
  "weekends-left-out",
  "key-not-confirmed",
  "working-folder",
] as const;
export type AdviceKey = (typeof ADVICE_KEYS)[number];
export interface Advice {
  readonly key: AdviceKey;
  readonly text: string;
}

export interface AdviceInput {
  readonly clauses: Partial<Clauses>;
  readonly client: ClientFacts | null;
  readonly sources: readonly SourceFacts[];
  readonly depots: readonly DepotFacts[];
  /** The longest pause between runs in hours; null: none by itself. */
  readonly pause: number | null;
  /** The least time that a run has, in minutes; null: no end. */
  readonly windowMinutes: number | null;
  /** What the sources take up now, and later, in each depot. */
  readonly spaceNow: number;
  readonly space: readonly SpaceAt[] | null;
}

const hoursWords = (hours: number): string =>
  hours < 1 ? `${Math.round(hours * 60)} minutes` : `${+hours.toFixed(1)} hours`;
const some = (names: readonly string[]): string =>
  names.length > 3 ? `${names.slice(0, 2).join(", ")} and ${names.length - 2} more` : names.join(", ");

/** What practice advises against in a set of clauses; each a sentence that says why. */
export function adviceOn(input: AdviceInput): Advice[] {
  return [...onWhen(input), ...onHowLong(input), ...onWhere(input), ...onKey(input), ...onAgents(input)];
}

function* onWhen({ clauses, sources, pause, windowMinutes }: AdviceInput): Generator<Advice> {
  const { when } = clauses;
  if (!when) return;
  if (pause === null && !when.after)
    yield {
      key: "nothing-runs",
      text: "No schedule: every recovery point must be requested by a person.",
    };
  if (pause !== null && pause > when.targetHours)
    yield {
      key: "target-not-met",
      text: `The schedule cannot meet the target: up to ${hoursWords(pause)} pass between two runs, and ${hoursWords(when.targetHours)} were promised.`,
    };
  const steps = when.schedules.map(({ rule }) => parseRule(rule)).filter(isInterval);
  const step = Math.min(...steps.map((rule) => rule.interval * (rule.frequency === "HOURLY" ? 60 : 1)));
  const slow = sources.filter((source) => (source.usualMinutes ?? 0) > step);
  if (slow.length)
    yield {
      key: "runs-too-close",
      text: `Runs are due every ${step} minutes but usually take longer for ${some(slow.map((source) => source.name))}; the next run waits for the previous one.`,
    };
  const cut =
    windowMinutes === null ? [] : sources.filter((source) => (source.longMinutes ?? 0) > windowMinutes);
  if (cut.length)
    yield {
      key: "window-too-short",
      text: `A run has ${hoursWords(windowMinutes! / 60)} at most, and last month's took longer for ${some(cut.map((source) => source.name))}; such a run stops and the next one continues.`,
    };
  const workingDaysOnly =
    when.schedules.length > 0 &&
    when.schedules.every(({ rule }) => {
      const { days } = parseRule(rule);
      return days.length > 0 && days.every(({ day }) => day <= 5);
    });
  if (workingDaysOnly) {
    const busy = sources.filter(worksAtWeekends);
    if (busy.length)
      yield {
        key: "weekends-left-out",
        text: `Runs take place on working days only, but ${counted(busy.length, "source")} changed at weekends: ${some(busy.map((source) => source.name))}.`,
      };
  }
}

/** Changes seen on weekends, or Mondays that bring far more than a usual day: work of two days came together. */
const worksAtWeekends = (source: SourceFacts): boolean => {
  const mean = source.addedMean ?? 0;
  if (mean <= 0) return false;
  if (source.addedWeekend !== null) return source.addedWeekend > mean * 0.3;
  return source.addedMonday !== null && source.addedMonday > mean * 2;
};

function* onHowLong({ clauses, pause }: AdviceInput): Generator<Advice> {
  const { howLong } = clauses;
  if (!howLong) return;
  if ((howLong.kind === "last" || howLong.kind === "first-of") && howLong.count === 1)
    yield { key: "one-point", text: "With a single recovery point, a file damaged yesterday is lost today." };
  if (howLong.kind === "days" && pause !== null && howLong.days * 24 < pause)
    yield {
      key: "dropped-too-soon",
      text: "Points are dropped before the next one exists; only the newest is ever kept.",
    };
}

function* onWhere({ clauses, client, depots, space, spaceNow }: AdviceInput): Generator<Advice> {
  const { where } = clauses;
  if (!where) return;
  const named = [where.depotId, ...where.beside, ...where.carryTo].flatMap(
    (id) => depots.find((depot) => depot.id === id) ?? [],
  );
  const [first, ...further] = named;
  if (!first) return;
  if (further.length === 0)
    yield {
      key: "one-place",
      text: `All copies are in ${first.name}. A fire or theft there would destroy them all. Add a second depot.`,
    };
  else if (further.every((depot) => depot.house === first.house))
    yield {
      key: "same-house",
      text: `${some(further.map((depot) => depot.name))} and ${first.name} are on the same disk or at the same address. One failure would affect both.`,
    };
  for (const depot of named)
    if (depot.onSystemVolume)
      yield {
        key: "system-volume",
        text: `${depot.name} is on the console's system volume. If it fills up, the machine stops. Use a separate disk.`,
      };
  for (const depot of named)
    if (client && depot.region !== client.region)
      yield {
        key: "region-differs",
        text: `${depot.name} is in “${depot.region}”; the client's data belongs into “${client.region}”.`,
      };
  for (const depot of named) {
    if (!space || depot.quotaBytes === null) continue;
    const over = space.find(({ mid }) => depot.usedBytes + mid - spaceNow > depot.quotaBytes!);
    if (over)
      yield {
        key: "over-quota",
        text: `Within ${over.days} days this passes the quota in ${depot.name}: about ${formatBytes(depot.usedBytes + over.mid - spaceNow)} of ${formatBytes(depot.quotaBytes)}.`,
      };
  }
}
function* onKey({ client }: AdviceInput): Generator<Advice> {
  if (client && !client.keyConfirmed)
    yield {
      key: "key-not-confirmed",
      text: "The client's key sheet is not confirmed: no run starts until somebody has printed it and entered a part of it.",
    };
}

/** What lies behind a network; all that are mounted through FUSE do, but for those that merely show a disk. */
const FAR = /^(nfs\d?|cifs|smb\d?|9p|ceph|afs|fuse\.(?!ntfs|exfat|zfs|fuse-overlayfs).+)$/;
/** With less than this free, what the agent remembers of a large source may fill a volume. */
const LITTLE_BYTES = 1024 ** 3;

function* onAgents({ sources }: AdviceInput): Generator<Advice> {
  const named = (which: (folder: NonNullable<SourceFacts["workFolder"]>) => boolean) =>
    sources.filter((source) => source.workFolder && which(source.workFolder)).map((source) => source.name);
  const far = named((folder) => FAR.test(folder.fileSystem));
  const full = named((folder) => folder.onSystemVolume && folder.free < LITTLE_BYTES);
  const said = [
    far.length
      ? `The agent's working folder is on a network drive for ${some(far)}. If the drive is unavailable, the next run reads everything again.`
      : "",
    full.length
      ? `It is on a nearly full system volume for ${some(full)}. If the volume fills up, the machine stops.`
      : "",
  ].filter(Boolean);
  if (said.length)
    yield {
      key: "working-folder",
      text: `${said.join(" ")} The agent's option --state names another folder.`,
    };
}
