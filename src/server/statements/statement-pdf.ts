import { OUTCOMES, type Outcome, type ProtectionState } from "@/core/protection/state";
import type { Statement } from "@/core/statement/statement";
import { STATE_HEIGHT, statesSentence } from "@/core/statement/states";
import { formatBytes } from "@/core/units/bytes";
import { zoned } from "@/core/units/zoned";
import type { Paper } from "@/db/notices/statements";
import { MARGIN, RULE, Sheet, SOFT } from "./pdf-sheet";

const COLOUR: Readonly<Record<ProtectionState | Outcome, string>> = {
  kept: "#00605a",
  clean: "#00605a",
  slipping: "#b78622",
  caution: "#b78622",
  exposed: "#bd3520",
  failed: "#bd3520",
  missed: "#d98373",
  "never kept": "#d98373",
  paused: "#6d7582",
  stopped: "#6d7582",
};

const written = zoned("sv-SE", { dateStyle: "short", timeStyle: "short" });
const dayOf = (moment: Date | null, zone: string): string => (moment ? written(moment, zone) : "none");

/** The states of a source day by day: higher is worse. */
function strip(
  doc: PDFKit.PDFDocument,
  states: readonly (ProtectionState | null)[],
  x: number,
  y: number,
  width: number,
): void {
  const step = width / Math.max(1, states.length);
  const [height, base] = [9, y + 10];
  states.forEach((state, i) => {
    if (!state) return;
    const tall = STATE_HEIGHT[state] * height;
    doc
      .rect(x + i * step, base - tall, Math.max(0.4, step - Math.min(0.6, step / 4)), tall)
      .fill(COLOUR[state]);
  });
  doc.rect(x, base + 0.5, width, 0.4).fill(RULE);
}

const STACK: readonly Outcome[] = ["clean", "caution", "stopped", "missed", "failed"];

function bars(sheet: Sheet, statement: Statement): void {
  const { doc, width } = sheet;
  const height = 56;
  sheet.room(height + 24);
  const top = doc.y;
  const sum = (outcomes: Record<Outcome, number>) => STACK.reduce((all, one) => all + outcomes[one], 0);
  const most = Math.max(1, ...statement.days.map((day) => sum(day.outcomes)));
  const step = width / statement.days.length;
  const total = (outcome: Outcome) => statement.days.reduce((all, day) => all + day.outcomes[outcome], 0);
  const words = OUTCOMES.filter(total)
    .map((outcome) => `${total(outcome)} ${outcome}`)
    .join(", ");
  sheet.figure(`Runs of each day, standing on one another by outcome. In all: ${words || "no runs"}.`, () => {
    statement.days.forEach((day, i) => {
      let y = top + height;
      for (const outcome of STACK) {
        const tall = (day.outcomes[outcome] / most) * height;
        y -= tall;
        if (tall > 0)
          doc
            .rect(
              MARGIN + i * step,
              y,
              Math.max(0.4, step - Math.min(2, step / 4)),
              Math.max(0.4, tall - 0.6),
            )
            .fill(COLOUR[outcome]);
      }
    });
    doc.rect(MARGIN, top + height + 0.5, width, 0.5).fill(RULE);
  });
  doc.y = top + height + 5;
  sheet.use("plain", 9, SOFT);
  sheet.line(
    `${statement.firstDay} to ${statement.lastDay}; the highest bar is ${most}. ${words || "No runs"}.`,
  );
  sheet.use("plain", 10);
}

/** So many drills stand on paper one by one. */
const DRILLS_MOST = 60;

/** A client's own colour and logo (PNG). */
export interface StatementLook {
  readonly colour: string | null;
  readonly logo: Buffer | null;
}
export const PLAIN_LOOK: StatementLook = { colour: null, logo: null };

/** Makes the PDF of a statement. */
export async function statementPdf(
  statement: Statement,
  provider: string,
  paper: Paper,
  now: Date,
  look: StatementLook = PLAIN_LOOK,
): Promise<Buffer> {
  const { firstDay, lastDay, zone } = statement;
  const title = `Statement for ${statement.clientName}, ${firstDay} to ${lastDay}`;
  const sheet = new Sheet(paper, title, provider, now);
  const { doc } = sheet;
  sheet.letterhead(look.colour, look.logo, `Logo of ${statement.clientName}`);
  sheet.begin(`Statement for ${statement.clientName}`, 0, "H1");
  sheet.use("plain", 10, SOFT);
  sheet.line(`${provider}, ${firstDay} to ${lastDay}, days of ${zone}`);
  sheet.use("strong", 15);
  sheet.line(statement.headline);
  sheet.use("plain", 10);
  for (const alarm of statement.alarms) for (const sentence of alarm.sentences) sheet.line(sentence);

  sheet.begin("Protected sources");
  sheet.table(
    [
      { title: "Source", width: 134 },
      { title: "Site", width: 68 },
      { title: "State", width: 56 },
      { title: "Newest point", width: 92 },
      { title: "Target", width: 38, right: true },
      { title: "Points", width: 38, right: true },
      { title: "Size", width: 54, right: true },
      { title: "State day by day", width: 96 },
    ],
    statement.sources.map((source) => [
      source.name,
      source.site,
      source.state,
      dayOf(source.newestPoint, zone),
      source.targetHours ? `${source.targetHours} h` : "none",
      String(source.points),
      formatBytes(source.bytes),
      "",
    ]),
    (row, x, y, width) => {
      const { states } = statement.sources[row]!;
      return { words: statesSentence(states), draw: () => strip(doc, states, x, y, width) };
    },
  );
  sheet.use("plain", 9, SOFT);
  sheet.line(
    "State by day: low bars are kept, half-height bars are slipping, full bars are exposed or never kept.",
  );
  sheet.use("plain", 10);

  sheet.begin("Runs, day by day", 110);
  bars(sheet, statement);
  sheet.begin("Space");
  const { spaceUsed, spaceAdded, quota } = statement;
  sheet.line(
    `${formatBytes(spaceUsed)} used${quota ? ` of ${formatBytes(quota)} granted` : ""}; ${formatBytes(spaceAdded)} added in this period.`,
  );
  sheet.begin("Checks");
  sheet.line(statement.checks);
  sheet.begin("Drills");
  sheet.line(statement.drilled);
  if (statement.drills.length)
    sheet.list(
      statement.drills.slice(0, DRILLS_MOST).map((drill) => ({
        text: `${dayOf(drill.at, zone)}: ${drill.source}, ${drill.sentence}`,
        more: drill.evidence ? [`BLAKE3 of the list of files ${drill.evidence}`] : [],
      })),
    );
  if (statement.drills.length > DRILLS_MOST)
    sheet.line(`And ${statement.drills.length - DRILLS_MOST} more; the CSV has each.`);
  sheet.begin("Restores done");
  if (statement.restores.length === 0) sheet.line("None in this period.");
  else
    sheet.list(
      statement.restores.map((restore) => ({
        text: `${dayOf(restore.at, zone)}: ${restore.source}, ${restore.sentence}`,
      })),
    );
  sheet.begin("Exceptions");
  if (statement.exceptions.length === 0) sheet.line("None: every run of this period was clean.");
  else
    sheet.list(
      statement.exceptions.map((exception) => ({
        text: `${exception.when}: ${exception.sentence}`,
        more: exception.words.map((word) => `${word.by}, ${dayOf(word.at, zone)}: ${word.text}`),
      })),
    );
  sheet.begin("Next runs");
  if (statement.nextSteps.length === 0) sheet.line("No runs are planned.");
  for (const sentence of statement.nextSteps) sheet.line(sentence);
  return sheet.finish(`${provider} for ${statement.clientName}, computed ${dayOf(now, zone)} (${zone})`);
}
