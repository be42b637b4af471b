import type { ClientId, DepotId } from "../ids";
import { type CsvCell, csvLine } from "../units/csv";
import type { ContractLine } from "./contract";

/** What a client used of a depot for one kind of source on one day. */
export interface UsageDay {
  /** `YYYY-MM-DD`, of the provider's zone. */
  readonly day: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: string;
  readonly depotId: DepotId;
  readonly depotName: string;
  /** Sources that had a point there. */
  readonly sources: number;
  /** What their newest points there hold. */
  readonly protectedBytes: number;
  /** What it took in the depot. */
  readonly storedBytes: number;
}

/** The same over a period: a line of an invoice. */
export interface UsageLine {
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: string;
  readonly depotId: DepotId;
  readonly depotName: string;
  /** On so many days something of it was there. */
  readonly days: number;
  readonly mostSources: number;
  /** Over all days that were written down, also those without it. */
  readonly meanSources: number;
  readonly meanProtected: number;
  readonly meanStored: number;
  readonly mostStored: number;
}

export interface Usage {
  readonly firstDay: string;
  readonly lastDay: string;
  /** So many days of the period were written down; of days before, of days to come, and while no runner ran, there are none. */
  readonly daysCounted: number;
  readonly lines: readonly UsageLine[];
  /** Protected sources beside what was bought. */
  readonly contracts: readonly ContractLine[];
}

/**
 * Sums the days of a period up, by client, kind and depot. A mean is over all days that were written down (`counted`), by
 * whomever: a client's figures are the same alone and together with others'.
 */
export function composeUsage(
  days: readonly UsageDay[],
  counted: number,
  firstDay: string,
  lastDay: string,
  contracts: readonly ContractLine[] = [],
): Usage {
  const groups = new Map<string, UsageDay[]>();
  for (const one of days) {
    const key = `${one.clientId} ${one.kind} ${one.depotId}`;
    const group = groups.get(key);
    if (group) group.push(one);
    else groups.set(key, [one]);
  }
  const lines = [...groups.values()].map((group): UsageLine => {
    const { clientId, clientName, kind, depotId, depotName } = group[0]!;
    const mean = (of: (one: UsageDay) => number) =>
      group.reduce((sum, one) => sum + of(one), 0) / Math.max(1, counted);
    return {
      clientId,
      clientName,
      kind,
      depotId,
      depotName,
      days: group.length,
      mostSources: Math.max(...group.map((one) => one.sources)),
      meanSources: Math.round(mean((one) => one.sources) * 100) / 100,
      meanProtected: Math.round(mean((one) => one.protectedBytes)),
      meanStored: Math.round(mean((one) => one.storedBytes)),
      mostStored: Math.max(...group.map((one) => one.storedBytes)),
    };
  });
  lines.sort(
    (a, b) =>
      a.clientName.localeCompare(b.clientName) ||
      a.kind.localeCompare(b.kind) ||
      a.depotName.localeCompare(b.depotName),
  );
  return { firstDay, lastDay, daysCounted: counted, lines, contracts };
}

/** The usage as CSV (RFC 4180): a heading row, then a row for each line. Sizes in bytes. */
export function usageCsv(usage: Usage): string {
  const rows: CsvCell[][] = [
    [
      "Client",
      "Kind",
      "Depot",
      "First day",
      "Last day",
      "Days counted",
      "Days used",
      "Most sources",
      "Mean sources",
      "Mean protected bytes",
      "Mean stored bytes",
      "Most stored bytes",
      "Contracted sources of the kind",
      "Most sources of the kind",
      "Days over the contract",
    ],
    ...usage.lines.map((line) => {
      const bought = usage.contracts.find((one) => one.clientId === line.clientId && one.kind === line.kind);
      return [
        line.clientName,
        line.kind,
        line.depotName,
        usage.firstDay,
        usage.lastDay,
        usage.daysCounted,
        line.days,
        line.mostSources,
        line.meanSources,
        line.meanProtected,
        line.meanStored,
        line.mostStored,
        bought?.contracted ?? "",
        bought?.most ?? "",
        bought?.daysOver ?? "",
      ];
    }),
  ];
  return rows.map(csvLine).join("");
}
