import type { Role } from "@/core/rights/rights";

/** Who is signed in, as the bar shows it. */
export interface BarPerson {
  readonly name: string;
  readonly email: string;
  readonly role: Role;
}
