/** A length of time in the two largest units that matter: `2 h 10 min`, `9 days`, `48 s`. Milliseconds in. */
export function formatDuration(ms: number): string {
  const seconds = Math.max(0, Math.round(ms / 1000));
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours < 48) return minutes % 60 && hours < 10 ? `${hours} h ${minutes % 60} min` : `${hours} h`;
  return `${Math.floor(hours / 24)} days`;
}

/** A moment relative to another: `2 h 10 min ago`, `in 40 min`, `now`. */
export function formatRelative(moment: Date, now: Date): string {
  const ms = now.getTime() - moment.getTime();
  if (Math.abs(ms) < 1000) return "now";
  return ms > 0 ? `${formatDuration(ms)} ago` : `in ${formatDuration(-ms)}`;
}

/** `1 file`, `1,204 files`: a count with its noun. */
export function counted(count: number, one: string, many = `${one}s`): string {
  return `${count.toLocaleString("en-GB")} ${count === 1 ? one : many}`;
}
