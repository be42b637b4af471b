import { one, type Tx } from "./scope";

/** What a monitoring program wants to know of the whole console, beside the states of sources. */
export interface ConsoleFigures {
  readonly runsDue: number;
  readonly runsUnderWay: number;
  /** How long the run waits that waits longest of those that could begin, seconds. */
  readonly longestWaitSeconds: number;
  readonly messagesWaiting: number;
  readonly messagesGivenUp: number;
  /** Rows of the trail that the log server has not got yet; null where it gets none. */
  readonly trailUnsent: number | null;
  readonly depots: readonly {
    readonly name: string;
    readonly used: number;
    readonly capacity: number | null;
  }[];
}
export const consoleFigures = async (tx: Tx, now: Date): Promise<ConsoleFigures> =>
  (await one<ConsoleFigures>(
    tx,
    `select (select count(*)::int from runs where state = 'due' and due_at <= $1) as "runsDue",
       (select count(*)::int from runs where state not in ('due', 'ended')) as "runsUnderWay",
       (select coalesce(extract(epoch from $1 - min(due_at)), 0)::float8 from runs where state = 'due' and due_at <= $1) as "longestWaitSeconds",
       (select count(*)::int from messages where sent_at is null and given_up_at is null) as "messagesWaiting",
       (select count(*)::int from messages where given_up_at is not null) as "messagesGivenUp",
       (select (coalesce((select max(id) from trail), 0) - upto)::int from trail_sent) as "trailUnsent",
       (select coalesce(json_agg(json_build_object('name', d.name, 'capacity', d.capacity_bytes,
           'used', coalesce((select sum(used_bytes) from grants g where g.depot_id = d.id), 0)) order by d.name), '[]') from depots d) as depots`,
    [now],
  ))!;
