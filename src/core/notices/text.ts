import { CODES, type Code } from "../codes";
import type { Outcome } from "../protection/state";
import { counted } from "../units/duration";
import { zoned } from "../units/zoned";

/** One cause with the sources that it touched, as it is told. */
export interface NoticeCause {
  readonly outcome: Outcome;
  readonly code: Code | null;
  readonly sources: readonly string[];
  readonly first: Date;
  readonly last: Date;
}
export interface LastingCause extends NoticeCause {
  readonly toldAt: Date;
}
export interface Told {
  readonly clientName: string;
  readonly zone: string;
  readonly causes: readonly NoticeCause[];
  /** What was told before and lasts. */
  readonly lasting: readonly LastingCause[];
}

const OUTCOME_WORDS: Record<Outcome, string> = {
  clean: "clean",
  caution: "with a caution",
  failed: "failed",
  stopped: "stopped",
  missed: "missed",
};
const SOURCES_MOST = 40;

const clock = zoned("en-GB", { dateStyle: "medium", timeStyle: "short" });
const day = zoned("en-GB", { dateStyle: "medium" });

const title = ({ outcome, code }: NoticeCause): string =>
  code
    ? CODES[code].title
    : outcome === "clean"
      ? "Runs ended clean"
      : `A run ended: ${OUTCOME_WORDS[outcome]}`;

/** The line that a reader sees first. */
export function noticeSubject({ clientName, causes }: Told): string {
  const [only] = causes;
  if (causes.length === 1 && only) {
    const of = only.sources.length === 1 ? only.sources[0] : counted(only.sources.length, "source");
    return `${clientName}: ${title(only)} (${of})`;
  }
  const bad = causes.filter((cause) => cause.outcome !== "clean").length;
  return bad === 0
    ? `${clientName}: all clean since yesterday`
    : `${clientName}: ${counted(bad, "cause")} since yesterday`;
}

const namesOf = ({ sources }: NoticeCause): string =>
  sources.slice(0, SOURCES_MOST).join(", ") +
  (sources.length > SOURCES_MOST ? ` and ${sources.length - SOURCES_MOST} more` : "");

/** The whole message as plain text: what, why, what now, and which sources; then, a line each, what lasts. */
export function noticeText({ clientName, zone, causes, lasting }: Told): string {
  const worst = ["failed", "missed", "caution", "stopped", "clean"];
  const ordered = [...causes].sort((a, b) => worst.indexOf(a.outcome) - worst.indexOf(b.outcome));
  const parts = ordered.map((cause) => {
    const text = cause.code && CODES[cause.code];
    const when =
      cause.first.getTime() === cause.last.getTime()
        ? clock(cause.first, zone)
        : `${clock(cause.first, zone)} to ${clock(cause.last, zone)}`;
    return [
      `${title(cause)} (${OUTCOME_WORDS[cause.outcome]})`,
      text ? `Why: ${text.cause}` : null,
      text ? `What now: ${text.remedy}` : null,
      `${cause.sources.length === 1 ? "Source" : "Sources"}: ${namesOf(cause)}`,
      `When: ${when} (${zone})`,
    ]
      .filter((line) => line !== null)
      .join("\n");
  });
  if (lasting.length > 0)
    parts.push(
      [
        "Reported before, still open:",
        ...lasting.map(
          (cause) => `- ${title(cause)}: ${namesOf(cause)} (reported on ${day(cause.toldAt, zone)})`,
        ),
      ].join("\n"),
    );
  return `${clientName}\n\n${parts.join("\n\n")}\n`;
}
