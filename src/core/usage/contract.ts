import { KINDS, SOURCE_KINDS, type SourceKind } from "@/kinds";
import type { ClientId } from "../ids";

export type ContractKind = SourceKind;
export const CONTRACT_KINDS = SOURCE_KINDS;
/** Sources of a kind, counted in its unit: "1 mailbox". */
export const countedKind = (kind: ContractKind, count: number): string =>
  `${count.toLocaleString("en-GB")} ${KINDS[kind].unit[count === 1 ? "one" : "many"]}`;

/** How many sources of each kind a client has bought protection for; a kind that is not in it has no limit. */
export type Contract = Readonly<Partial<Record<ContractKind, number>>>;

/** How many sources of a kind a client had protected on a day. */
export interface DayCount {
  readonly day: string;
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: ContractKind;
  readonly sources: number;
}

/** A client's use of a kind over a period, beside what was bought. */
export interface ContractLine {
  readonly clientId: ClientId;
  readonly clientName: string;
  readonly kind: ContractKind;
  /** Null where nothing is agreed. */
  readonly contracted: number | null;
  /** The most on one day. */
  readonly most: number;
  /** On so many days more was protected than was bought. */
  readonly daysOver: number;
}

/** Compares the counts of a period's days with the contracts, by client and kind; what was bought and not used is in it too. */
export function compareContracts(
  counts: readonly DayCount[],
  contracts: readonly {
    readonly clientId: ClientId;
    readonly clientName: string;
    readonly contract: Contract;
  }[],
): ContractLine[] {
  const lines = new Map<string, ContractLine>();
  for (const { clientId, clientName, contract } of contracts)
    for (const kind of CONTRACT_KINDS) {
      const contracted = contract[kind];
      if (contracted !== undefined)
        lines.set(`${clientId} ${kind}`, { clientId, clientName, kind, contracted, most: 0, daysOver: 0 });
    }
  for (const { clientId, clientName, kind, sources } of counts) {
    const key = `${clientId} ${kind}`;
    const line = lines.get(key) ?? { clientId, clientName, kind, contracted: null, most: 0, daysOver: 0 };
    const over = line.contracted !== null && sources > line.contracted;
    lines.set(key, {
      ...line,
      most: Math.max(line.most, sources),
      daysOver: line.daysOver + (over ? 1 : 0),
    });
  }
  return [...lines.values()].sort(
    (a, b) => a.clientName.localeCompare(b.clientName) || a.kind.localeCompare(b.kind),
  );
}
