/** What a run is called in lists. */
export const runTitle = (run: {
  readonly kind: "backup" | "restore" | "drill";
  readonly sourceName: string;
  readonly machineName: string | null;
}): string =>
  ({
    backup: run.sourceName,
    restore: `Restore to ${run.machineName ?? "a machine that was removed"}`,
    drill: `Drill of ${run.sourceName}`,
  })[run.kind];
