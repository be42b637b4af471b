/** What a check found damaged: an object, and what of which recovery points it touches. */
export interface DamageFound {
  readonly detail: string;
  readonly touches: readonly { readonly pointId: string; readonly path: string }[];
}

export interface PointNamed {
  readonly id: string;
  readonly sourceName: string;
  readonly moment: Date;
}

/** Damage of a client in a depot, for people: one cause often touches every point since. */
export interface DamageSummary {
  /** Recovery points that lack something. */
  readonly points: number;
  readonly sources: readonly {
    readonly name: string;
    readonly points: number;
    readonly oldest: Date;
    readonly newest: Date;
  }[];
  /** What was found, and how often. */
  readonly reasons: readonly { readonly text: string; readonly times: number }[];
  /** What is touched in any of the points, each once. */
  readonly paths: readonly string[];
}

/** Sums up damage; points that nobody knows any more are left out. */
export function summariseDamage(
  damages: readonly DamageFound[],
  points: ReadonlyMap<string, PointNamed>,
): DamageSummary {
  const reasons = new Map<string, number>();
  const touched = new Map<string, PointNamed>();
  const paths = new Set<string>();
  for (const { detail, touches } of damages) {
    reasons.set(detail, (reasons.get(detail) ?? 0) + 1);
    for (const { pointId, path } of touches) {
      const point = points.get(pointId);
      if (!point) continue;
      touched.set(pointId, point);
      paths.add(path);
    }
  }
  const sources = new Map<string, { name: string; points: number; oldest: Date; newest: Date }>();
  for (const { sourceName: name, moment } of touched.values()) {
    const known = sources.get(name);
    if (!known) sources.set(name, { name, points: 1, oldest: moment, newest: moment });
    else {
      known.points += 1;
      if (moment < known.oldest) known.oldest = moment;
      if (moment > known.newest) known.newest = moment;
    }
  }
  return {
    points: touched.size,
    sources: [...sources.values()].sort((a, b) => b.points - a.points || a.name.localeCompare(b.name)),
    reasons: [...reasons].map(([text, times]) => ({ text, times })).sort((a, b) => b.times - a.times),
    paths: [...paths].sort(),
  };
}
