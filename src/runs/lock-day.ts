import type { Grant } from "@/db/depots/depots";

/** The day up to which what is stored now cannot be dropped. */
export const lockDay = (grant: Grant, now: Date): Date | undefined =>
  grant.lockDays > 0 ? new Date(now.getTime() + grant.lockDays * 86_400_000) : undefined;
